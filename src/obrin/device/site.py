"""A site: its gateway and the hosts behind it."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from obrin.device.config import RouterConfig
from obrin.device.drops import NO_FLOW
from obrin.device.hosts import Hosts
from obrin.device.router import Router
from obrin.device.state import router_state
from obrin.wire.errors import PacketError
from obrin.wire.icmp import packet_key
from obrin.wire.packet import decode_packet


class Site:
    """`rng` gives so many random bytes; `now` is in seconds, and never goes back. `hosts` that are
    given are shared with other gateways, and somebody else minds them."""

    def __init__(self, name: str, rng: Callable[[int], bytes], hosts: Hosts | None = None) -> None:
        self.name = name
        self._rng = rng
        self.router = Router(name, RouterConfig(), rng)
        self._alone = hosts is None
        self.hosts = hosts or Hosts((), rng)

    def take(self, config: RouterConfig, now: float) -> None:
        """Another configuration in place. What cannot be built raises, and nothing has changed."""
        Router(self.name, config, self._rng).start(now)
        if self._alone:
            self.hosts.take(config.host_places(), config.host_gates())
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
        engines: list[Router | Hosts] = [self.router]
        if self._alone:
            engines.append(self.hosts)
        for engine in engines:
            if engine.next_timer() <= now:
                engine.handle_timer(now)
        moved = True
        while moved:
            inwards = self.router.local()
            outwards = list(self.hosts.packets(now)) if self._alone else []
            for data in inwards:
                self._deliver(data, now)
            for data in outwards:
                self.router.receive_local(data, now)
            moved = bool(inwards or outwards)
        return self.router.underlay()

    def next_timer(self) -> float:
        due = self.router.next_timer()
        return min(due, self.hosts.next_timer()) if self._alone else due

    def _deliver(self, data: bytes, now: float) -> None:
        packet = decode_packet(data)  # the router made it, or looked at it
        host = self.hosts.get(packet.destination)
        if host is not None:
            host.receive(data, now)
        else:
            reason = f"no host has {packet.destination}"
            self.router.drops.add(self.name, reason, packet_key(packet))

    def state(self, now: float) -> dict[str, Any]:
        """In the shape of obrin-observe."""
        found = router_state(self.router, now)
        found["drop"] += self.hosts.drops()
        return found
