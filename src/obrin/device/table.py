"""The forwarding table of a router: its networks, its tunnels, what is static, what was learned."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from dataclasses import replace

from obrin.core.address.prefix import Prefix
from obrin.core.address.table import PrefixTable
from obrin.core.routing.decision import Decision
from obrin.core.routing.forwarding import Route, RouteKind, forwarding_table, sharing
from obrin.device.config import RouterConfig


def add_learned(
    table: PrefixTable[Route],
    resolved: Mapping[str, Route],
    shared: Collection[str],
    decisions: Mapping[Prefix, Decision],
) -> None:
    """What BGP decided, by the ways of the sessions; what is known without it comes first."""
    for prefix, decision in decisions.items():
        learned = resolved.get(decision.winner.peer.name)
        if learned is not None and table.get(prefix) is None:
            others = (resolved[name] for name in sharing(decision, shared))
            ways = tuple(way for other in others for way in (other.via, *other.others))
            table[prefix] = replace(learned, prefix=prefix, others=(*learned.others, *ways))


def resolved_sessions(config: RouterConfig, table: PrefixTable[Route]) -> dict[str, Route]:
    """By session, the ways that lead to its peer, as routes: what it tells is used by them
    (RFC 4271 section 9.1.2.1)."""
    leading: dict[str, Route] = {}
    for name, neighbour in config.neighbours.items():
        found = table.match(neighbour.session.peer_address)
        if found is not None and found[1].via in neighbour.ways:
            _, route = found
            leading[name] = Route(route.prefix, RouteKind.BGP, route.via, 0, route.others)
    return leading


def shared_sessions(config: RouterConfig, resolved: Mapping[str, Route]) -> set[str]:
    """Those whose ways carry equal routes together."""
    ways = config.ways()
    return {n for n, route in resolved.items() if route.via in ways and ways[route.via].shared}


def fixed_table(config: RouterConfig, alive: Collection[str]) -> PrefixTable[Route]:
    """What no session tells, with the ways that are `alive`."""
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
