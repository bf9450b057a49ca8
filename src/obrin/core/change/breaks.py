"""What a step interrupts only while it is done: a flow works before it and after it, and stops for
some seconds in between.

A BGP session whose own values change at one end closes and opens anew (RFC 4486, "Other
Configuration Change"). A tunnel whose IKE values change begins its SAs anew, and the session in it
closes. A cloud gateway that cannot change in place is built anew, and all of its tunnels and
circuits are down for as long. A flow that another way takes over meanwhile does not stop.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from obrin.core.catalogue.offering import Offered
from obrin.core.change.place_parts import LegRecord
from obrin.core.change.states import LEG, Between, Done, Flow, Step
from obrin.core.handover.standard.bgp import Neighbour
from obrin.core.handover.standard.ipsec import Tunnel
from obrin.core.settled.clouds import SettledCloud, SettledCloudGateway
from obrin.core.settled.sessions import REOPENS

SAS_ANEW = 0.5
"""Seconds that IKE_SA_INIT and IKE_AUTH take at most, without a BGP session to open after them."""
_SESSION = (
    "local_address",
    "remote_address",
    "next_hops",
    "remote_as",
    "hold",
    "passive",
    "internal",
    "signature",
    "multihop",
    "ways",
)
"""Values that a session has from its beginning to its end."""
_IKE = (
    "local_address",
    "remote_address",
    "local_identity",
    "remote_identity",
    "authentication",
    "suite",
    "liveness",
    "local_selectors",
    "remote_selectors",
    "always_encapsulate",
    "renewal",
    "each_pair",
)
"""Values of a tunnel that its IKE SA has from its beginning to its end."""


@dataclass(frozen=True, slots=True)
class Down:
    """Tunnels and circuits, by their labels, that a step takes down for some seconds."""

    labels: frozenset[str]
    seconds: float
    why: str


@dataclass(frozen=True, slots=True)
class Break:
    """A flow that stops for some seconds while a step is done."""

    flow: Flow
    seconds: float
    why: str


def downs(between: Between, step: Step, done: Done, offering: Offered) -> list[Down]:
    """What a step takes down while it is done; `done` are the steps before it, of which only those
    at its own place count."""
    if step.kind == LEG:
        old, new = (side[step.place].legs.get(step.leg) for side in (between.old, between.new))
        return [] if old is None or new is None else list(_of_leg(step.leg, old, new))
    return [*_of_speaker(between, step, done), *_rebuilt(between, step, done, offering)]


def _of_leg(label: str, old: LegRecord, new: LegRecord) -> Iterator[Down]:
    begins = {n.name: _session(n) for n in old.neighbours}
    again = [n for n in new.neighbours if begins.get(n.name, _session(n)) != _session(n)]
    over = frozenset((label, *(way for n in again for way in n.ways)))
    if old.tunnel is not None and new.tunnel is not None and _ike(old.tunnel) != _ike(new.tunnel):
        opens = REOPENS if new.neighbours else SAS_ANEW
        yield Down(over, opens, f"the SAs of {label} begin anew")
    elif again:
        yield Down(over, REOPENS, f"the BGP session of {label} closes and opens anew")


def _session(neighbour: Neighbour) -> tuple[object, ...]:
    return tuple(getattr(neighbour, name) for name in _SESSION)


def _ike(tunnel: Tunnel) -> tuple[object, ...]:
    begins = tunnel.initiator and not tunnel.stands_in_for
    return begins, *(getattr(tunnel, name) for name in _IKE)


def _of_speaker(between: Between, step: Step, done: Done) -> Iterator[Down]:
    """All sessions of a place, where its AS number or BGP identifier changes."""
    then = done | {step}
    old, new = (between.ground_at(step.place, state).speaker for state in (done, then))
    if old is None or new is None or old == new:
        return
    sides = (side[step.place].legs.items() for side in (between.old, between.new))
    spoken = frozenset(
        way
        for legs in sides
        for label, leg in legs
        for neighbour in leg.neighbours
        for way in (label, *neighbour.ways)
    )
    if spoken:
        what = "AS number" if old[0] != new[0] else "BGP identifier"
        why = f"all BGP sessions of {step.place} open anew with another {what}"
        yield Down(spoken, REOPENS, why)


def _rebuilt(between: Between, step: Step, done: Done, offering: Offered) -> Iterator[Down]:
    minutes, why = rebuilding(between, step, done, offering)
    if why:
        sides = (side[step.place].legs for side in (between.old, between.new))
        yield Down(frozenset(label for legs in sides for label in legs), minutes * 60.0, why)


def rebuilding(between: Between, step: Step, done: Done, offering: Offered) -> tuple[float, str]:
    """For how many minutes a step takes a cloud gateway down to build it anew, and why. No text
    where it changes in place."""
    old, new = (_gateway(between, step.place, state) for state in (done, done | {step}))
    if old is None or new is None:
        return 0.0, ""
    offered = offering.of(step.place)
    changes = [
        name
        for name, one, other in (
            ("class", old.gateway_class, new.gateway_class),
            ("subnet", old.subnet, new.subnet),
            ("instances", len(old.instances), len(new.instances)),
        )
        if one != other and name not in offered.in_place
    ]
    if not changes:
        return 0.0, ""
    built = offered.find_class(new.gateway_class)
    minutes = 0.0 if built is None else float(built.build_minutes)
    what = f"{' and '.join(changes)} change{'s' if changes in (['class'], ['subnet']) else ''}"
    return minutes, f"the gateway of {step.place} is built anew, since its {what}"


def _gateway(between: Between, place: str, done: Done) -> SettledCloudGateway | None:
    cloud = between.standing(place, done)
    return cloud.gateway if isinstance(cloud, SettledCloud) else None
