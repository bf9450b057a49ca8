"""ICMP of both families, as far as it is spoken here: echo, "too big", and "time exceeded"
(RFC 792, 1191, 4443)."""

from __future__ import annotations

from struct import Struct
from typing import NamedTuple

from obrin.core.address.prefix import Address
from obrin.core.ipsec.overhead import IPV4_HEADER, IPV6_HEADER, LEAST_IPV4_MTU, LEAST_IPV6_MTU
from obrin.core.routing.packet import ECHO, PacketKey
from obrin.wire.errors import PacketError
from obrin.wire.packet import ESP, ICMP, ICMPV6, TCP, UDP, Packet, transport_checksum
from obrin.wire.packet import checksum as plain_checksum

_HEAD = Struct(">BBHHH")
UNREACHABLE, TOO_BIG = 3, 4
"""RFC 1191: the type, and the code that says that it would have to be cut and must not be."""
TOO_BIG6 = 2
"""RFC 4443 section 3.2: a type of its own."""
TIME_EXCEEDED = {32: 11, 128: 3}
"""The type, by the bits of an address; code 0 is in transit."""
_FIRST_INFORMATION6 = 128


class Icmp(NamedTuple):
    """Its second word is an identifier and a sequence in echo; in "too big" it ends in the MTU."""

    kind: int
    code: int
    identifier: int
    sequence: int
    data: bytes

    def packet(self, source: Address, destination: Address) -> Packet:
        """The message on its way."""
        raw = _HEAD.pack(self.kind, self.code, 0, self.identifier, self.sequence) + self.data
        protocol = ECHO[source.bits].protocol
        value = _sum(source, destination, raw)
        payload = raw[:2] + value.to_bytes(2, "big") + raw[4:]
        return Packet(source, destination, protocol, payload)


def _sum(source: Address, destination: Address, message: bytes) -> int:
    """ICMPv6 covers the addresses as well (RFC 4443 section 2.3)."""
    if source.bits == 32:
        return plain_checksum(message)
    return transport_checksum(source, destination, ICMPV6, message)


def decode_icmp(packet: Packet) -> Icmp:
    """Raises PacketError."""
    data = packet.payload
    if packet.protocol != ECHO[packet.bits].protocol:
        raise PacketError("the ICMP of the other family")
    if len(data) < 8:
        raise PacketError("an ICMP header needs 8 bytes")
    if _sum(packet.source, packet.destination, data):
        raise PacketError("the ICMP checksum does not match")
    kind, code, _, identifier, sequence = _HEAD.unpack_from(data)
    return Icmp(kind, code, identifier, sequence, data[8:])


def is_icmp(packet: Packet) -> bool:
    return packet.protocol in (ICMP, ICMPV6)


def packet_key(packet: Packet) -> PacketKey:
    """What filters look at, taken from a packet."""
    source, destination = packet.ports
    kind = packet.payload[0] if is_icmp(packet) and packet.payload else -1
    ends = packet.source, packet.destination
    return PacketKey(*ends, packet.protocol, source, destination, kind)


def is_error(packet: Packet) -> bool:
    """Whether it reports what became of another packet."""
    echo = ECHO[packet.bits]
    if packet.protocol != echo.protocol or not packet.payload:
        return False
    kind = packet.payload[0]
    if packet.bits == 128:
        return kind < _FIRST_INFORMATION6
    return kind not in (echo.request, echo.reply)


def echo_reply(packet: Packet, message: Icmp) -> Packet:
    """The answer to an echo request."""
    reply = message._replace(kind=ECHO[packet.bits].reply)
    return reply.packet(packet.destination, packet.source)


def too_big(packet: Packet, mtu: int, source: Address) -> Packet | None:
    """The message to the sender; None where none may follow."""
    if packet.bits == 32:
        return _error(packet, Icmp(UNREACHABLE, TOO_BIG, 0, mtu, b""), source)
    return _error(packet, Icmp(TOO_BIG6, 0, mtu >> 16, mtu & 0xFFFF, b""), source)


def time_exceeded(packet: Packet, source: Address) -> Packet | None:
    """The message to the sender of a packet that was passed on too often; None where none may
    follow."""
    return _error(packet, Icmp(TIME_EXCEEDED[packet.bits], 0, 0, 0, b""), source)


def _error(packet: Packet, message: Icmp, source: Address) -> Packet | None:
    """Never answer an ICMP error with an ICMP error (RFC 1812 section 4.3.2.7, RFC 4443 section
    2.4). It brings back as much of the packet as every path carries (RFC 1812 section 4.3.2.3),
    since the sender looks far into it: an SPI may stand behind a UDP header."""
    if is_error(packet):
        return None
    four = LEAST_IPV4_MTU - IPV4_HEADER - 8
    most = four if packet.bits == 32 else LEAST_IPV6_MTU - IPV6_HEADER - 8
    answer = message._replace(data=packet.encode()[:most])
    return answer.packet(source, packet.source)


def quoted_key(packet: Packet) -> PacketKey | None:
    """What a filter would look at of the packet that an error is about; None for what is not an
    error, or quotes too little to tell."""
    bits, quoted = packet.bits, packet.payload[8:]
    head = IPV4_HEADER if bits == 32 else IPV6_HEADER
    if not is_error(packet) or len(quoted) < head + 8:
        return None
    if bits == 32 and quoted[0] != 0x45:  # options: nobody here sends any
        return None
    protocol, size = (quoted[9], 4) if bits == 32 else (quoted[6], 16)
    ends = quoted[head - 2 * size : head]
    source, destination = (
        Address(bits, int.from_bytes(part, "big")) for part in (ends[:size], ends[size:])
    )
    if protocol == ECHO[bits].protocol:
        return PacketKey(source, destination, protocol, icmp_type=quoted[head])
    if protocol not in (TCP, UDP):
        return PacketKey(source, destination, protocol)
    ports = (int.from_bytes(quoted[at : at + 2], "big") for at in (head, head + 2))
    return PacketKey(source, destination, protocol, *ports)


class TooBig(NamedTuple):
    """What such a message says: the size that passes, and of which packet: its protocol,
    destination and first number (a port, or an echo's identifier), and the SPI of ESP, also in
    UDP; empty where there is none."""

    mtu: int
    protocol: int
    destination: Address
    number: int
    spi: bytes = b""


def read_too_big(packet: Packet, message: Icmp) -> TooBig | None:
    """Return None for another message. Raises PacketError for one that quotes no packet."""
    bits, quoted = packet.bits, message.data
    kinds = (UNREACHABLE, TOO_BIG) if bits == 32 else (TOO_BIG6, 0)
    if (message.kind, message.code) != kinds:
        return None
    head, protocol_at, end_at = (IPV4_HEADER, 9, 16) if bits == 32 else (IPV6_HEADER, 6, 24)
    if len(quoted) < head + 8:
        raise PacketError("an ICMP error that quotes no packet")
    protocol = quoted[protocol_at]
    destination = int.from_bytes(quoted[end_at:head], "big")
    at = head + 4 if protocol in (ICMP, ICMPV6) else head
    return TooBig(
        mtu=message.sequence if bits == 32 else message.identifier << 16 | message.sequence,
        protocol=protocol,
        destination=Address(bits, destination),
        number=int.from_bytes(quoted[at : at + 2], "big"),
        spi=_spi(protocol, quoted[head:]),
    )


def _spi(protocol: int, quoted: bytes) -> bytes:
    if protocol == ESP:
        return quoted[:4]
    if protocol == UDP and len(quoted) >= 12:
        return quoted[8:12]
    return b""
