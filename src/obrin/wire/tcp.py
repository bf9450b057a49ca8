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
import hmac
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass, field

from obrin.core.address.prefix import Address
from obrin.core.ipsec.overhead import IPV4_HEADER, IPV6_HEADER
from obrin.wire.errors import PacketError
from obrin.wire.packet import TCP, Packet
from obrin.wire.tcp_segment import (
    ACK,
    FIN,
    PSH,
    RST,
    SIGNATURE_SIZE,
    SYN,
    End,
    Ends,
    Segment,
    decode_segment,
    md5_digest,
)

WINDOW = 65535
DEFAULT_MSS = 536
FIRST_WAIT = 0.3
LONGEST_WAIT = 3.0
CHALLENGES = 5
"""Challenges in a second (RFC 5961 section 7)."""
SENDS = 8
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
    """One end of a connection; `received` grows until the owner takes it."""

    local: End
    remote: End
    state: TcpState
    mss: int
    send_next: int
    send_unacked: int
    receive_next: int = 0
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

    def send(self, data: bytes) -> None:
        """Queue bytes; they leave with the next `flush`."""
        self.unsent += data

    def take(self) -> bytes:
        """Everything received since the last call."""
        data = bytes(self.received)
        self.received.clear()
        return data

    def close(self) -> None:
        """Send what is queued, then say that no more comes."""
        self.closing = True

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

    def segments(self) -> list[Segment]:
        out = list(self._out)
        self._out.clear()
        return out

    def _emit(self, flags: int, data: bytes = b"", sequence: int | None = None) -> None:
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
        if self.timer == float("inf"):
            self.sends = 1
            self.timer = now + FIRST_WAIT

    def _end(self, reason: str) -> None:
        self.state = TcpState.CLOSED
        self.reason = self.reason or reason
        self.timer = float("inf")

    def handle_timer(self, now: float) -> None:
        """Send again what was not acknowledged, or give up."""
        if now < self.timer:
            return
        if self.sends >= SENDS:
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
            self.receive_next = (segment.sequence + 1) % _MOD
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
            self.receive_next = (self.receive_next + len(fresh)) % _MOD
            if segment.flags & FIN and not self.peer_closed:
                self.receive_next = (self.receive_next + 1) % _MOD
                self.peer_closed = True
                if self.state is TcpState.ESTABLISHED:
                    self.state = TcpState.CLOSE_WAIT
        self._emit(ACK)
        if self.peer_closed and self.fin_sent and self.send_unacked == self.send_next % _MOD:
            self._end("closed")


__all__ = ["Connection", "Ends", "TcpStack", "TcpState"]


