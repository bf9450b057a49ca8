"""The network of a site with its hosts, which several gateways may lead out of.

Hosts leave by the gateway with the preferred route, or by the first that is there: what they follow
is said by the design. Gateways speak BGP with each other over it, and
may pass packets on to each other.
"""

from __future__ import annotations

from collections.abc import Callable

from obrin.core.routing.forwarding import RouteKind
from obrin.core.routing.model import preference_of
from obrin.core.routing.packet import PacketKey
from obrin.core.settled.sites import GATEWAYS, NOTHING, TUNNELS
from obrin.core.settled.ways import Neighbour
from obrin.device.lan.hosts import Hosts
from obrin.device.lan.site import Site
from obrin.device.router.router import Router
from obrin.wire.icmp import packet_key
from obrin.wire.packet import decode_packet

FARTHEST = 1 << 32
NEIGHBOUR = 1 << 30
"""How far a gateway is whose own route leads to another one beside it."""


class Lan:
    """`gateways` by name, in the order in which hosts prefer them. One that is `dead` reaches none
    of the others, and hosts go on sending to it until a time: then another one has taken over the
    address that they share. `follow` is what they follow: TUNNELS, GATEWAYS or NOTHING."""

    def __init__(self, rng: Callable[[int], bytes], follow: str = TUNNELS) -> None:
        self._rng, self.follow = rng, follow
        self.hosts = Hosts((), rng)
        self.gateways: dict[str, Site] = {}
        self.dead: dict[str, float] = {}
        self._lines: list[tuple[str, str, bytes]] = []

    def add(self, name: str) -> Site:
        self.gateways[name] = Site(name, self._rng, self.hosts)
        return self.gateways[name]

    def restart(self, name: str, now: float) -> None:
        """A gateway loses power for a moment: it keeps its configuration, and nothing else. Its
        peers are not informed."""
        config = self.gateways[name].router.config
        self.add(name).take(config, now)

    def settle(self) -> None:
        """Hosts where the gateways have networks now."""
        configs = [site.router.config for site in self.gateways.values()]
        firewalls = dict(item for c in configs for item in c.firewalls_by_prefix().items())
        self.hosts.take(dict.fromkeys(p for c in configs for p in c.host_places()), firewalls)

    def pump(self, now: float) -> list[tuple[str, bytes]]:
        """Let time pass and everything move; what goes out, each with its gateway."""
        if self.hosts.next_timer() <= now:
            self.hosts.handle_timer(now)
        out: list[tuple[str, bytes]] = []
        moved, sent = True, list(self.hosts.packets(now))
        while moved:
            for data in sent:
                self._leave(data, now)
            for name, site in self.gateways.items():
                out += [(name, data) for data in site.pump(now)]
            beside = [(n, *sent) for n, s in self.gateways.items() for sent in s.router.across()]
            for name, way, data in beside:
                self._cross(name, way, data, now)
            sent = list(self.hosts.packets(now))
            moved = bool(sent or beside)
        return out

    def _cross(self, name: str, way: str, data: bytes, now: float) -> None:
        """Send to the gateway beside, or through a dedicated circuit."""
        if way in self.gateways[name].router.config.lines:
            self._lines.append((name, way, data))
            return
        for other, site in self.gateways.items():
            if Neighbour(other).label == way and self.dead.keys().isdisjoint((name, other)):
                site.router.receive_across(Neighbour(name).label, data, now)

    def across(self) -> list[tuple[str, str, bytes]]:
        """What leaves by dedicated lines: the gateway, its line, the packet."""
        out, self._lines = self._lines, []
        return out

    def next_timer(self) -> float:
        timers = (site.next_timer() for site in self.gateways.values())
        return min((*timers, self.hosts.next_timer()))

    def _leave(self, data: bytes, now: float) -> None:
        key = packet_key(decode_packet(data))
        there = list(self.gateways)
        if self.follow != NOTHING:
            there = [n for n in there if now < self.dead.get(n, now + 1.0)]
        if self.follow in (GATEWAYS, NOTHING):
            there = there[:1]
        name = min(there, key=lambda n: rank(self.gateways[n].router, key), default=None)
        if name is not None and name not in self.dead:
            self.gateways[name].router.receive_local(data, now)


def rank(router: Router, key: PacketKey) -> int:
    """How much a gateway's route is preferred; the lower the better."""
    found = router.table.match(key.destination)
    if found is None:
        return FARTHEST
    prefix, route = found
    if route.kind is RouteKind.CONNECTED:
        return 0
    if route.via in router.config.beside:
        return NEIGHBOUR
    if route.kind is RouteKind.STATIC:
        return route.metric
    return preference_of(router.bgp.speaker.decisions[prefix].winner.path.local_pref)
