"""Where a packet came from, and whether a tunnel is for it."""

from __future__ import annotations

from obrin.device.config import RouterTunnel
from obrin.wire.errors import PacketError
from obrin.wire.ike.child import ChildSa
from obrin.wire.packet import Ipv4

ON_LINK_TTL = 255
"""RFC 5082: what BGP and BFD leave with, and must still have at a peer that is on the link."""


def judge_origin(packet: Ipv4, tunnel: RouterTunnel, *, came_by_it: bool) -> None:
    """What a gateway itself is told at its address in a tunnel must come out of that tunnel, from
    the peer there, and untouched by any router. Raises PacketError."""
    if not came_by_it:
        raise PacketError("it did not come out of that address's tunnel")
    if packet.source != tunnel.remote_inside:
        raise PacketError("it is not from the peer in the tunnel")
    if packet.ttl != ON_LINK_TTL:
        raise PacketError("it comes from beyond the link")


def selected(child: ChildSa, packet: Ipv4, *, inwards: bool) -> bool:
    """Whether a tunnel's child SA is for this packet (RFC 4301 sections 5.1 and 5.2)."""
    ends = (packet.source, packet.destination)
    if inwards:
        ends = (packet.destination, packet.source)
    return all(
        any(selector.holds(address) for selector in selectors)
        for address, selectors in zip(ends, (child.local, child.remote), strict=True)
    )
