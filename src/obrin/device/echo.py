"""What a device answers for itself: echo requests (RFC 792)."""

from __future__ import annotations

from obrin.wire.packet import ECHO_REPLY, ECHO_REQUEST, ICMP, Ipv4, decode_icmp


def echo_answer(packet: Ipv4) -> bytes | None:
    """The reply to an ICMP packet; None to anything but an echo request. Raises PacketError."""
    message = decode_icmp(packet.payload)
    if message.kind != ECHO_REQUEST:
        return None
    reply = message._replace(kind=ECHO_REPLY).encode()
    return Ipv4(packet.destination, packet.source, ICMP, reply).encode()
