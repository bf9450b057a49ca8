"""ICMP errors about packets that go no further, and TCP MSS clamping that avoids them.

A router that cannot pass on a packet answers with how large one may be (RFC 1191, RFC 8201).
Where somebody drops that message, TCP still fits if the MSS of its first segments is lowered.
"""

from __future__ import annotations

from collections.abc import Iterable

from obrin.core.ipsec.overhead import IPV4_HEADER, IPV6_HEADER, TCP_HEADER
from obrin.device.config import RouterWay
from obrin.wire.icmp import time_exceeded, too_big
from obrin.wire.packet import TCP, Packet
from obrin.wire.tcp_segment import with_mss_of_at_most


def too_big_for(packet: Packet, way: RouterWay, mtu: int) -> Packet | None:
    """The ICMP error for a packet that does not fit into a way; None where there is none."""
    ends = way.ends_in(packet.bits)
    return None if ends is None else too_big(packet, mtu, ends.local)


def time_exceeded_for(packet: Packet, ways: Iterable[RouterWay | None]) -> Packet | None:
    """The ICMP error for a packet that was passed on too often, by the first of these ways
    that has an address of its family."""
    held = (way.ends_in(packet.bits) for way in ways if way is not None)
    ends = next(filter(None, held), None)
    return None if ends is None else time_exceeded(packet, ends.local)


def clamped(packet: Packet, mtu: int) -> Packet:
    """A packet whose TCP, if it begins here, sends no segments that do not fit."""
    if packet.protocol != TCP:
        return packet
    head = IPV4_HEADER if packet.bits == 32 else IPV6_HEADER
    payload = with_mss_of_at_most(packet.payload, mtu - head - TCP_HEADER)
    return packet if payload is packet.payload else packet._replace(payload=payload)
