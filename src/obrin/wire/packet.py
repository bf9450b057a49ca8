"""IPv4, UDP and ICMP as small values, parse and serialise side by side (RFC 791, 768, 792)."""

from __future__ import annotations

from struct import Struct
from typing import NamedTuple

from obrin.core.address.prefix import format_address
from obrin.wire.errors import PacketError

ICMP, TCP, UDP, ESP = 1, 6, 17, 50
PROTOCOL_NAMES = {ICMP: "icmp", TCP: "tcp", UDP: "udp", ESP: "esp"}
ECHO_REPLY, UNREACHABLE, ECHO_REQUEST, TIME_EXCEEDED = 0, 3, 8, 11

TOO_BIG = 4
"""Code of UNREACHABLE: it would have to be cut, and says that it must not be (RFC 1191)."""
_IPV4 = Struct(">BBHHHBBHII")
_UDP = Struct(">HHHH")
_ICMP = Struct(">BBHHH")
_PSEUDO = Struct(">IIBBH")


def checksum(data: bytes) -> int:
    """The Internet checksum (RFC 1071): the ones' complement sum is the remainder by 0xFFFF, but
    that of anything else than zeros is never zero."""
    number = int.from_bytes(data, "big")
    if len(data) & 1:
        number <<= 8
    return (number and (number % 0xFFFF or 0xFFFF)) ^ 0xFFFF


class Ipv4(NamedTuple):
    """An IPv4 packet without options; addresses are integers. `tos` holds DSCP and ECN."""

    source: int
    destination: int
    protocol: int
    payload: bytes
    ttl: int = 64
    identification: int = 0
    tos: int = 0

    def encode(self) -> bytes:
        head = _IPV4.pack(
            0x45,
            self.tos,
            20 + len(self.payload),
            self.identification,
            0x4000,
            self.ttl,
            self.protocol,
            0,
            self.source,
            self.destination,
        )
        return head[:10] + checksum(head).to_bytes(2, "big") + head[12:] + self.payload

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
        return f"{format_address(self.source)} > {format_address(self.destination)} {name}"


def decode_ipv4(data: bytes) -> Ipv4:
    """Raises PacketError. Fragments are refused: nothing here makes them."""
    if len(data) < 20:
        raise PacketError("shorter than an IPv4 header", f"{len(data)} bytes")
    (first, tos, length, identification, fragment, ttl, protocol, _, source, destination) = (
        _IPV4.unpack_from(data)
    )
    head = (first & 15) * 4
    if first >> 4 != 4 or head < 20 or length < head or length > len(data):
        raise PacketError("the IPv4 header's version or lengths do not hold together")
    if checksum(data[:head]):
        raise PacketError("the IPv4 header checksum does not match")
    if fragment & 0x3FFF:
        raise PacketError("a fragment")
    return Ipv4(source, destination, protocol, data[head:length], ttl, identification, tos)


def pseudo_header(source: int, destination: int, protocol: int, size: int) -> bytes:
    """What stands in front of a UDP or TCP segment of `size` bytes in sums over it (RFC 9293
    section 3.1)."""
    return _PSEUDO.pack(source, destination, 0, protocol, size)


def transport_checksum(source: int, destination: int, protocol: int, segment: bytes) -> int:
    """Checksum of a UDP or TCP segment with its pseudo-header (RFC 9293 section 3.1)."""
    return checksum(pseudo_header(source, destination, protocol, len(segment)) + segment)


class Udp(NamedTuple):
    source_port: int
    destination_port: int
    data: bytes

    def encode(self, source: int, destination: int) -> bytes:
        segment = (
            _UDP.pack(self.source_port, self.destination_port, 8 + len(self.data), 0) + self.data
        )
        value = transport_checksum(source, destination, UDP, segment) or 0xFFFF
        return segment[:6] + value.to_bytes(2, "big") + self.data


def decode_udp(packet: Ipv4) -> Udp:
    """Raises PacketError. A checksum of zero means none was made (RFC 768)."""
    data = packet.payload
    if len(data) < 8:
        raise PacketError("a UDP header needs 8 bytes")
    source, destination, length, value = _UDP.unpack_from(data)
    if not 8 <= length <= len(data):
        raise PacketError("the UDP header's length does not fit", f"{length} for {len(data)}")
    if value and transport_checksum(packet.source, packet.destination, UDP, data[:length]):
        raise PacketError("the UDP checksum does not match")
    return Udp(source, destination, data[8:length])


class Icmp(NamedTuple):
    """ICMP; `identifier` and `sequence` have meaning for echo only."""

    kind: int
    code: int
    identifier: int
    sequence: int
    data: bytes

    def encode(self) -> bytes:
        head = _ICMP.pack(self.kind, self.code, 0, self.identifier, self.sequence) + self.data
        return head[:2] + checksum(head).to_bytes(2, "big") + head[4:]


def decode_icmp(data: bytes) -> Icmp:
    """Raises PacketError."""
    if len(data) < 8:
        raise PacketError("an ICMP header needs 8 bytes")
    if checksum(data):
        raise PacketError("the ICMP checksum does not match")
    kind, code, _, identifier, sequence = _ICMP.unpack_from(data)
    return Icmp(kind, code, identifier, sequence, data[8:])