class TcpStack:
    """All connections of a set of local addresses. `ttl` is what packets leave with; `passwords`
    sign what goes between two addresses, the local one first (RFC 2385); `refused` is called with
    such addresses, a reason and the time when a signature was not right."""

    def __init__(self, rng: Callable[[int], bytes], mss: int = 1300, ttl: int = 64) -> None:
        self._rng = rng
        self._mss = mss
        self._ttl = ttl
        self._listeners: dict[tuple[Address, int | None], Callable[[Connection], None]] = {}
        self._connections: dict[tuple[End, End], Connection] = {}
        self._out: list[bytes] = []
        self.passwords: dict[Ends, bytes] = {}
        self.refused: Callable[[Ends, str, float], None] = lambda ends, why, now: None
        self._next_port = 49152 + int.from_bytes(rng(2), "big") % 16000

    def listen(
        self, address: Address, port: int | None, accept: Callable[[Connection], None]
    ) -> None:
        """Call `accept` with every connection to address and port; None is every port."""
        self._listeners[address, port] = accept

    def connect(self, local: Address, remote: Address, port: int, now: float) -> Connection:
        """Begin a handshake from a fresh port."""
        self._next_port = 49152 + (self._next_port - 49152 + 1) % 16384
        start = int.from_bytes(self._rng(4), "big")
        connection = Connection(
            local=(local, self._next_port),
            remote=(remote, port),
            state=TcpState.SYN_SENT,
            mss=self._mss_between(local, remote),
            send_next=start,
            send_unacked=start,
        )
        connection._emit(SYN)
        connection.send_next = (start + 1) % _MOD
        connection._arm(now)
        self._connections[connection.local, connection.remote] = connection
        return connection

    def receive(self, packet: Packet, now: float) -> None:
        """A TCP packet for one of our addresses, from the network. Raises PacketError for one that
        was dropped."""
        segment = decode_segment(packet)
        fault = self._signature_fault(packet, segment)
        if fault:
            self.refused((packet.destination, packet.source), fault, now)
            raise PacketError(fault)
        local = (packet.destination, segment.destination_port)
        remote = (packet.source, segment.source_port)
        connection = self._connections.get((local, remote))
        if connection is None and segment.flags & (SYN | ACK | RST) == SYN:
            accept = self._listeners.get(local) or self._listeners.get((local[0], None))
            if accept is not None:
                start = int.from_bytes(self._rng(4), "big")
                connection = Connection(
                    local=local,
                    remote=remote,
                    state=TcpState.SYN_RECEIVED,
                    mss=self._mss_between(local[0], remote[0]),
                    send_next=start,
                    send_unacked=start,
                    receive_next=(segment.sequence + 1) % _MOD,
                )
                connection._agree_mss(segment)
                connection._emit(SYN | ACK)
                connection.send_next = (start + 1) % _MOD
                connection._arm(now)
                self._connections[local, remote] = connection
                accept(connection)
                return
        if connection is None:
            if not segment.flags & RST:
                self._reset(packet, segment)
            return
        reason = connection.receive(segment, now)
        if reason:
            raise PacketError(reason)

    def _signature_fault(self, packet: Packet, segment: Segment) -> str:
        """Both ends sign, or none does; empty where that is so."""
        password = self.passwords.get((packet.destination, packet.source), b"")
        if not password:
            signed = segment.digest is not None
            return "TCP is signed with a password that this end does not have" if signed else ""
        if segment.digest is None:
            return "TCP is not signed, and this end has a password"
        right = md5_digest(packet.source, packet.destination, packet.payload, password)
        if hmac.compare_digest(right, segment.digest):
            return ""
        return "the TCP signature does not match: the passwords differ"

    def _mss_between(self, local: Address, remote: Address) -> int:
        """A signature takes its room in each segment, and so does a longer header."""
        longer = IPV6_HEADER - IPV4_HEADER if local.bits == 128 else 0
        return self._mss - longer - (SIGNATURE_SIZE if self.passwords.get((local, remote)) else 0)

    def _encode(self, segment: Segment, source: Address, destination: Address) -> bytes:
        password = self.passwords.get((source, destination), b"")
        payload = segment.encode(source, destination, password)
        return Packet(source, destination, TCP, payload, self._ttl).encode()

    def _reset(self, packet: Packet, segment: Segment) -> None:
        """RFC 9293 section 3.5.2, case 1: there is no such connection."""
        size = len(segment.data) + bool(segment.flags & SYN) + bool(segment.flags & FIN)
        acked = bool(segment.flags & ACK)
        reply = Segment(
            source_port=segment.destination_port,
            destination_port=segment.source_port,
            sequence=segment.acknowledgement if acked else 0,
            acknowledgement=0 if acked else segment.sequence + size,
            flags=RST if acked else RST | ACK,
            window=0,
            data=b"",
        )
        self._out.append(self._encode(reply, packet.destination, packet.source))

    def next_timer(self) -> float:
        return min((c.timer for c in self._connections.values()), default=float("inf"))

    def handle_timer(self, now: float) -> None:
        for connection in self._connections.values():
            connection.handle_timer(now)

    def packets(self, now: float) -> list[bytes]:
        """IP packets to send; closed connections are forgotten on the way."""
        out, self._out = self._out, []
        for key, connection in list(self._connections.items()):
            connection.flush(now)
            source, destination = connection.local[0], connection.remote[0]
            out += [self._encode(s, source, destination) for s in connection.segments()]
            if connection.state is TcpState.CLOSED:
                del self._connections[key]
        return out
