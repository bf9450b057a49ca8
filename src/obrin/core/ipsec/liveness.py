"""Dead-peer detection: one rule for the engine and for the predictions.

A request is sent, then repeated with the wait doubling each time (RFC 7296 section 2.4). After
`tries` sends without an answer the peer is given up. Checks of liveness start once nothing
authentic has been heard for `delay` seconds.
"""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Bfd:
    """Watching the path inside a tunnel (RFC 5880): seconds between packets, and how many may be
    missed."""

    interval: float = 0.3
    multiplier: int = 3

    def detection(self) -> tuple[float, float]:
        """(shortest, longest) seconds from a path's death to its being noticed.

        The last packet came up to an interval before the death (section 6.8.4).
        """
        return self.interval * (self.multiplier - 1), self.interval * self.multiplier


@dataclass(frozen=True, slots=True)
class Liveness:
    """Seconds without news before asking, the first wait, and how often to send in all."""

    delay: float = 10.0
    wait: float = 1.0
    tries: int = 4

    def wait_after(self, send: int) -> float:
        """Seconds to wait for an answer after send number `send`, counted from 1."""
        return self.wait * float(2 ** (send - 1))

    @property
    def give_up(self) -> float:
        """Seconds from the first send to giving up."""
        return self.wait * float(2**self.tries - 1)

    def detection(self) -> tuple[float, float]:
        """(shortest, longest) seconds from a path's death to the peer being given up.

        The shortest holds when the check was about to start, the longest when the peer was
        heard, and the timer re-armed, just before.
        """
        return self.give_up, self.delay + self.give_up
