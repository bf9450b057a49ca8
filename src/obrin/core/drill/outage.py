"""How long traffic stops when a tunnel dies, as the drill says: for packs, the demo and programs.

There is one predictor. It lets the tunnel fail on the model, as `obrin drill` does, and sums up in
one sentence what becomes of the flows that go over it.
"""

from __future__ import annotations

from dataclasses import dataclass

from obrin.core.drill.elements import Element
from obrin.core.drill.sweep import Outcome, Sweep
from obrin.core.settled.links import SettledTunnel
from obrin.core.settled.model import Settled


@dataclass(frozen=True, slots=True)
class Outage:
    """An outage in seconds, for the flow that is gone longest. `longest` is None when one is not
    taken over: then it lasts until the tunnel is back. `idle`: nothing goes over the tunnel
    while all is up."""

    shortest: float
    longest: float | None
    detected_by: str
    taken_over_by: str | None
    idle: bool = False

    def __str__(self) -> str:
        if self.idle:
            return "0 s: nothing goes over it while all is up"
        if self.longest is None:
            return "until the tunnel is back: no other tunnel takes over"
        return f"{self.shortest:.1f} to {self.longest:.1f} s ({self.detected_by})"

    @property
    def words(self) -> str:
        """What becomes of the traffic, as a sentence without its end."""
        if self.idle:
            return "no traffic stops: nothing goes over it while all is up"
        return f"traffic stops {'' if self.longest is None else 'for '}{self}"


IDLE = Outage(0.0, 0.0, "nothing", None, idle=True)


class Predictor:
    """Predicts outages of many tunnels of one design; its flows are followed once."""

    def __init__(self, settled: Settled) -> None:
        self._sweep = Sweep(settled)

    def outage(self, tunnel: SettledTunnel) -> Outage:
        """Predict the outage when a tunnel fails silently."""
        return _summed_up(self._sweep.try_one((Element("tunnel", tunnel.label),)))


def predict_outage(settled: Settled, tunnel: SettledTunnel) -> Outage:
    """Predict the outage at the silent death of one tunnel. Raises nothing; for many of them
    make a `Predictor`."""
    return Predictor(settled).outage(tunnel)


def _summed_up(outcome: Outcome) -> Outage:
    noticed = [moved.noticed for moved in outcome.moved]
    if outcome.lost or None in noticed:
        name = next((n.name for n in noticed if n is not None), "nothing")
        return Outage(0.0, None, name, None)
    known = [(n, moved.after) for n, moved in zip(noticed, outcome.moved, strict=True) if n]
    if not known:
        return IDLE
    longest, after = max(known, key=lambda pair: pair[0].longest)
    shortest = min(n.shortest for n, _ in known)
    return Outage(shortest, longest.longest, longest.name, after)
