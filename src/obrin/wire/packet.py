"""IP packets of both families and UDP as small values, parse and serialise side by side (RFC 791,
768, 8200)."""

from __future__ import annotations

from struct import Struct
from typing import NamedTuple

from obrin.core.address.prefix import Address
from obrin.core.ipsec.overhead import IPV4_HEADER, IPV6_HEADER
from obrin.wire.errors import PacketError

ICMP, TCP, UDP, ESP, ICMPV6 = 1, 6, 17, 50, 58
PROTOCOL_NAMES = {ICMP: "icmp", TCP: "tcp", UDP: "udp", ESP: "esp", ICMPV6: "icmpv6"}
_FAMILIES = {4: 32, 6: 128}
_FRAGMENT = 44
_NOT_CUT, _MORE = 0x4000, 0x2000
"""IPv4: it may not be cut, and it was, and this is not the last part."""
_EXTENSIONS = {0, 43, 51, 60, 135, 139, 140}
"""IPv6 headers between its own and what it carries (RFC 8200 section 4)."""
_IPV4 = Struct(">BBHHHBBHII")
_IPV6 = Struct(">IHBB16s16s")
_UDP = Struct(">HHHH")
_PSEUDO4 = Struct(">IIBBH")
_PSEUDO6 = Struct(">16s16sII")


def checksum(data: bytes) -> int:
    """The Internet checksum (RFC 1071): the ones' complement sum is the remainder by 0xFFFF, but
    that of anything else than zeros is never zero."""
    number = int.from_bytes(data, "big")
    if len(data) & 1:
        number <<= 8
    return (number and (number % 0xFFFF or 0xFFFF)) ^ 0xFFFF


class Packet(NamedTuple):
    """An IP packet without options or extension headers; both addresses are of one family. `tos`
    holds DSCP and ECN, `ttl` is IPv6's hop limit. What follows is IPv4's alone: `identification`,
    whether it may be cut on its way, and for a part of one its `offset` in bytes and whether `more`
    follow."""

    source: Address
    destination: Address
    protocol: int
    payload: bytes
    ttl: int = 64
    identification: int = 0
    tos: int = 0
    may_fragment: bool = False
    offset: int = 0
    more: bool = False

    def encode(self) -> bytes:
        if self.source.bits == 128:
            return (
                _IPV6.pack(
                    0x60000000 | self.tos << 20,
                    len(self.payload),
                    self.protocol,
                    self.ttl,
                    self.source.value.to_bytes(16),
                    self.destination.value.to_bytes(16),
                )
                + self.payload
            )
        cut = _NOT_CUT
        if self.may_fragment:
            cut = self.offset >> 3 | (_MORE if self.more else 0)
        head = _IPV4.pack(
            0x45,
            self.tos,
            IPV4_HEADER + len(self.payload),
            self.identification,
            cut,
            self.ttl,
            self.protocol,
            0,
            self.source.value,
            self.destination.value,
        )
        return head[:10] + checksum(head).to_bytes(2, "big") + head[12:] + self.payload

    @property
    def bits(self) -> int:
        """Length of its addresses in bits: 32 or 128."""
        return self.source.bits

    @property
    def size(self) -> int:
        """Bytes with its header."""
        return (IPV4_HEADER if self.source.bits == 32 else IPV6_HEADER) + len(self.payload)

    @property
    def ports(self) -> tuple[int, int]:
        """(source, destination) port of TCP and UDP, zeros otherwise."""
        if self.protocol in (TCP, UDP) and len(self.payload) >= 4:
            return (
                int.from_bytes(self.payload[:2], "big"),
                int.from_bytes(self.payload[2:4], "big"),
            )
        return 0, 0

    def __str__(self) -> str:
        name = PROTOCOL_NAMES.get(self.protocol, f"protocol {self.protocol}")
        return f"{self.source} > {self.destination} {name}"


def version_bits(data: bytes) -> int:
    """The family that a packet says it is of; 0 for none."""
    return _FAMILIES.get(data[0] >> 4, 0) if data else 0


