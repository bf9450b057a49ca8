"""What goes into the tunnels of a router as ESP, and what comes out of them (RFC 4303)."""

from __future__ import annotations

from collections.abc import Callable

from obrin.core.routing.packet import PacketKey
from obrin.device.drops import NO_FLOW
from obrin.device.outside import esp_packet
from obrin.wire.esp import NEXT_DUMMY, NEXT_IPV4, NEXT_IPV6, EspError
from obrin.wire.ike.child import ChildSa
from obrin.wire.ike.endpoint import Endpoint
from obrin.wire.ike.events import ChildDown, ChildUp
from obrin.wire.packet import Packet, version_bits

_NEXT = {32: NEXT_IPV4, 128: NEXT_IPV6}


class EspTraffic:
    """`inbound` are the child SAs by their SPIs, with their tunnels. `drop` is told of every packet
    that goes no further, with the reason."""

    def __init__(self, ike: Endpoint, drop: Callable[[str, PacketKey], None]) -> None:
        self._ike = ike
        self._drop = drop
        self.inbound: dict[bytes, tuple[str, ChildSa]] = {}

    def child_up(self, event: ChildUp) -> None:
        self.inbound[event.child.spi_in] = (event.tunnel, event.child)

    def child_down(self, event: ChildDown) -> None:
        self.inbound.pop(event.child.spi_in, None)

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
        if child is not tunnel.outbound and not child.replaced:
            tunnel.outbound = child  # the peer uses the new one: so can we
        tunnel.heard(now)
        if _NEXT.get(version_bits(inner)) == next_header:
            return name, inner
        if next_header != NEXT_DUMMY:  # RFC 4303 section 2.6: dummies are for nobody
            self._drop("not what its ESP says, or of another protocol, out of a tunnel", NO_FLOW)
        return name, b""

    def seal(self, name: str, packet: Packet, key: PacketKey) -> bytes | None:
        """The outer packet; None for one that was dropped."""
        tunnel = self._ike.tunnels[name]
        child = tunnel.outbound
        if child is None:
            self._drop(f"tunnel {name} has no child SA", key)
            return None
        try:
            data = child.sealer.seal(packet.encode(), _NEXT[packet.bits])
        except EspError as error:
            self._drop(f"ESP {error.reason}", key)
            return None
        return esp_packet(tunnel.path, data, packet.tos)
