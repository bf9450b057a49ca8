"""What a driver does. `connect`, `status`, `probe`, `keys rotate` and `certificates rotate` know
nothing else of it.

Every method may raise OutsideError: the place does not answer, or refuses. All of them may be
called from several threads at once. What is done twice is done once: the second time finds it
already so.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date, datetime
from typing import Any, Protocol

from obrin.core.errors import OutsideError
from obrin.core.handover.secrets import Secrets
from obrin.core.json_text import Json
from obrin.core.reach.filters import Rule
from obrin.core.routing.against_dump import SeenPaths
from obrin.core.settle.choices import Value
from obrin.core.settled.links import SettledTunnel
from obrin.core.settled.model import Settled
from obrin.live.drivers.differing import Differing
from obrin.live.drivers.observations import (
    Answer,
    Dropped,
    EndStatus,
    Question,
    RouteSeen,
    Streamed,
)


@dataclass(frozen=True, slots=True)
class Progress:
    """`state` is begun, waiting or done; `note` what happened, `left` seconds expected."""

    step: str
    state: str
    note: str = ""
    left: float = 0.0


Report = Callable[[Progress], None]


@dataclass(frozen=True, slots=True, kw_only=True)
class CloudStep:
    """Something to be there at a cloud, by a name that is unique at its driver.

    `body` is the driver's own affair, secrets included, so it is never printed. `needs` are names
    of steps that come first. `tunnel` is the label of the tunnel that it makes, if it makes one.
    `legs` are labels of the tunnels and circuits that it is a part of: none for what stands there
    whatever there is of these. `cloud` is where it is. `assigns` are clouds that assign something,
    which is known only once it is done.
    """

    name: str
    body: Any = field(repr=False)
    needs: frozenset[str] = frozenset()
    tunnel: str = ""
    legs: frozenset[str] = frozenset()
    cloud: str = ""
    assigns: frozenset[str] = frozenset()


class Postponed(OutsideError):
    """A step that somebody does later; what does not need it goes on."""


@dataclass(frozen=True, slots=True)
class Done:
    """What a step did, in words, and whether anything changed."""

    changed: bool
    note: str


class CloudDriver(Protocol):
    """One or several clouds that are reached in the same way."""

    @property
    def tunnel_change(self) -> float:
        """Seconds that a tunnel's change takes, about."""

    def steps(self, settled: Settled, clouds: Collection[str], secrets: Secrets) -> list[CloudStep]:
        """All that these clouds need; any order that respects `needs` is good. Tunnels with an
        end that is barred are not among them. Raises ObrinError for what this kind of cloud has
        not."""

    def wanted(
        self, settled: Settled, clouds: Collection[str], barred: Collection[str]
    ) -> set[str]:
        """The names of the steps, for which no secret is needed."""

    def tunnel_step(self, settled: Settled, tunnel: SettledTunnel, secrets: Secrets) -> CloudStep:
        """The one step that makes a tunnel."""

    def filtered(self, settled: Settled, cloud: str, rules: Sequence[Rule]) -> CloudStep | None:
        """The step that has a cloud let through just what these rules do; None where it has no
        filter of its own."""

    def do(self, step: CloudStep, report: Report, stop: threading.Event) -> Done:
        """Do it and wait until it is done, or until `stop` is set."""

    def assigned(self, settled: Settled, cloud: str) -> dict[str, Value]:
        """What the cloud chose itself, by its place in the design; nothing before it is built."""

    def held(self) -> list[str]:
        """Names of all that is there, in the order of building; what is on its way out is not."""

    def waiting(self) -> dict[str, str]:
        """Names of what is there and works only once somebody else accepts it, with who that is."""

    def gives_access(self, name: str) -> bool:
        """Whether it lets somebody in, so that it is the first to go when it has ended."""

    def remove(self, name: str, report: Report) -> None:
        """Take it away and wait for that; good where it is gone already."""

    def standing(self, steps: Iterable[CloudStep]) -> dict[str, tuple[Differing, ...]]:
        """Names of those steps whose thing is there already, with the values that are not as the
        step wants them, as far as the cloud reports it: a changed secret does not show."""

    def tunnels(self, settled: Settled, cloud: str) -> dict[str, EndStatus]:
        """What the cloud says of its ends of the design's tunnels, by label."""

    def drops(self, cloud: str) -> list[Dropped]:
        """What it dropped lately, the newest last. Raises OutsideError where it does not report
        that: an empty list says that nothing was dropped."""

    def probe(self, question: Question) -> Answer:
        """Probe from a host in one of the cloud's networks."""

    def close(self) -> None: ...


class GatewayDriver(Protocol):
    """One site gateway."""

    def hand_over(self, config: Json, keys: Json) -> Done:
        """Give it its pack: standard data, and the secrets apart."""

    def has_pack(self) -> bool:
        """Whether it was ever given one, and still has it."""

    def take_away(self) -> None:
        """Leave it without tunnels and secrets."""

    def begin_anew(self, label: str) -> None:
        """End what it has of a tunnel, so that both ends prove again who they are."""

    def held(self) -> Json | None:
        """The standard data that it goes by now; None where it has none, or does not report it."""

    def tunnels(self) -> dict[str, EndStatus]:
        """What it says of its ends, by label."""

    def routes(self) -> list[RouteSeen]:
        """What it uses now. Raises OutsideError where it does not report that."""

    def paths(self) -> SeenPaths | None:
        """What it learned from each BGP neighbour; None where it does not say."""

    def drops(self) -> list[Dropped]:
        """What it dropped lately, the newest last. Raises OutsideError where it does not report
        that: an empty list says that nothing was dropped."""

    def clock(self) -> datetime | None:
        """What it takes for the time of day, with its zone; None where it does not report it."""

    def probe(self, question: Question) -> Answer:
        """Probe from a host behind the gateway."""

    def stream(self, question: Question, interval: float, duration: float) -> Streamed:
        """Echo requests from a host behind it, one every `interval` seconds."""

    def close(self) -> None: ...


@dataclass(frozen=True, slots=True)
class Ends:
    """The drivers of a design: by cloud, where several may share one, and by gateway. A gateway
    without one is handed its pack by a person. `revoked` asks which of them have only certificates
    that are revoked, and since when; it may have to open sealed secrets."""

    clouds: dict[str, CloudDriver]
    gateways: dict[str, GatewayDriver]
    revoked: Callable[[], Mapping[str, date]] = dict

    def by_driver(self) -> list[tuple[CloudDriver, list[str]]]:
        """Each cloud driver with the clouds that it serves."""
        found: dict[int, tuple[CloudDriver, list[str]]] = {}
        for name, driver in self.clouds.items():
            found.setdefault(id(driver), (driver, []))[1].append(name)
        return list(found.values())

    def close(self) -> None:
        for driver, _ in self.by_driver():
            driver.close()
        for gateway in self.gateways.values():
            gateway.close()
