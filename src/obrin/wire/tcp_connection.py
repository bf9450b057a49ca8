"""A small TCP (RFC 9293) that makes no calls: packets in, packets and bytes out, time passed in.

It carries BGP between the inside addresses of a tunnel and the services of practice hosts. It has
the handshake, ordered delivery, retransmission with doubling waits, orderly close and reset. It
has a fixed window, no congestion control and no reassembly of segments that arrive early: those
are sent again.

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
from obrin.wire.tcp_protection import Numbers
from obrin.wire.tcp_segment import ACK, FIN, PSH, RST, SYN, End, Segment

WINDOW = 65535
DEFAULT_MSS = 536
FIRST_WAIT = 0.3
LONGEST_WAIT = 3.0
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
    in_flight: bytearray = field(default_factory=bytearray)
    received: bytearray = field(default_factory=bytearray)
    reason: str = ""
    closing: bool = False
    fin_sent: bool = False
    peer_closed: bool = False
    timer: float = float("inf")
    sends: int = 0
    _challenged: int = 0
    _challenged_at: float = float("-inf")
    _out: deque[Segment] = field(default_factory=deque)
    stir: Callable[[], None] = nobody
    owner: Callable[[], None] = nobody

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
        made._agree_mss(syn)
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
        if self.state is not TcpState.CLOSED:
            self._emit(RST | ACK)
            self._end(reason)

    @property
    def open(self) -> bool:
        return self.state in (TcpState.ESTABLISHED, TcpState.CLOSE_WAIT)

    def flush(self, now: float) -> None:
        """Turn queued bytes into segments as far as the window allows."""
        while self.open and self.unsent and len(self.in_flight) < WINDOW:
            chunk = bytes(self.unsent[: self.mss])
            del self.unsent[: len(chunk)]
            self._emit(ACK | PSH, chunk)
            self.send_next += len(chunk)
            self.in_flight += chunk
            self._arm(now)
        if self.open and self.closing and not self.unsent and not self.fin_sent:
            self._emit(FIN | ACK)
            self.send_next += 1
            self.fin_sent = True
            self.state = TcpState.FIN_WAIT
            self._arm(now)

    @property
    def quiet(self) -> bool:
        """Whether there is nothing to send, nor to forget."""
        return not (self._out or self.unsent or (self.closing and not self.fin_sent)) and (
            self.state is not TcpState.CLOSED
        )

    @property
    def has_news(self) -> bool:
        """Whether its owner has something to take, or to hear of its end."""
        return bool(self.received) or self.peer_closed or self.state is TcpState.CLOSED

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
            )
        )

    def _arm(self, now: float) -> None:
        self.stir()
        if self.timer == float("inf"):
            self.sends = 1
            self.timer = now + FIRST_WAIT

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
        self.timer = now + min(FIRST_WAIT * 2**self.sends, LONGEST_WAIT)
        self.sends += 1
        if self.state is TcpState.SYN_SENT:
            self._emit(SYN, sequence=self.send_unacked)
        elif self.state is TcpState.SYN_RECEIVED:
            self._emit(SYN | ACK, sequence=self.send_unacked)
        else:
            data = bytes(self.in_flight)
            for start in range(0, len(data), self.mss):
                chunk = data[start : start + self.mss]
                self._emit(ACK | PSH, chunk, self.send_unacked + start)
            if self.fin_sent:
                self._emit(FIN | ACK, sequence=self.send_unacked + len(data))

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
            self._agree_mss(segment)
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

    def _agree_mss(self, segment: Segment) -> None:
        self.mss = min(self.mss, segment.mss or DEFAULT_MSS)

    def _acknowledge(self, segment: Segment, now: float) -> None:
        if not self._acknowledges(segment):
            return
        count = (segment.acknowledgement - self.send_unacked) % _MOD
        self.send_unacked = segment.acknowledgement
        if self.in_flight:
            del self.in_flight[: min(count, len(self.in_flight))]
        self.timer = float("inf")
        if self.send_unacked != self.send_next % _MOD:
            self._arm(now)
        elif self.fin_sent and self.peer_closed:
            self._end("closed")

    def _accept(self, segment: Segment) -> None:
        if not segment.data and not segment.flags & FIN:
            return
        offset = (self.receive_next - segment.sequence) % _MOD
        if offset <= len(segment.data):
            fresh = segment.data[offset:]
            self.received += fresh
            self._got(len(fresh))
            if segment.flags & FIN and not self.peer_closed:
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
        """Of a segment that leaves, for its signature. The first one knows nothing of the peer
        (RFC 5925 section 5.2)."""
        theirs = 0 if segment.flags & (SYN | ACK) == SYN else self.peer_first
        return Numbers(self.first, theirs, _rounds(self.send_next, segment.sequence))

    def numbers_in(self, segment: Segment) -> Numbers:
        """Of a segment that came."""
        if segment.flags & SYN:
            return Numbers(segment.sequence, self.first if segment.flags & ACK else 0)
        near = self.rounds * _MOD + self.receive_next
        return Numbers(self.peer_first, self.first, _rounds(near, segment.sequence))


def _rounds(near: int, sequence: int) -> int:
    """How often a sequence number has run round that belongs near one that counts on."""
    half = _MOD // 2
    return max(near + (sequence - near + half) % _MOD - half, 0) // _MOD
