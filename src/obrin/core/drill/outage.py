"""How long traffic stops when a tunnel dies: predicted from the detection chain, in seconds."""

from __future__ import annotations

from dataclasses import dataclass

from obrin.core.design.settled import Settled, SettledTunnel


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
    """For the silent death of a tunnel that carries the traffic.

    With BGP the hold timer runs from the last message heard, and messages come every third of
    the hold time (RFC 4271 section 10), so it fires between two thirds and all of it after the
    death. Dead-peer detection runs beside it; the sooner of the two moves the traffic.
    """
    link = settled.links[tunnel.link]
    others = [t for t in link.tunnels if t is not tunnel]
    low, high = link.liveness.detection()
    detected_by = "dead-peer detection"
    if link.routing == "bgp":
        bgp_low, bgp_high = link.hold * 2 / 3, float(link.hold)
        if bgp_high <= high:
            detected_by = f"BGP hold time {link.hold} s"
        low, high = min(low, bgp_low), min(high, bgp_high)
    if not others:
        return Outage(low, None, detected_by, None)
    return Outage(low, high, detected_by, others[0].name)
