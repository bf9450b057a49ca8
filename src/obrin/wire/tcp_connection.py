"""A small TCP (RFC 9293) that makes no calls: packets in, packets and bytes out, time passed in.

It carries BGP between the inside addresses of a tunnel and the services of practice hosts. It has
the handshake, delivery in order of what arrives in any (tcp_arrivals.py), retransmission by
selective or repeated acknowledgements and by time, congestion control (tcp_flight.py), orderly
close and reset. Its window is fixed and not scaled, and it has no time stamps.

Somebody who cannot see the connection and guesses at it gets nowhere (RFC 5961): a reset or a SYN
counts only at the very number that is expected next, an acknowledgement only of what was sent
lately; anything else near it is answered by a challenge, which the true peer answers by the truth.
"""

from __future__ import annotations

import enum
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass, field

from obrin.wire.agenda import nobody
from obrin.wire.tcp_arrivals import Arrivals, Block
from obrin.wire.tcp_flight import LONGEST_WAIT, Flight
from obrin.wire.tcp_protection import Numbers, rounds_of
from obrin.wire.tcp_segment import ACK, FIN, PSH, RST, SYN, End, Segment

WINDOW = 65535
DEFAULT_MSS = 536
MOST_BLOCKS = 3
CHALLENGES = 5
"""Challenges in a second (RFC 5961 section 7)."""
SENDS = 8
"""How often a connection is tried, or its end said."""
OPEN_SENDS = 40
"""How often data is sent on one that is open: for about two minutes (RFC 1122 section 4.2.3.5 asks
for at least 100 s), so that who uses it decides first whether the peer is gone."""
_MOD = 1 << 32


class TcpState(enum.Enum):
    SYN_SENT = "syn-sent"
    SYN_RECEIVED = "syn-received"
    ESTABLISHED = "established"
    FIN_WAIT = "fin-wait"
    CLOSE_WAIT = "close-wait"
    CLOSED = "closed"


