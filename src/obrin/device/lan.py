"""The network of a site with its hosts, which several gateways may lead out of."""

from __future__ import annotations

from collections.abc import Callable

from obrin.core.routing.forwarding import RouteKind
from obrin.core.routing.packet import PacketKey
from obrin.device.hosts import Hosts
from obrin.device.router import Router
from obrin.device.site import Site
from obrin.wire.icmp import packet_key
from obrin.wire.packet import decode_packet

FARTHEST = 1 << 32


class Lan:
    """`gateways` by name. Hosts leave by the one with the preferred route."""

    def __init__(self, rng: Callable[[int], bytes]) -> None:
        self._rng = rng
        self.hosts = Hosts((), rng)
        self.gateways: dict[str, Site] = {}

    def add(self, name: str) -> Site:
        self.gateways[name] = Site(name, self._rng, self.hosts)
        return self.gateways[name]

    def settle(self) -> None:
        """Hosts where the gateways have networks now."""
        configs = [site.router.config for site in self.gateways.values()]
        gates = {prefix: rules for c in configs for prefix, rules in c.host_gates().items()}
        self.hosts.take(dict.fromkeys(p for c in configs for p in c.host_places()), gates)

    def pump(self, now: float) -> list[tuple[str, bytes]]:
        """Let time pass and everything move; what goes out, each with its gateway."""
        if self.hosts.next_timer() <= now:
            self.hosts.handle_timer(now)
        out: list[tuple[str, bytes]] = []
        moved = True
        while moved:
            sent = list(self.hosts.packets(now))
            for data in sent:
                self._leave(data, now)
            for name, site in self.gateways.items():
                out += [(name, data) for data in site.pump(now)]
            moved = bool(sent)
        return out

    def next_timer(self) -> float:
        timers = (site.next_timer() for site in self.gateways.values())
        return min((*timers, self.hosts.next_timer()))

    def _leave(self, data: bytes, now: float) -> None:
        key = packet_key(decode_packet(data))
        routers = [site.router for site in self.gateways.values()]
        router = min(routers, key=lambda r: rank(r, key), default=None)
        if router is not None:
            router.receive_local(data, now)


def rank(router: Router, key: PacketKey) -> int:
    """How much a gateway's route is preferred; the lower the better."""
    found = router.table.match(key.destination)
    if found is None:
        return FARTHEST
    prefix, route = found
    if route.kind is RouteKind.CONNECTED:
        return 0
    if route.kind is RouteKind.STATIC:
        return route.metric
    return FARTHEST // 2 - router.bgp.speaker.decisions[prefix].winner.path.local_pref
