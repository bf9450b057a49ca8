"""How long traffic stops when a tunnel dies: predicted from the detection chain, in seconds."""

from __future__ import annotations

from dataclasses import dataclass

from obrin.core.design.arrangement import SPARE
from obrin.core.design.settled import Leg, Settled, SettledTunnel
from obrin.core.drill.detection import Detector, detectors

SPARE_START = 2.0
"""Seconds that a spare may take to come up: two exchanges, one of them perhaps repeated."""


@dataclass(frozen=True, slots=True)
class Outage:
    """`longest` is None when nothing takes over: then it lasts until the tunnel is back."""

    shortest: float
    longest: float | None
    detected_by: str
    taken_over_by: str | None

    def __str__(self) -> str:
        if self.longest is None:
            return "until the tunnel is back: no other tunnel takes over"
        return f"{self.shortest:.1f} to {self.longest:.1f} s ({self.detected_by})"


def predict_outage(settled: Settled, tunnel: SettledTunnel) -> Outage:
    """For the silent death of a tunnel that carries the traffic; the soonest detector moves it."""
    link = settled.links[tunnel.link]
    others = [t for t in link.tunnels if t is not tunnel]
    noticed = time_to_move(settled, tunnel, others[0] if others else None)
    if noticed is None:
        return Outage(0.0, None, "nothing", None)
    if not others:
        return Outage(noticed.shortest, None, noticed.name, None)
    return Outage(noticed.shortest, noticed.longest, noticed.name, others[0].name)


def time_to_move(settled: Settled, before: Leg, after: Leg | None) -> Detector | None:
    """How long a flow is without its leg when that dies, until it goes by another one, and what
    notices it; None where nothing does, as on a static circuit."""
    found = detectors(settled, settled.bundle(before))
    if not found:
        return None
    spare = isinstance(after, SettledTunnel) and after.role == SPARE
    low, high = min(d.shortest for d in found), found[0].longest
    return Detector(found[0].name, low, high + (SPARE_START if spare else 0.0))
