"""The forwarding table of a router: its networks, its tunnels, what is static, what was learned."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from dataclasses import replace

from obrin.core.address.prefix import Prefix
from obrin.core.address.table import PrefixTable
from obrin.core.routing.decision import Decision
from obrin.core.routing.forwarding import Route, RouteKind, forwarding_table, sharing
from obrin.device.config import RouterConfig
from obrin.wire.bgp.speaker import Speaker


class ForwardingTable:
    """`alive` are the ways that carry; `resolved` by session how its peer is reached, `shared` the
    sessions whose ways carry equal routes together, `built` how often the table became another."""

    def __init__(self, config: RouterConfig, alive: set[str], speaker: Speaker) -> None:
        self.built = 0
        self.build(config, alive, speaker)

    def build(self, config: RouterConfig, alive: set[str], speaker: Speaker) -> None:
        """All of it."""
        self._config, self.alive = config, alive
        self.table = fixed_table(config, alive)
        self._fixed = {prefix for prefix, _ in self.table.items()}
        self._static_ways = {static.way for static in config.static}
        self.resolved = resolved_sessions(config, self.table)
        self.shared = shared_sessions(config, self.resolved)
        self._learn(speaker, speaker.decisions)
        self.built += 1

    def renew(self, alive: set[str], speaker: Speaker) -> None:
        """Update after a change: what BGP decided again, and everything only where fixed routes
        differ."""
        if not self._static_ways.isdisjoint(alive ^ self.alive):
            self.build(self._config, alive, speaker)
            return
        self.alive = alive
        self._learn(speaker, speaker.changed)
        self.built += 1

    def _learn(self, speaker: Speaker, prefixes: Collection[Prefix]) -> None:
        """Install BGP routes through the tunnels of their sessions. Routes known without BGP
        come first."""
        for prefix in prefixes:
            if prefix in self._fixed:
                continue
            decision, route = speaker.decisions.get(prefix), None
            if decision is not None:
                route = learned_route(prefix, self.resolved, self.shared, decision)
            if route is not None:
                self.table[prefix] = route
            elif self.table.get(prefix) is not None:
                del self.table[prefix]
        speaker.changed.clear()


def learned_route(
    prefix: Prefix, resolved: Mapping[str, Route], shared: Collection[str], decision: Decision
) -> Route | None:
    """Route through the tunnels of the session that won; None where these lead to nobody."""
    learned = resolved.get(decision.winner.peer.name)
    if learned is None:
        return None
    others = (resolved[name] for name in sharing(decision, shared))
    ways = tuple(way for other in others for way in (other.via, *other.others))
    return replace(learned, prefix=prefix, others=(*learned.others, *ways))


def resolved_sessions(config: RouterConfig, table: PrefixTable[Route]) -> dict[str, Route]:
    """Map each session to the ways that lead to its peer, as routes: what it advertises is used
    by them (RFC 4271 section 9.1.2.1)."""
    leading: dict[str, Route] = {}
    for name, neighbour in config.neighbours.items():
        found = table.match(neighbour.session.peer_address)
        if found is not None and found[1].via in neighbour.ways:
            _, route = found
            leading[name] = Route(route.prefix, RouteKind.BGP, route.via, 0, route.others)
    return leading


def shared_sessions(config: RouterConfig, resolved: Mapping[str, Route]) -> set[str]:
    """Sessions whose tunnels share equal routes."""
    ways = config.ways()
    return {n for n, route in resolved.items() if route.via in ways and ways[route.via].shared}


def fixed_table(config: RouterConfig, alive: Collection[str]) -> PrefixTable[Route]:
    """What no session advertises, with the ways that are `alive`."""
    return forwarding_table(_fixed(config, alive))


def _fixed(config: RouterConfig, alive: Collection[str]) -> Iterator[Route]:
    for name, prefix in config.networks:
        yield Route(prefix, RouteKind.CONNECTED, name)
    for name, way in config.ways().items():
        for ends in way.inside:
            yield Route(ends.block, RouteKind.CONNECTED, name)
    for name, address in config.beside.items():
        yield Route(address.alone, RouteKind.CONNECTED, name)
    for static in config.static:
        if static.way in alive:
            yield Route(static.prefix, RouteKind.STATIC, static.way, static.metric)
