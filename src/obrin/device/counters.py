"""What a router counts for one tunnel, and when it last did; times are the engine's."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(slots=True)
class TunnelCounters:
    packets_in: int = 0
    packets_out: int = 0
    last_refusal: str = ""
    last_in: float | None = None
    last_out: float | None = None
    refused_at: float | None = None

    def came_out(self, now: float) -> None:
        """A packet came out of the tunnel."""
        self.packets_in += 1
        self.last_in = now

    def went_in(self, now: float) -> None:
        """A packet went into it."""
        self.packets_out += 1
        self.last_out = now

    def refused(self, text: str, now: float) -> None:
        self.last_refusal, self.refused_at = text, now

    def mended(self) -> None:
        """An IKE SA is up: whatever was refused before is not any more."""
        self.last_refusal, self.refused_at = "", None
