"""Packets as large as the way: what does not fit is told so, and TCP is kept from trying.

RFC 1191: a router that cannot pass on a packet tells its sender how large one may be. Where
somebody drops that message, TCP still fits if the MSS of its first segments is lowered.
"""

from __future__ import annotations

from obrin.core.ipsec.overhead import IPV4_HEADER, TCP_HEADER
from obrin.wire.packet import ICMP, TCP, TOO_BIG, UNREACHABLE, Icmp, Ipv4
from obrin.wire.tcp_segment import with_mss_of_at_most

_QUOTED = 28
"""Bytes of the packet that the message brings back: its header and eight more (RFC 792)."""


def size_of(packet: Ipv4) -> int:
    """Bytes with its header."""
    return IPV4_HEADER + len(packet.payload)


def is_error(packet: Ipv4) -> bool:
    """Whether it tells of what became of another packet (RFC 792)."""
    return packet.protocol == ICMP and packet.payload[:1] not in (b"\x08", b"\x00")


def told_too_big(packet: Ipv4, mtu: int, source: int) -> Ipv4 | None:
    """The message to the sender; None where none may follow: of errors there are none about errors
    (RFC 1812 section 4.3.2.7)."""
    if is_error(packet):
        return None
    message = Icmp(UNREACHABLE, TOO_BIG, 0, mtu, packet.encode()[:_QUOTED])
    return Ipv4(source, packet.source, ICMP, message.encode())


def clamped(packet: Ipv4, mtu: int) -> Ipv4:
    """A packet whose TCP, if it begins here, sends no segments that do not fit."""
    if packet.protocol != TCP:
        return packet
    payload = with_mss_of_at_most(packet.payload, mtu - IPV4_HEADER - TCP_HEADER)
    return packet if payload is packet.payload else packet._replace(payload=payload)
