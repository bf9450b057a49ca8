"""Bytes that were sent and are not acknowledged: how many more may leave, what is lost, what is
sent again, and when.

The rules are those of RFC 5681 (slow start, congestion avoidance, halving at a loss), RFC 6298 (the
time after which all is taken for lost) and RFC 6675 (loss by selective acknowledgements). A piece
is taken for lost when three that were *sent* later have arrived: seen by the order of sending and
not of the bytes, so that the loss of what was sent again shows as well (the idea of RFC 8985). A
peer without selective acknowledgements shows by repeating itself that something arrived: then it is
the first piece after three repetitions (RFC 5681 section 3.2), and in a recovery whatever each
partial acknowledgement leaves in front (RFC 6582).

Places count bytes from the first one on, and never run round.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Collection, Iterator
from dataclasses import dataclass

from obrin.wire.tcp_arrivals import Block

FIRST_WAIT = 0.3
"""Seconds before anything is sent again for the first time, and at the least: of a round trip that
was measured it is more, if that asks for it. RFC 6298 has 1 s; the ways here are short, and BGP
should not wait so long for a lost segment."""
LONGEST_WAIT = 3.0
DUPLICATES = 3
"""Arrivals of what was sent later, after which a piece is lost (RFC 5681 section 3.2)."""
FIRST_SEGMENTS = 10
"""Initial congestion window in segments (RFC 6928)."""


@dataclass(slots=True)
class Piece:
    """Bytes from a place on, of one segment; `order` is how many were sent before it."""

    place: int
    data: bytes
    sent_at: float
    order: int
    again: bool = False
    arrived: bool = False
    lost: bool = False

    @property
    def end(self) -> int:
        return self.place + len(self.data)


class Flight:
    """`mss` is how long a segment is, `most` what may ever be under way, in bytes."""

    def __init__(self, mss: int, most: int) -> None:
        self._mss, self._most = mss, most
        self._pieces: deque[Piece] = deque()
        self._congestion = FIRST_SEGMENTS * mss
        self._threshold = most
        self._recover_to = 0
        self._recovering = False
        self._orders = 0
        self._newest = 0
        self._repeated = 0
        self._mean = self._deviation = 0.0
        self._pipe = 0
        self.sent = 0
        self.acknowledged = 0

    def __len__(self) -> int:
        return self.sent - self.acknowledged

    @property
    def wait(self) -> float:
        """Seconds until nothing of it is believed to come (RFC 6298 section 2)."""
        return min(max(FIRST_WAIT, self._mean + 4 * self._deviation), LONGEST_WAIT)

    def room(self, window: int) -> int:
        """How many new bytes may be sent now, by the peer's window and by what the way carries."""
        return min(min(window, self._most) - len(self), self._congestion - self._pipe)

    def send(self, data: bytes, now: float) -> None:
        """These bytes leave, after all that did."""
        self._orders += 1
        self._pieces.append(Piece(self.sent, data, now, self._orders))
        self.sent += len(data)
        self._pipe += len(data)

    def acknowledge(
        self, place: int, blocks: Collection[Block], now: float, *, repeats: bool
    ) -> None:
        """The peer has all before a place, and these blocks beyond it. `repeats`: it says nothing
        but that, as it did before (RFC 5681 section 2)."""
        before = self.acknowledged
        while self._pieces and self._pieces[0].end <= place:
            self._arrived(self._pieces.popleft(), now)
        if self._pieces and self._pieces[0].place < place:
            self._cut_front(place)
        self.acknowledged = max(before, place)
        for first, end in blocks:
            for piece in self._pieces:
                if first <= piece.place and piece.end <= end and not piece.arrived:
                    self._arrived(piece, now)
        if place > before:
            self._progress(place - before, selective=bool(blocks))
        elif self._pieces and repeats and not blocks:
            self._repeated += 1
        self._find_lost()

    def _arrived(self, piece: Piece, now: float) -> None:
        if not piece.arrived and not piece.lost:
            self._pipe -= len(piece.data)
        if not piece.again and not piece.arrived:  # Karn's algorithm
            self._measure(now - piece.sent_at)
        piece.arrived, piece.lost = True, False
        self._newest = max(self._newest, piece.order)

    def _cut_front(self, place: int) -> None:
        piece = self._pieces[0]
        gone = place - piece.place
        if not piece.arrived and not piece.lost:
            self._pipe -= gone
        piece.data, piece.place = piece.data[gone:], place

    def _measure(self, took: float) -> None:
        if self._mean == 0.0 and self._deviation == 0.0:
            self._mean, self._deviation = took, took / 2
            return
        self._deviation += (abs(self._mean - took) - self._deviation) / 4
        self._mean += (took - self._mean) / 8

    def _progress(self, count: int, *, selective: bool) -> None:
        self._repeated = 0
        if self._recovering:
            if self.acknowledged >= self._recover_to:
                self._recovering = False
            elif not selective and self._pieces and not self._pieces[0].again:
                self._lose(self._pieces[0])  # RFC 6582: the next one that is missing
        elif self._congestion < self._threshold:
            self._congestion += min(count, 2 * self._mss)
        else:
            self._congestion += max(1, self._mss * self._mss // self._congestion)
        self._congestion = min(self._congestion, self._most)

    def _find_lost(self) -> None:
        for piece in self._pieces:
            if piece.order + DUPLICATES > self._newest:
                continue
            if not piece.arrived and not piece.lost:
                self._lose(piece)
        if self._repeated == DUPLICATES and not self._pieces[0].again:
            self._lose(self._pieces[0])

    def _lose(self, piece: Piece) -> None:
        if piece.lost or piece.arrived:
            return
        piece.lost = True
        self._pipe -= len(piece.data)
        if not self._recovering:
            self._recovering, self._recover_to = True, self.sent
            self._threshold = max(len(self) // 2, 2 * self._mss)
            self._congestion = self._threshold

    def time_out(self) -> None:
        """Nothing came for too long: all of it is lost, and the way carries little (RFC 5681
        section 3.1). The peer may have let go what it acknowledged selectively (RFC 2018 section
        8)."""
        self._threshold = max(len(self) // 2, 2 * self._mss)
        self._congestion = self._mss
        self._recovering = False
        self._repeated = 0
        self._pipe = 0
        for piece in self._pieces:
            piece.lost, piece.arrived = True, False

    def again(self, now: float) -> Iterator[tuple[int, bytes]]:
        """What is sent again now: places and bytes, as far as the way carries it."""
        for piece in self._pieces:
            if piece.lost:
                if self._pipe and self._congestion - self._pipe < len(piece.data):
                    return
                self._orders += 1
                piece.lost, piece.again = False, True
                piece.order, piece.sent_at = self._orders, now
                self._pipe += len(piece.data)
                yield piece.place, piece.data
