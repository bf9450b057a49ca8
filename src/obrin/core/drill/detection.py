"""What notices that a tunnel is dead, from what both ends can do, and in how many seconds."""

from __future__ import annotations

from dataclasses import dataclass

from obrin.core.quantity import plain
from obrin.core.settled.links import Leg, SettledCircuit, SettledLink
from obrin.core.settled.model import Settled

SPARE_START = 2.0
"""Seconds that a spare may take to come up: two exchanges, one of them perhaps repeated."""


@dataclass(frozen=True, slots=True)
class Detector:
    """`shortest` and `longest` are seconds from the death of the path to the traffic's move."""

    name: str
    shortest: float
    longest: float


def detectors(
    settled: Settled, link: SettledLink | SettledCircuit, leg: Leg | None = None
) -> tuple[Detector, ...]:
    """All that run on a link or circuit, the soonest first; none where static routes just stay.
    With a leg, those that move its traffic.

    With BGP the hold timer runs from the last message heard, and messages come every third of
    the hold time (RFC 4271 section 10), so it fires between two thirds and all of it after the
    death. Dead-peer detection ends the IKE SA; that moves static routes where the device watches
    them, and policies to the next tunnel. BFD inside a tunnel takes its routes away. The hold time
    of a session that goes over several tunnels moves nothing: it has to outlive the first of them.
    """
    found = []
    sessions = settled.sessions_over(leg) if leg is not None else ()
    if link.routing == "bgp" and all(len(session.tunnels) == 1 for session in sessions):
        found.append(Detector(f"BGP hold time {link.hold} s", link.hold * 2 / 3, float(link.hold)))
    if link.bfd is not None:
        name = f"BFD, {link.bfd.multiplier} times {plain(link.bfd.interval)} s"
        shortest, longest = link.bfd.detection()
        found.append(Detector(name, round(shortest, 6), round(longest, 6)))
    if isinstance(link, SettledCircuit):
        return tuple(sorted(found, key=lambda d: d.longest))
    if link.routing == "bgp" or link.selection == "policy" or watches_routes(settled, link):
        found.append(Detector("dead-peer detection", *link.liveness.detection()))
    return tuple(sorted(found, key=lambda d: d.longest))


def watches_routes(settled: Settled, link: SettledLink) -> bool:
    """Whether every end of the link withdraws the static routes of a dead tunnel."""
    return not unwatching(settled, link)


def unwatching(settled: Settled, link: SettledLink) -> tuple[str, ...]:
    """The gateways and the cloud of a link that leave the static routes of a dead tunnel."""
    ends = [settled.gateways[name] for name in dict.fromkeys(t.gateway for t in link.tunnels)]
    cloud = settled.clouds[link.cloud]
    found = [end.name for end in ends if end.profile.monitor is False]
    return (*found, *([cloud.name] if cloud.profile.monitor is False else []))


def watchers(settled: Settled) -> dict[str, str]:
    """Say for every tunnel and circuit what notices its death first, in words; none where
    nothing."""
    return {
        leg.label: f"{found[0].name} ({plain(found[0].shortest)} to {plain(found[0].longest)} s)"
        for leg in settled.legs()
        if (found := detectors(settled, settled.bundle(leg), leg))
    }
