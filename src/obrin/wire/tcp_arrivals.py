"""What arrived of a peer's bytes, in whatever order: delivered in theirs (RFC 9293 section 3.4),
and reported as selective acknowledgements (RFC 2018).

Places count bytes of the peer from the first one on, and never run round.
"""

from __future__ import annotations

from bisect import insort

Block = tuple[int, int]
"""First sequence number of a block, and the one after its last."""
MOST_PARTS = 256
"""Parts that wait for what comes before them; more are as good as lost."""


class Arrivals:
    """`next` is the place that is expected. `window` bounds what is kept beyond it, in bytes."""

    def __init__(self, window: int) -> None:
        self.next = 0
        self._window = window
        self._early: list[tuple[int, bytes]] = []
        self._latest: int | None = None

    def take(self, place: int, data: bytes) -> bytes:
        """What can be delivered now that these bytes came at a place."""
        if place + len(data) <= self.next:
            return b""
        if place > self.next:
            self._keep(place, data)
            return b""
        delivered = bytearray(data[self.next - place :])
        self.next += len(delivered)
        while self._early and self._early[0][0] <= self.next:
            at, part = self._early.pop(0)
            fresh = part[self.next - at :]
            delivered += fresh
            self.next += len(fresh)
        return bytes(delivered)

    def _keep(self, place: int, data: bytes) -> None:
        if place + len(data) > self.next + self._window or len(self._early) >= MOST_PARTS:
            return
        if all(at != place or len(part) < len(data) for at, part in self._early):
            insort(self._early, (place, data))
        self._latest = place

    def blocks(self, most: int) -> list[Block]:
        """What waits, as blocks without gaps; the one that the latest part is in comes first (RFC
        2018 section 4)."""
        found: list[list[int]] = []
        for at, part in self._early:
            if found and at <= found[-1][1]:
                found[-1][1] = max(found[-1][1], at + len(part))
            else:
                found.append([at, at + len(part)])
        latest = self._latest
        found.sort(key=lambda b: not (latest is not None and b[0] <= latest < b[1]))
        return [(first, end) for first, end in found[:most]]
