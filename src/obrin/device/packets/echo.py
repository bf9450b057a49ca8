"""What a device answers for itself: echo requests (RFC 792, RFC 4443)."""

from __future__ import annotations

from obrin.core.routing.packet import ECHO
from obrin.wire.icmp import decode_icmp, echo_reply
from obrin.wire.packet import Packet


def echo_answer(packet: Packet) -> Packet | None:
    """The reply to an ICMP packet; None to anything but an echo request. Raises PacketError."""
    message = decode_icmp(packet)
    return echo_reply(packet, message) if message.kind == ECHO[packet.bits].request else None
