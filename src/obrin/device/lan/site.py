"""A gateway of a site, with the hosts of the LAN that it stands on."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from obrin.device.config import RouterConfig
from obrin.device.lan.hosts import Hosts
from obrin.device.packets.drops import NO_FLOW
from obrin.device.router.router import Router
from obrin.device.standard.state import router_state
from obrin.wire.errors import PacketError
from obrin.wire.icmp import packet_key
from obrin.wire.packet import decode_packet


class Site:
    """`rng` gives so many random bytes; `now` is in seconds, and never goes back. `hosts` that are
    given are shared with other gateways, and somebody else minds them."""

    def __init__(self, name: str, rng: Callable[[int], bytes], hosts: Hosts) -> None:
        self.name = name
        self._rng = rng
        self.router = Router(name, RouterConfig(), rng)
        self.hosts = hosts

    def take(self, config: RouterConfig, now: float) -> None:
        """Another configuration in place. What cannot be built raises, and nothing has changed."""
        Router(self.name, config, self._rng).start(now)
        self.router.take(config, now)

    def receive(self, data: bytes, now: float) -> None:
        """A packet from an uplink; what is none is dropped."""
        try:
            packet = decode_packet(data)
        except PacketError as error:
            self.router.drops.add(self.name, f"bad packet: {error.reason}", NO_FLOW)
            return
        self.router.receive_underlay(packet, now)

    def pump(self, now: float) -> list[bytes]:
        """Let time pass and everything move; the packets that go out, by their source address."""
        if self.router.next_timer() <= now:
            self.router.handle_timer(now)
        for data in self.router.local():
            self._deliver(data, now)
        return self.router.underlay()

    def next_timer(self) -> float:
        return self.router.next_timer()

    def _deliver(self, data: bytes, now: float) -> None:
        packet = decode_packet(data)  # the router made it, or looked at it
        host = self.hosts.get(packet.destination)
        if host is not None:
            host.receive(data, now)
        else:
            reason = f"no host has {packet.destination}"
            self.router.drops.add(self.name, reason, packet_key(packet))

    def state(self, now: float) -> dict[str, Any]:
        """State as instance data of obrin-observe."""
        found = router_state(self.router, now)
        found["drop"] += self.hosts.drops()
        return found
