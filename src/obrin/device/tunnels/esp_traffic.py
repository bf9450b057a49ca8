"""What goes into the tunnels of a router as ESP, and what comes out of them (RFC 4303)."""

from __future__ import annotations

from collections.abc import Callable

from obrin.core.address.prefix import parse_address
from obrin.core.routing.packet import PacketKey
from obrin.device.packets.drops import NO_FLOW
from obrin.device.tunnels.outside import esp_packet
from obrin.device.tunnels.path_mtu import PathMtus, too_big_of
from obrin.wire.errors import PacketError
from obrin.wire.esp import NEXT_DUMMY, NEXT_IPV4, NEXT_IPV6, EspError
from obrin.wire.ike.child import ChildSa
from obrin.wire.ike.endpoint import Endpoint
from obrin.wire.ike.events import ChildDown, ChildUp
from obrin.wire.packet import Packet, version_bits

_NEXT = {32: NEXT_IPV4, 128: NEXT_IPV6}


class EspTraffic:
    """`inbound` are the child SAs by their SPIs, with their tunnels. `drop` is called for every
    packet that goes no further, with the reason. `ways` is what was learned of the ways outside."""

    def __init__(self, ike: Endpoint, drop: Callable[[str, PacketKey], None]) -> None:
        self._ike = ike
        self._drop = drop
        self.inbound: dict[bytes, tuple[str, ChildSa]] = {}
        self.ways = PathMtus()

    def child_up(self, event: ChildUp) -> None:
        self.inbound[event.child.spi_in] = (event.tunnel, event.child)

    def child_down(self, event: ChildDown) -> None:
        self.inbound.pop(event.child.spi_in, None)
        tunnel = self._ike.tunnels.get(event.tunnel)
        if tunnel is None or tunnel.outbound is None:
            self.ways.forget(event.tunnel)

    def missing(self, name: str) -> tuple[int, int]:
        """Count a tunnel's latest packets by sequence number, and those of them that did not
        arrive, over all its child SAs."""
        found = [c.opener.missing() for n, c in self.inbound.values() if n == name]
        return sum(counted for counted, _ in found), sum(missing for _, missing in found)

    def learn(self, packet: Packet, now: float) -> tuple[str, str]:
        """Take from an outer ICMP message what the way of a tunnel carries; the tunnel, and that
        in words. Raises PacketError for one of no use."""
        too_big = too_big_of(packet)
        for name, child in self.inbound.values():
            path = self._ike.tunnels[name].path
            if (
                child.spi_out == too_big.spi
                and parse_address(path.remote[0]) == too_big.destination
            ):
                inside = self.ways.learn(name, child, path, too_big, now)
                return name, f"the way outside carries {too_big.mtu} bytes: {inside} inside"
        raise PacketError("ICMP about a packet that was not sent here")

    def open(self, data: bytes, now: float) -> tuple[str, bytes] | None:
        """The tunnel that a packet came by and what was in it, nothing in one that is for nobody;
        None for one that was dropped."""
        found = self.inbound.get(data[:4])
        if found is None:
            self._drop("ESP packet for no SA of this gateway", NO_FLOW)
            return None
        name, child = found
        try:
            next_header, inner = child.opener.open(data)
        except EspError as error:
            self._drop(f"ESP {error.reason}", NO_FLOW)
            return None
        tunnel = self._ike.tunnels[name]
        if tunnel.outbounds.get(child.scope) is not child and not child.replaced:
            tunnel.use(child)  # the peer uses the new one: so can we
        tunnel.heard(now)
        if _NEXT.get(version_bits(inner)) == next_header:
            return name, inner
        if next_header != NEXT_DUMMY:  # RFC 4303 section 2.6: dummies are for nobody
            self._drop("not what its ESP says, or of another protocol, out of a tunnel", NO_FLOW)
        return name, b""

    def seal(self, name: str, packet: Packet, key: PacketKey) -> bytes | None:
        """The outer packet; None for one that was dropped."""
        tunnel = self._ike.tunnels[name]
        child = tunnel.sending(packet.source, packet.destination)
        if child is None:
            what = "child SA for it" if tunnel.outbounds else "child SA"
            self._drop(f"tunnel {name} has no {what}", key)
            return None
        try:
            data = child.sealer.seal(packet.encode(), _NEXT[packet.bits])
        except EspError as error:
            self._drop(f"ESP {error.reason}", key)
            return None
        return esp_packet(tunnel.path, data, packet.tos)