def decode_packet(data: bytes) -> Packet:
    """Raises PacketError. Fragments are refused, and so are extension headers of IPv6."""
    packet = decode_part(data)
    if packet.offset or packet.more:
        raise PacketError("a fragment")
    return packet


def decode_part(data: bytes) -> Packet:
    """The same, or a fragment of IPv4."""
    bits = version_bits(data)
    if bits == 128:
        return _decode_ipv6(data)
    if not bits:
        raise PacketError("neither IPv4 nor IPv6")
    if len(data) < IPV4_HEADER:
        raise PacketError("shorter than an IPv4 header", f"{len(data)} bytes")
    (first, tos, length, identification, fragment, ttl, protocol, _, source, destination) = (
        _IPV4.unpack_from(data)
    )
    head = (first & 15) * 4
    if head < IPV4_HEADER or length < head or length > len(data):
        raise PacketError("the IPv4 header's version or lengths do not hold together")
    if checksum(data[:head]):
        raise PacketError("the IPv4 header checksum does not match")
    ends = Address(32, source), Address(32, destination)
    payload = data[head:length]
    if fragment == _NOT_CUT:
        return Packet(*ends, protocol, payload, ttl, identification, tos)
    cut = not fragment & _NOT_CUT, (fragment & 0x1FFF) * 8, bool(fragment & _MORE)
    return Packet(*ends, protocol, payload, ttl, identification, tos, *cut)


def _decode_ipv6(data: bytes) -> Packet:
    if len(data) < IPV6_HEADER:
        raise PacketError("shorter than an IPv6 header", f"{len(data)} bytes")
    first, length, protocol, ttl, source, destination = _IPV6.unpack_from(data)
    if length > len(data) - IPV6_HEADER:
        raise PacketError("the IPv6 header's length does not hold together")
    if protocol == _FRAGMENT:
        raise PacketError("a fragment")
    if protocol in _EXTENSIONS:
        raise PacketError("an IPv6 extension header")
    ends = Address(128, int.from_bytes(source)), Address(128, int.from_bytes(destination))
    payload = data[IPV6_HEADER : IPV6_HEADER + length]
    return Packet(*ends, protocol, payload, ttl, tos=first >> 20 & 0xFF)


def pseudo_header(source: Address, destination: Address, protocol: int, size: int) -> bytes:
    """What stands in front of a segment of `size` bytes in sums over it (RFC 9293 section 3.1 and
    RFC 8200 section 8.1)."""
    if source.bits == 32:
        return _PSEUDO4.pack(source.value, destination.value, 0, protocol, size)
    ends = source.value.to_bytes(16), destination.value.to_bytes(16)
    return _PSEUDO6.pack(*ends, size, protocol)


def transport_checksum(source: Address, destination: Address, protocol: int, segment: bytes) -> int:
    """Checksum of a segment with its pseudo-header (RFC 9293 section 3.1)."""
    return checksum(pseudo_header(source, destination, protocol, len(segment)) + segment)


class Udp(NamedTuple):
    source_port: int
    destination_port: int
    data: bytes

    def encode(self, source: Address, destination: Address) -> bytes:
        segment = (
            _UDP.pack(self.source_port, self.destination_port, 8 + len(self.data), 0) + self.data
        )
        value = transport_checksum(source, destination, UDP, segment) or 0xFFFF
        return segment[:6] + value.to_bytes(2, "big") + self.data


def decode_udp(packet: Packet) -> Udp:
    """Raises PacketError. A checksum of zero means none was made (RFC 768), which IPv6 does not
    allow (RFC 8200 section 8.1) but in tunnels, as ESP is (RFC 6935)."""
    data = packet.payload
    if len(data) < 8:
        raise PacketError("a UDP header needs 8 bytes")
    source, destination, length, value = _UDP.unpack_from(data)
    if not 8 <= length <= len(data):
        raise PacketError("the UDP header's length does not fit", f"{length} for {len(data)}")
    if value and transport_checksum(packet.source, packet.destination, UDP, data[:length]):
        raise PacketError("the UDP checksum does not match")
    return Udp(source, destination, data[8:length])
