"""What a router counts for one IKE SA of a tunnel, and when it last did; times are the engine's.

A new IKE SA begins with new counters at both ends, so that what they say belongs to it.
"""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Refusal:
    """What was refused, and when; `rekey` is what was to be rekeyed, empty for anything else."""

    text: str
    at: float
    rekey: str = ""


@dataclass(slots=True)
class TunnelCounters:
    packets_in: int = 0
    packets_out: int = 0
    last_in: float | None = None
    last_out: float | None = None
    refusal: Refusal | None = None

    def came_out(self, now: float) -> None:
        """A packet came out of the tunnel."""
        self.packets_in += 1
        self.last_in = now

    def went_in(self, now: float) -> None:
        """A packet went into it."""
        self.packets_out += 1
        self.last_out = now

    def rekeyed(self, what: str) -> None:
        """It worked: that it was refused before is past."""
        if self.refusal is not None and self.refusal.rekey == what:
            self.refusal = None
