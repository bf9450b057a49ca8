"""The origin of a packet, and whether a tunnel is for it."""

from __future__ import annotations

from collections.abc import Mapping

from obrin.core.address.prefix import Address
from obrin.core.ipsec.selectors import ANY
from obrin.device.config import RouterConfig, RouterTunnel
from obrin.wire.errors import PacketError
from obrin.wire.ike.tunnel import Tunnel
from obrin.wire.packet import Packet

ON_LINK_TTL = 255
"""RFC 5082: what BGP and BFD leave with, and must still have at a peer that is on the link."""


class Origins:
    """The addresses at which a gateway itself takes packets, and from whom."""

    def __init__(self, config: RouterConfig) -> None:
        ways = config.ways()
        self.own = {ends.local for way in ways.values() for ends in way.inside}
        self._peers: dict[tuple[Address, Address], tuple[tuple[str, ...], int]] = {}
        for name, way in ways.items():
            for ends in way.inside:
                self._peers[ends.local, ends.remote] = (name,), ON_LINK_TTL
        for neighbour in config.neighbours.values():
            session = neighbour.session
            if session.multihop or session.local_as == session.peer_as:
                self.own.add(session.local_address)
                # One router more, at either end, may stand between the two addresses.
                least = ON_LINK_TTL - 1
                ends_here = session.local_address, session.peer_address
                self._peers[ends_here] = neighbour.ways, least

    def judge(self, packet: Packet, arrived_by: str | None) -> None:
        """What is for itself must come out of the tunnel that it belongs to, from the peer
        there, and untouched by any router beyond the link. Raises PacketError."""
        known = self._peers.get((packet.destination, packet.source))
        if known is None:
            raise PacketError("it is not from a peer of that address")
        ways, least = known
        if arrived_by not in ways:
            raise PacketError("it did not come by that peer's way")
        if packet.ttl < least:
            raise PacketError("it comes from beyond the link")


class Selection:
    """Whether tunnels are for packets (RFC 4301 sections 5.1 and 5.2)."""

    def __init__(self, tunnels: Mapping[str, RouterTunnel], running: Mapping[str, Tunnel]) -> None:
        self._running = running
        held = tunnels.items()
        self._all = {(name, bits) for name, t in held for bits in ANY if t.takes_all(bits)}

    def takes(self, name: str | None, packet: Packet, *, inwards: bool = False) -> bool:
        """Judge by the selectors of a tunnel's child SAs; most tunnels take a whole family, and
        what goes by no tunnel needs none."""
        if name is None or (name, packet.bits) in self._all or name not in self._running:
            return True
        children = self._running[name].outbounds
        ends = packet.source, packet.destination
        if inwards:
            ends = ends[::-1]
        return not children or any(child.takes(*ends) for child in children.values())
