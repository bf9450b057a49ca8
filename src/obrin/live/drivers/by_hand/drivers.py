"""Drivers for places that a person configures. What was said to be done is so until what is to be
entered is something else."""

from __future__ import annotations

import threading
from collections.abc import Callable, Collection, Iterable, Sequence
from dataclasses import replace
from datetime import datetime

from obrin.core.errors import OutsideError
from obrin.core.handover.secrets import Secrets
from obrin.core.json_text import Json
from obrin.core.reach.filters import Rule
from obrin.core.routing.against_dump import SeenPaths
from obrin.core.settle.blank import cloud_key
from obrin.core.settle.choices import Value
from obrin.core.settled.links import SettledTunnel
from obrin.core.settled.model import Settled
from obrin.live.drivers.by_hand.done_file import HandRecord, is_as_kept, mark_of
from obrin.live.drivers.by_hand.hand_steps import TUNNEL, parts_of
from obrin.live.drivers.by_hand.person import HandStep, Person
from obrin.live.drivers.by_tables import (
    Observer,
    ends_by_tables,
    paths_by_tables,
    routes_by_tables,
)
from obrin.live.drivers.differing import Differing
from obrin.live.drivers.observations import (
    NOT_ASKED,
    Answer,
    Dropped,
    EndStatus,
    Question,
    RouteSeen,
    Streamed,
)
from obrin.live.drivers.protocol import CloudStep, Done, Report

_ASKING = threading.Lock()
"""One question at a time, whoever asks."""
TAKEN = "entered by hand"
ENTERED_BEFORE = Differing("what is entered", "as it was then", "another")


class ByHand:
    """What both kinds of place have alike."""

    def __init__(self, name: str, record: HandRecord, person: Person, who: str) -> None:
        self._name, self._record, self._person, self.who = name, record, person, who

    def standing_step(self, step: HandStep) -> bool | None:
        """Whether it is done as it is to be; None where it is not done at all."""
        before = self._record.done(step.name)
        return None if before is None else is_as_kept(before, step)

    def have_done(self, step: HandStep) -> Done:
        with _ASKING:
            if self.standing_step(step):
                return Done(False, "already so")
            assigned = self._person.do(step)
            self._record.note(step.name, mark_of(step), dict(assigned))
        return Done(True, TAKEN)

    def have_entered(self, step: HandStep) -> None:
        """A step of a change. Raises Postponed."""
        with _ASKING:
            self._person.do(step)

    def stands(self, settled: Settled) -> None:
        """Record that after the steps of a change it has all of this design and nothing else."""
        parts = []
        if self._name in settled.clouds or self._name in settled.gateways:
            parts = [p.step for p in parts_of(settled, self._name, self.who, frozenset())]
        for step in parts:
            _, _, key = (self._record.done(step.name) or "").partition(":")
            kept = f"{mark_of(step)}:{key}" if key else mark_of(step)
            self._record.note(step.name, kept, {})
        for name in set(self._record.names()) - {step.name for step in parts}:
            if name.startswith(f"{self._name}/"):
                self._record.forget(name)

    def assigns_anew(self, before: Settled, after: Settled) -> bool:
        """Whether only building it brings out something of it that the old design does not have."""
        places = [
            {
                question.place
                for part in parts_of(settled, self._name, self.who, frozenset())
                for question in part.step.questions
                if not question.given
            }
            if self._name in settled.clouds
            else set()
            for settled in (before, after)
        ]
        return bool(places[1] - places[0])

    def close(self) -> None:
        pass


def _ending(name: str, title: str, what: str, who: str) -> HandStep:
    lines = (("Take away", what),)
    return HandStep(name=f"end/{name}", title=title, lines=lines, look="that it is gone", who=who)