@dataclass(slots=True, eq=False, kw_only=True)
class Connection:
    """One end of a connection; `received` grows until the owner takes it. `first` and `peer_first`
    are the sequence numbers that it began with; `send_next` counts on without running round, and
    `rounds` is how often `receive_next` did. `stir` is called when there is something to do with
    it; whoever does that calls `owner`, for whom it belongs to."""

    local: End
    remote: End
    state: TcpState
    mss: int
    first: int
    send_next: int
    send_unacked: int
    peer_first: int = 0
    receive_next: int = 0
    rounds: int = 0
    unsent: bytearray = field(default_factory=bytearray)
    peer_window: int = WINDOW
    selective: bool = False
    received: bytearray = field(default_factory=bytearray)
    reason: str = ""
    closing: bool = False
    fin_sent: bool = False
    peer_closed: bool = False
    timer: float = float("inf")
    sends: int = 0
    _challenged: int = 0
    _challenged_at: float = float("-inf")
    _peer_end: int | None = None
    _flight: Flight = field(init=False)
    _arrivals: Arrivals = field(default_factory=lambda: Arrivals(WINDOW))
    _out: deque[Segment] = field(default_factory=deque)
    stir: Callable[[], None] = nobody
    owner: Callable[[], None] = nobody

    def __post_init__(self) -> None:
        self._flight = Flight(self.mss, WINDOW)

    @classmethod
    def calling(cls, local: End, remote: End, mss: int, first: int, now: float) -> Connection:
        """Begins with a SYN."""
        made = cls._made(local, remote, TcpState.SYN_SENT, mss, first)
        made._begin(SYN, now)
        return made

    @classmethod
    def answering(
        cls, local: End, remote: End, mss: int, first: int, syn: Segment, now: float
    ) -> Connection:
        """Answers the peer's SYN."""
        made = cls._made(local, remote, TcpState.SYN_RECEIVED, mss, first)
        made._began_with(syn)
        made._agree(syn)
        made._begin(SYN | ACK, now)
        return made

    @classmethod
    def _made(cls, local: End, remote: End, state: TcpState, mss: int, first: int) -> Connection:
        return cls(
            local=local,
            remote=remote,
            state=state,
            mss=mss,
            first=first,
            send_next=first,
            send_unacked=first,
        )

    def _begin(self, flags: int, now: float) -> None:
        self._emit(flags)
        self.send_next += 1
        self._arm(now)

    def send(self, data: bytes) -> None:
        """Queue bytes; they leave with the next `flush`."""
        if data:
            self.unsent += data
            self.stir()

    def take(self) -> bytes:
        """Everything received since the last call."""
        data = bytes(self.received)
        self.received.clear()
        return data

    def close(self) -> None:
        """Send what is queued, then say that no more comes."""
        self.closing = True
        self.stir()

    def abort(self, reason: str = "reset here") -> None:
        """End it at once. A peer that never answered has nothing to be reset (RFC 9293 section
        3.10.5)."""
        if self.state is TcpState.CLOSED:
            return
        if self.state is TcpState.SYN_SENT:
            self._out.clear()
        else:
            self._emit(RST | ACK)
        self._end(reason)

    @property
    def acknowledged(self) -> int:
        """Bytes sent that the peer acknowledged, in one piece from the first."""
        return self._flight.acknowledged

    @property
    def open(self) -> bool:
        return self.state in (TcpState.ESTABLISHED, TcpState.CLOSE_WAIT)

    def flush(self, now: float) -> None:
        """Turn queued bytes into segments as far as the windows allow."""
        while self.open and self.unsent:
            room, size = self._flight.room(self.peer_window), min(self.mss, len(self.unsent))
            if room < size and (room <= 0 or len(self._flight)):
                self._arm(now)
                break
            self._send(min(size, room), now)
        if self.open and self.closing and not self.unsent and not self.fin_sent:
            self._emit(FIN | ACK)
            self.send_next += 1
            self.fin_sent = True
            self.state = TcpState.FIN_WAIT
            self._arm(now)

    def _send(self, size: int, now: float) -> None:
        chunk = bytes(self.unsent[:size])
        del self.unsent[:size]
        self._emit(ACK | PSH, chunk)
        self.send_next += size
        self._flight.send(chunk, now)
        self._arm(now)

    def _send_again(self, now: float) -> None:
        """What is lost, as far as there is room."""
        for place, data in self._flight.again(now):
            self._emit(ACK | PSH, data, self.first + 1 + place)
            self._arm(now)

    @property
    def quiet(self) -> bool:
        """Whether there is nothing to send, nor to forget."""
        return not (self._out or self._may_send or (self.closing and not self.fin_sent)) and (
            self.state is not TcpState.CLOSED
        )

    @property
    def _may_send(self) -> bool:
        if not self.unsent or self.timer == float("inf"):
            return bool(self.unsent)
        return self._flight.room(self.peer_window) >= min(self.mss, len(self.unsent))

    def segments(self) -> list[Segment]:
        out = list(self._out)
        self._out.clear()
        return out

    def _emit(self, flags: int, data: bytes = b"", sequence: int | None = None) -> None:
        self.stir()
        self._out.append(
            Segment(
                source_port=self.local[1],
                destination_port=self.remote[1],
                sequence=self.send_next if sequence is None else sequence,
                acknowledgement=self.receive_next if flags & ACK else 0,
                flags=flags,
                window=WINDOW,
                data=data,
                mss=self.mss if flags & SYN else None,
                selective=bool(flags & SYN) and (self.selective or flags & ACK == 0),
                blocks=() if data or not self.selective else self._blocks(),
            )
        )

    def _blocks(self) -> tuple[tuple[int, int], ...]:
        """What arrived early, by sequence numbers."""
        begin = self.peer_first + 1
        return tuple((begin + a, begin + b) for a, b in self._arrivals.blocks(MOST_BLOCKS))

    def _arm(self, now: float) -> None:
        self.stir()
        if self.timer == float("inf"):
            self.sends = 1
            self.timer = now + self._flight.wait

    def _end(self, reason: str) -> None:
        self.state = TcpState.CLOSED
        self.reason = self.reason or reason
        self.timer = float("inf")
        self.stir()

    def handle_timer(self, now: float) -> None:
        """Send again what was not acknowledged, or give up."""
        if now < self.timer:
            return
        open_ = self.state is TcpState.ESTABLISHED and not self.fin_sent
        if self.sends >= (OPEN_SENDS if open_ else SENDS):
            self._end("no answer")
            return
        self.timer = now + min(self._flight.wait * 2**self.sends, LONGEST_WAIT)
        self.sends += 1
        if self.state is TcpState.SYN_SENT:
            self._emit(SYN, sequence=self.send_unacked)
        elif self.state is TcpState.SYN_RECEIVED:
            self._emit(SYN | ACK, sequence=self.send_unacked)
        else:
            self._flight.time_out()
            self._send_again(now)
            if not len(self._flight) and self.unsent:  # its window is shut: is it still?
                self._send(1, now)
            if self.fin_sent:
                self._emit(FIN | ACK, sequence=self.send_next - 1)

    def receive(self, segment: Segment, now: float) -> str:
        """A segment of this connection. Why it was dropped, or nothing."""
        if self.state is TcpState.SYN_SENT:
            return self._receive_answer(segment, now)
        if segment.flags & RST:
            if segment.sequence == self.receive_next:
                self._end("peer reset")
                return ""
            if self._in_window(segment.sequence):
                self._challenge(now)
            return "a TCP reset at a number that is not the next"
        if segment.flags & SYN:
            if (segment.sequence + 1) % _MOD != self.receive_next:
                self._challenge(now)
                return "a TCP SYN inside a connection"
            if self.state is TcpState.SYN_RECEIVED:  # it repeats, so do we
                self._emit(SYN | ACK, sequence=self.send_unacked)
            else:
                self._emit(ACK)
            return ""
        if not segment.flags & ACK:
            return "a TCP segment without an acknowledgement"
        if not self._in_reach(segment):
            self._challenge(now)
            return "a TCP segment outside the window"
        if self.state is TcpState.SYN_RECEIVED:
            if not self._acknowledges(segment):
                return "a TCP acknowledgement of nothing that was sent"
            self.state = TcpState.ESTABLISHED
        if (segment.acknowledgement - self.send_unacked + WINDOW) % _MOD > (
            self.send_next - self.send_unacked
        ) % _MOD + WINDOW:
            # RFC 5961 section 5: neither new nor lately sent.
            self._challenge(now)
            return "a TCP acknowledgement of nothing that was sent"
        self._acknowledge(segment, now)
        self._accept(segment)
        if self.state is not TcpState.CLOSED:
            self._send_again(now)
            self.flush(now)
        return ""

    def _receive_answer(self, segment: Segment, now: float) -> str:
        """RFC 9293 section 3.10.7.3: whatever counts acknowledges our SYN."""
        if not segment.flags & ACK or not self._acknowledges(segment):
            return "a TCP answer to another SYN"
        if segment.flags & RST:
            self._end("refused by the peer")
        elif segment.flags & SYN:
            self._began_with(segment)
            self._agree(segment)
            self._acknowledge(segment, now)
            self.state = TcpState.ESTABLISHED
            self._emit(ACK)
        else:
            return "a TCP answer to another SYN"
        return ""

    def _in_window(self, sequence: int) -> bool:
        return (sequence - self.receive_next) % _MOD < WINDOW

    def _in_reach(self, segment: Segment) -> bool:
        """RFC 9293 section 3.4: inside the window, or a repetition of what came lately."""
        return (segment.sequence - self.receive_next + WINDOW) % _MOD < 2 * WINDOW

    def _challenge(self, now: float) -> None:
        """An acknowledgement of where we are; not more than a few in a second."""
        if now >= self._challenged_at + 1.0:
            self._challenged_at, self._challenged = now, 0
        self._challenged += 1
        if self._challenged <= CHALLENGES:
            self._emit(ACK)

    def _acknowledges(self, segment: Segment) -> bool:
        return (
            0
            < (segment.acknowledgement - self.send_unacked) % _MOD
            <= (self.send_next - self.send_unacked) % _MOD
        )

    def _agree(self, segment: Segment) -> None:
        """Agree on the options that the peer's SYN asks for."""
        self.mss = min(self.mss, segment.mss or DEFAULT_MSS)
        self.selective, self.peer_window = segment.selective, segment.window
        self._flight = Flight(self.mss, WINDOW)

    def _acknowledge(self, segment: Segment, now: float) -> None:
        flight, news = self._flight, self._acknowledges(segment)
        count = (segment.acknowledgement - self.send_unacked) % _MOD if news else 0
        repeats = not segment.data and segment.window == self.peer_window
        if self.state is not TcpState.SYN_SENT:
            self.peer_window = segment.window
        place = flight.acknowledged + min(count, len(flight))
        flight.acknowledge(place, self._sack_blocks(segment), now, repeats=repeats and not news)
        if not news:
            return
        self.send_unacked = segment.acknowledgement
        self.timer = float("inf")
        if self.send_unacked != self.send_next % _MOD:
            self._arm(now)
        elif self.fin_sent and self.peer_closed:
            self._end("closed")

    def _sack_blocks(self, segment: Segment) -> list[Block]:
        """What the peer has beyond what it acknowledges, as places; nothing that was never sent."""
        flight = self._flight
        begin = (self.first + 1 + flight.acknowledged) % _MOD
        found = []
        for first, end in segment.blocks if self.selective else ():
            at, up_to = (first - begin) % _MOD, (end - begin) % _MOD
            if at < up_to <= len(flight):
                found.append((flight.acknowledged + at, flight.acknowledged + up_to))
        return found

    def _accept(self, segment: Segment) -> None:
        if not segment.data and not segment.flags & FIN:
            return
        if not self.peer_closed:
            half = _MOD // 2
            ahead = (segment.sequence - self.receive_next + half) % _MOD - half
            place = self._arrivals.next + ahead
            if segment.flags & FIN and self._peer_end is None:
                self._peer_end = place + len(segment.data)
            fresh = self._arrivals.take(place, segment.data)
            self.received += fresh
            self._got(len(fresh))
            if self._arrivals.next == self._peer_end:
                self._got(1)
                self.peer_closed = True
                if self.state is TcpState.ESTABLISHED:
                    self.state = TcpState.CLOSE_WAIT
        self._emit(ACK)
        if self.peer_closed and self.fin_sent and self.send_unacked == self.send_next % _MOD:
            self._end("closed")

    def _began_with(self, segment: Segment) -> None:
        """The peer's SYN."""
        self.peer_first = self.receive_next = segment.sequence
        self._got(1)

    def _got(self, count: int) -> None:
        after = self.receive_next + count
        self.rounds += after // _MOD
        self.receive_next = after % _MOD

    def numbers_out(self, segment: Segment) -> Numbers:
        """Sequence numbers for signing an outgoing segment. For the first SYN the peer's initial
        number is not known and counts as 0 (RFC 5925 section 5.2)."""
        theirs = 0 if segment.flags & (SYN | ACK) == SYN else self.peer_first
        return Numbers(self.first, theirs, rounds_of(self.send_next, segment.sequence))

    def numbers_in(self, segment: Segment) -> Numbers:
        """Sequence numbers for checking the signature of a segment that arrived."""
        if segment.flags & SYN:
            return Numbers(segment.sequence, self.first if segment.flags & ACK else 0)
        near = self.rounds * _MOD + self.receive_next
        return Numbers(self.peer_first, self.first, rounds_of(near, segment.sequence))
