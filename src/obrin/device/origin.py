"""Where a packet came from, and whether a tunnel is for it."""

from __future__ import annotations

from collections.abc import Mapping

from obrin.core.address.prefix import Address
from obrin.core.ipsec.selectors import ANY
from obrin.device.config import RouterTunnel
from obrin.wire.errors import PacketError
from obrin.wire.ike.child import ChildSa
from obrin.wire.ike.tunnel import Tunnel
from obrin.wire.packet import Packet

ON_LINK_TTL = 255
"""RFC 5082: what BGP and BFD leave with, and must still have at a peer that is on the link."""


def judge_origin(packet: Packet, tunnel: RouterTunnel, *, came_by_it: bool) -> None:
    """What a gateway itself is told at its address in a tunnel must come out of that tunnel, from
    the peer there, and untouched by any router. Raises PacketError."""
    if not came_by_it:
        raise PacketError("it did not come out of that address's tunnel")
    ends = tunnel.ends_in(packet.bits)
    if ends is None or packet.source != ends.remote:
        raise PacketError("it is not from the peer in the tunnel")
    if packet.ttl != ON_LINK_TTL:
        raise PacketError("it comes from beyond the link")


class Selection:
    """Whether tunnels are for packets (RFC 4301 sections 5.1 and 5.2)."""

    def __init__(self, tunnels: Mapping[str, RouterTunnel], running: Mapping[str, Tunnel]) -> None:
        self._running = running
        held = tunnels.items()
        self._all = {(name, bits) for name, t in held for bits in ANY if t.takes_all(bits)}

    def takes(self, name: str | None, packet: Packet, *, inwards: bool = False) -> bool:
        """By the selectors of a tunnel's child SA; most tunnels take a whole family, and what goes
        by no tunnel needs none."""
        if name is None or (name, packet.bits) in self._all:
            return True
        child = self._running[name].outbound
        if child is None:
            return True
        ends = packet.source, packet.destination
        return _selected(child, ends[::-1] if inwards else ends)


def _selected(child: ChildSa, ends: tuple[Address, Address]) -> bool:
    return all(
        any(selector.holds(address) for selector in selectors)
        for address, selectors in zip(ends, (child.local, child.remote), strict=True)
    )
