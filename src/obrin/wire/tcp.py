"""All connections of a host or router: a stack of them over packets (see `tcp_connection`).

Packets in, packets and bytes out, time passed in. Where a signature is agreed on, whatever lacks it
is as if it had not come.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from obrin.core.address.prefix import Address
from obrin.core.ipsec.overhead import IPV4_HEADER, IPV6_HEADER
from obrin.wire.agenda import Agenda
from obrin.wire.errors import PacketError
from obrin.wire.packet import TCP, Packet
from obrin.wire.tcp_connection import Connection, TcpState
from obrin.wire.tcp_protection import NO_NUMBERS, Numbers, Protection
from obrin.wire.tcp_segment import ACK, FIN, RST, SYN, End, Ends, Segment, decode_segment

Both = tuple[End, End]
"""The two ends of a connection, the own one first."""

__all__ = ["Connection", "Ends", "TcpStack", "TcpState"]


class TcpStack:
    """All connections of a set of local addresses. `ttl` is what packets leave with; `protections`
    sign what goes between two addresses, the local one first; `refused` is called with such
    addresses, a reason and the time when a signature was not right."""

    def __init__(self, rng: Callable[[int], bytes], mss: int = 1300, ttl: int = 64) -> None:
        self._rng = rng
        self._mss = mss
        self._ttl = ttl
        self._listeners: dict[tuple[Address, int | None], Callable[[Connection], None]] = {}
        self._connections: dict[Both, Connection] = {}
        self._agenda: Agenda[Both] = Agenda(self._timer_of)
        self._speaking: dict[Both, None] = {}
        self._out: list[bytes] = []
        self.protections: dict[Ends, Protection] = {}
        self.refused: Callable[[Ends, str, float], None] = lambda ends, why, now: None
        self._next_port = 49152 + int.from_bytes(rng(2), "big") % 16000

    def listen(
        self, address: Address, port: int | None, accept: Callable[[Connection], None]
    ) -> None:
        """Call `accept` with every connection to address and port; None is every port."""
        self._listeners[address, port] = accept

    def connect(
        self, local: Address, remote: Address, port: int, now: float, own: int | None = None
    ) -> Connection:
        """Begin a handshake from a fresh port, or from one's `own`."""
        self._next_port = 49152 + (self._next_port - 49152 + 1) % 16384
        ends = (local, own or self._next_port), (remote, port)
        mss = self._mss_between(local, remote)
        connection = Connection.calling(*ends, mss, self._first(), now)
        self._adopt(connection)
        return connection

    def _adopt(self, connection: Connection) -> None:
        key = connection.local, connection.remote
        self._connections[key] = connection
        connection.stir = partial(self._stir, key, connection)
        connection.stir()

    def _stir(self, key: Both, connection: Connection) -> None:
        """It has something to send, to report to its owner, or to wait for."""
        self._agenda.stir(key)
        self._speaking[key] = None
        connection.owner()

    def receive(self, packet: Packet, now: float) -> None:
        """A TCP packet for one of our addresses, from the network. Raises PacketError for one that
        was dropped."""
        segment = decode_segment(packet)
        local = (packet.destination, segment.destination_port)
        remote = (packet.source, segment.source_port)
        connection = self._connections.get((local, remote))
        fault = self._signature_fault(packet, segment, connection)
        if fault:
            self.refused((packet.destination, packet.source), fault, now)
            raise PacketError(fault)
        if connection is None and segment.flags & (SYN | ACK | RST) == SYN:
            accept = self._listeners.get(local) or self._listeners.get((local[0], None))
            if accept is not None:
                mss = self._mss_between(local[0], remote[0])
                connection = Connection.answering(local, remote, mss, self._first(), segment, now)
                self._adopt(connection)
                accept(connection)
                return
        if connection is None:
            if not segment.flags & RST:
                self._reset(packet, segment)
            return
        reason = connection.receive(segment, now)
        connection.stir()
        if reason:
            raise PacketError(reason)

    def _first(self) -> int:
        """The sequence number that a connection begins with: one that nobody guesses."""
        return int.from_bytes(self._rng(4), "big")

    def _signature_fault(
        self, packet: Packet, segment: Segment, connection: Connection | None
    ) -> str:
        """Why the signature of a segment is refused; empty where it is right."""
        protection = self.protections.get((packet.destination, packet.source))
        if protection is None:
            signed = bool(segment.signatures)
            return "TCP is signed with a password that this end does not have" if signed else ""
        if not segment.signatures:
            return "TCP is not signed, and this end has a password"
        (kind, value), *more = segment.signatures
        if more or kind != protection.kind:
            return "TCP is signed in another way than at this end"
        numbers = Numbers(segment.sequence, 0)
        if connection is not None:
            numbers = connection.numbers_in(segment)
        return "" if protection.fits(packet, value, numbers) else protection.differs

    def _mss_between(self, local: Address, remote: Address) -> int:
        """A signature takes its room in each segment, and so does a longer header."""
        longer = IPV6_HEADER - IPV4_HEADER if local.bits == 128 else 0
        protection = self.protections.get((local, remote))
        return self._mss - longer - (0 if protection is None else len(protection.blank))

    def _encode(
        self, segment: Segment, source: Address, destination: Address, numbers: Numbers
    ) -> bytes:
        protection = self.protections.get((source, destination))
        payload = segment.encode(source, destination, protection, numbers)
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
        # By TCP-AO it says nothing: nobody knows any more what signed that connection.
        self._out.append(self._encode(reply, packet.destination, packet.source, NO_NUMBERS))

    def next_timer(self) -> float:
        return self._agenda.next()

    def _timer_of(self, key: Both) -> float | None:
        connection = self._connections.get(key)
        return None if connection is None else connection.timer

    def handle_timer(self, now: float) -> None:
        for key in self._agenda.due(now):
            connection = self._connections[key]
            connection.handle_timer(now)
            connection.stir()

    def packets(self, now: float) -> list[bytes]:
        """IP packets to send; closed connections are forgotten on the way."""
        out, self._out = self._out, []
        speaking, self._speaking = self._speaking, {}
        for key in speaking:
            connection = self._connections.get(key)
            if connection is None or connection.quiet:
                continue
            connection.flush(now)
            source, destination = connection.local[0], connection.remote[0]
            out += [
                self._encode(s, source, destination, connection.numbers_out(s))
                for s in connection.segments()
            ]
            if connection.state is TcpState.CLOSED:
                del self._connections[key]
                self._agenda.forget(key)
        return out