class ByHandCloud(ByHand):
    """One cloud."""

    tunnel_change = 0.0

    def __init__(self, name: str, record: HandRecord, person: Person, who: str) -> None:
        super().__init__(name, record, person, who)

    def steps(self, settled: Settled, clouds: Collection[str], secrets: Secrets) -> list[CloudStep]:
        return [
            CloudStep(
                name=part.step.name,
                body=replace(part.step, secret=secrets.keys.get(part.tunnel, "")),
                needs=part.needs,
                tunnel=part.tunnel,
                legs=frozenset({part.tunnel} if part.tunnel else ()),
                cloud=cloud,
                assigns=frozenset({cloud}) if part.step.questions else frozenset(),
            )
            for cloud in clouds
            for part in parts_of(settled, cloud, self.who, secrets.barred)
        ]

    def wanted(
        self, settled: Settled, clouds: Collection[str], barred: Collection[str]
    ) -> set[str]:
        kept = frozenset(barred)
        return {p.step.name for c in clouds for p in parts_of(settled, c, self.who, kept)}

    def tunnel_step(self, settled: Settled, tunnel: SettledTunnel, secrets: Secrets) -> CloudStep:
        found = self.steps(settled, [tunnel.cloud], secrets)
        return next(step for step in found if step.tunnel == tunnel.label)

    def filtered(self, settled: Settled, cloud: str, rules: Sequence[Rule]) -> CloudStep | None:
        return None

    def do(self, step: CloudStep, report: Report, stop: threading.Event) -> Done:
        return self.have_done(step.body)

    def assigned(self, settled: Settled, cloud: str) -> dict[str, Value]:
        here = cloud_key(cloud, "")
        return {p: v for p, v in self._record.facts.items() if p.startswith(here)}

    def held(self) -> list[str]:
        return [name for name in self._record.names() if name.startswith(f"{self._name}/")]

    def waiting(self) -> dict[str, str]:
        return {}

    def gives_access(self, name: str) -> bool:
        return f"/{TUNNEL}/" in name

    def remove(self, name: str, report: Report) -> None:
        lines = (("Take away", name),)
        step = HandStep(
            name=f"end/{name}", title=name, lines=lines, look="that it is gone", who=self.who
        )
        with _ASKING:
            self._person.do(step)
            self._record.forget(name)

    def standing(self, steps: Iterable[CloudStep]) -> dict[str, tuple[Differing, ...]]:
        """A value that is not entered any more is not kept, so it is not reported."""
        found = {step.name: self.standing_step(step.body) for step in steps}
        known = {name: same for name, same in found.items() if same is not None}
        return {name: () if same else (ENTERED_BEFORE,) for name, same in known.items()}

    def tunnels(self, settled: Settled, cloud: str) -> dict[str, EndStatus]:
        return {leg.label: NOT_ASKED for leg in settled.legs_at(cloud)}

    def drops(self, cloud: str) -> list[Dropped]:
        raise OutsideError("it is configured by hand, and cannot be asked what it dropped")

    def probe(self, question: Question) -> Answer:
        raise OutsideError("it is configured by hand: ask from a host there")


class ByHandGateway(ByHand):
    """`settled` gives the design as it is settled now, with what was assigned meanwhile. An
    `observer` reads what the device itself reports."""

    def __init__(
        self,
        name: str,
        settled: Callable[[], Settled],
        record: HandRecord,
        person: Person,
        who: str,
    ) -> None:
        super().__init__(name, record, person, who)
        self._settled = settled
        self.observer: Observer | None = None

    def parts(self) -> Sequence[HandStep]:
        """All that is to be entered there."""
        return [p.step for p in parts_of(self._settled(), self._name, self.who, frozenset())]

    def hand_over(self, config: Json, keys: Json) -> Done:
        held = keys.get("obrin-keys:keys", {}).get("pre-shared-key", [])
        secrets = {entry["tunnel"]: entry["secret"] for entry in held}
        parts = parts_of(self._settled(), self._name, self.who, frozenset())
        done = [
            self.have_done(replace(part.step, secret=secrets.get(part.tunnel, "")))
            for part in parts
        ]
        changed = any(one.changed for one in done)
        return Done(changed, TAKEN if changed else "already so")

    def has_pack(self) -> bool:
        return any(n.startswith(f"{self._name}/") for n in self._record.names())

    def begin_anew(self, label: str) -> None:
        lines = (("Begin anew", f"tunnel {label}: end its IKE SA"),)
        step = HandStep(
            name=f"anew/{label}", title=label, lines=lines, look="that it is up again", who=self.who
        )
        with _ASKING:
            self._person.do(step)

    def held(self) -> None:
        return None

    def take_away(self) -> None:
        what = "everything that was entered for this design"
        step = _ending(self._name, f"{self._name}: the end", what, self.who)
        with _ASKING:
            self._person.do(step)
            for name in self._record.names():
                if name.startswith(f"{self._name}/"):
                    self._record.forget(name)

    def tunnels(self) -> dict[str, EndStatus]:
        settled = self._settled()
        if self.observer is not None:
            return ends_by_tables(settled, self._name, self.observer.state())
        return {leg.label: NOT_ASKED for leg in settled.legs_at(self._name)}

    def routes(self) -> list[RouteSeen]:
        if self.observer is None:
            raise OutsideError(
                f"{self._name} is configured by hand: its routes cannot be read. See 'observe' in "
                "docs/drivers.md"
            )
        return routes_by_tables(self._settled(), self._name, self.observer.state())

    def paths(self) -> SeenPaths | None:
        if self.observer is None:
            return None
        return paths_by_tables(self.observer.state())

    def close(self) -> None:
        if self.observer is not None:
            self.observer.close()

    def drops(self) -> list[Dropped]:
        raise OutsideError("it is configured by hand, and cannot be asked what it dropped")

    def clock(self) -> datetime | None:
        return None

    def probe(self, question: Question) -> Answer:
        raise OutsideError("it is configured by hand: ask from a host there")

    def stream(self, question: Question, interval: float, duration: float) -> Streamed:
        raise OutsideError("it is configured by hand: ask from a host there")
