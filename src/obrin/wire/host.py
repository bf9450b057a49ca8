"""A practice host: it answers ICMP echo, serves every TCP and UDP port, and asks the same.

A UDP service sends back what it gets. A TCP service greets with one line, which is enough to prove
that data flows both ways, and once that is acknowledged it sends a segment as large as both ends
agreed on, which is enough to prove that those do, too.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass

from obrin.core.address.prefix import Address
from obrin.core.ipsec.overhead import IPV4_HEADER, IPV6_HEADER, TCP_HEADER, UDP_HEADER
from obrin.core.reach.filters import RuleSet
from obrin.core.routing.packet import ECHO
from obrin.wire.agenda import nobody
from obrin.wire.errors import PacketError
from obrin.wire.icmp import Icmp, decode_icmp, echo_reply, is_icmp, packet_key, read_too_big
from obrin.wire.packet import (
    ICMP,
    TCP,
    UDP,
    Packet,
    Udp,
    decode_packet,
    decode_udp,
)
from obrin.wire.tcp import Connection, TcpStack, TcpState
from obrin.wire.tcp_segment import begins

LINK_MTU = 1500
"""MTU of the network that a host stands in, in bytes."""
GREETING = b"obrin practice service\r\n"


@dataclass(slots=True, kw_only=True)
class Query:
    """One question to another host and what came of it. `too_big` is the size that a router
    on the way says would pass, in bytes, where the packet did not. `segments` is whether this end
    sends a TCP segment as large as both ends agreed on."""

    protocol: int
    destination: Address
    port: int
    source_port: int
    answered_at: float | None = None
    refused: bool = False
    too_big: int = 0
    connection: Connection | None = None
    segments: bool = False

    @property
    def sent_whole(self) -> bool:
        """Whether the peer acknowledged a TCP segment as large as both ends agreed on."""
        asked = self.connection
        return self.segments and asked is not None and asked.acknowledged >= asked.mss

    @property
    def received_whole(self) -> bool:
        """Whether such a segment came."""
        asked = self.connection
        return asked is not None and len(asked.received) >= len(GREETING) + asked.mss


class Host:
    """One address. The device it stands behind feeds packets in and takes them out.

    `drops` counts what it could do nothing with, by reason. `firewall` is its own: what may
    begin from outside; None where it has none.
    """

    def __init__(self, address: Address, rng: Callable[[int], bytes]) -> None:
        self.address = address
        self.firewall: RuleSet | None = None
        self.stir: Callable[[], None] = nobody
        self.drops: Counter[str] = Counter()
        self._out: list[bytes] = []
        self._queries: dict[tuple[int, int], Query] = {}
        self._next = 32768 + int.from_bytes(rng(2), "big") % 16000
        self._identification = int.from_bytes(rng(2), "big")
        self._tcp = TcpStack(rng, mss=LINK_MTU - IPV4_HEADER - TCP_HEADER)
        self._tcp.listen(address, None, self._greet)

    @staticmethod
    def _greet(connection: Connection) -> None:
        connection.send(GREETING)

        def then() -> None:
            if connection.acknowledged == len(GREETING):
                connection.owner = nobody
                connection.send(b"." * connection.mss)
                connection.close()

        connection.owner = then

    def ask(
        self,
        protocol: int,
        destination: Address,
        port: int,
        now: float,
        size: int = 0,
        *,
        may_fragment: bool = False,
        own: int | None = None,
    ) -> Query:
        """Send an echo request, a UDP datagram, or begin a TCP connection. The packets of the
        first two are filled up to `size` bytes, and ask not to be cut unless they may; over TCP any
        `size` asks for segments as large as both ends agree on. ICMP is that of the family. The
        port is a fresh one, or the host's `own`."""
        echo, here = ECHO[destination.bits], self.address
        head = IPV4_HEADER if here.bits == 32 else IPV6_HEADER
        data = b"obrin".ljust(size - head - UDP_HEADER, b".")
        protocol = echo.protocol if protocol == ICMP else protocol
        self._next = 32768 + (self._next - 32767) % 28000
        number = own or self._next
        query = Query(protocol=protocol, destination=destination, port=port, source_port=number)
        if protocol == TCP:
            query.connection = self._tcp.connect(here, destination, port, now, own)
            query.source_port = query.connection.local[1]
            query.segments = size > 0
        elif protocol == UDP:
            segment = Udp(number, port, data).encode(here, destination)
            self._send(Packet(here, destination, UDP, segment), may_fragment)
        else:
            asked = Icmp(echo.request, 0, number, 1, data).packet(here, destination)
            self._send(asked, may_fragment)
        self._queries[protocol, query.source_port] = query
        self.stir()
        return query

    def _send(self, packet: Packet, may_fragment: bool = False) -> None:
        """One that may be cut has a number of its own, by which its parts are known (RFC 6864)."""
        if may_fragment:
            self._identification = self._identification % 0xFFFF + 1
            packet = packet._replace(may_fragment=True, identification=self._identification)
        self._out.append(packet.encode())

    def forget(self, query: Query) -> None:
        """Stop waiting for an answer."""
        self._queries.pop((query.protocol, query.source_port), None)
        if query.connection is not None:
            query.connection.abort("the query ended")
            self.stir()

    def expects(self, packet: Packet) -> bool:
        """Whether a packet answers something that this host asked."""
        number, protocol = packet.ports[1], packet.protocol
        if is_icmp(packet):
            message = decode_icmp(packet)
            large = read_too_big(packet, message)
            number = message.identifier if large is None else large.number
            protocol = ECHO[packet.bits].protocol if large is None else large.protocol
            if large is None and message.kind != ECHO[packet.bits].reply:
                return False
        query = self._queries.get((protocol, number))
        return query is not None and (is_icmp(packet) or query.destination == packet.source)

    def receive(self, data: bytes, now: float) -> None:
        """A packet for this host; bad ones are dropped and counted."""
        try:
            packet = decode_packet(data)
            guard(self.firewall, packet, awaited=(UDP, packet.ports[1]) in self._queries)
            if is_icmp(packet):
                self._icmp(packet, now)
            elif packet.protocol == UDP:
                self._udp(packet, now)
            elif packet.protocol == TCP:
                self._tcp.receive(packet, now)
            else:
                raise PacketError("neither ICMP nor UDP nor TCP")
        except PacketError as error:
            self.drops[error.reason] += 1
        self._watch(now)
        self.stir()

    def _icmp(self, packet: Packet, now: float) -> None:
        message, echo = decode_icmp(packet), ECHO[packet.bits]
        if message.kind == echo.request:
            self._send(echo_reply(packet, message), packet.may_fragment)
        elif message.kind == echo.reply:
            query = self._queries.get((echo.protocol, message.identifier))
            if query is not None and packet.source == query.destination:
                query.answered_at = now
        elif (large := read_too_big(packet, message)) is not None:
            query = self._queries.get((large.protocol, large.number))
            if query is not None and large.destination == query.destination:
                query.too_big = large.mtu

    def _udp(self, packet: Packet, now: float) -> None:
        datagram = decode_udp(packet)
        query = self._queries.get((UDP, datagram.destination_port))
        if query is not None:
            if packet.source == query.destination:
                query.answered_at = now
            return
        reply = Udp(datagram.destination_port, datagram.source_port, datagram.data)
        segment = reply.encode(self.address, packet.source)
        self._send(Packet(self.address, packet.source, UDP, segment), packet.may_fragment)

    def _watch(self, now: float) -> None:
        for query in self._queries.values():
            connection = query.connection
            if connection is None or query.answered_at is not None:
                continue
            if connection.received:
                query.answered_at = now
                if query.segments:
                    connection.send(b"." * connection.mss)
                connection.close()
            elif connection.state is TcpState.CLOSED:
                query.refused = True

    def next_timer(self) -> float:
        return self._tcp.next_timer()

    def handle_timer(self, now: float) -> None:
        self._tcp.handle_timer(now)
        self.stir()

    def packets(self, now: float) -> list[bytes]:
        out, self._out = self._out, []
        return out + self._tcp.packets(now)


def guard(firewall: RuleSet | None, packet: Packet, *, awaited: bool) -> None:
    """A host's firewall: answers to its own flows come in, others only where a rule says so.
    `awaited` is whether the host waits for UDP like this. Raises PacketError."""
    if (
        firewall is not None
        and _begins(packet, awaited)
        and firewall.match(packet_key(packet)) is None
    ):
        raise PacketError("its own firewall does not let it in")


def _begins(packet: Packet, awaited: bool) -> bool:
    """Whether a packet begins a flow from outside."""
    if packet.protocol == TCP:
        return begins(packet.payload)
    if packet.protocol == UDP:
        return not awaited
    return is_icmp(packet) and packet.payload[:1] == bytes((ECHO[packet.bits].request,))
