"""The forwarding table of a router: its networks, its tunnels, what is static, what was learned."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from dataclasses import replace

from obrin.core.address.prefix import Prefix
from obrin.core.address.table import PrefixTable
from obrin.core.routing.decision import Decision
from obrin.core.routing.forwarding import Route, RouteKind, forwarding_table, sharing
from obrin.device.config import RouterConfig


def table_of(
    config: RouterConfig, alive: Collection[str], decisions: Mapping[Prefix, Decision]
) -> PrefixTable[Route]:
    """With the tunnels that are `alive`, and what BGP decided."""
    table = forwarding_table(_fixed(config, alive))
    resolved = dict(_resolved(config, table))
    shared = {name for name, route in resolved.items() if config.tunnels[route.via].shared}
    for prefix, decision in decisions.items():
        learned = resolved.get(decision.winner.peer.name)
        if learned is not None and table.get(prefix) is None:
            others = (resolved[name] for name in sharing(decision, shared))
            ways = tuple(way for other in others for way in (other.via, *other.others))
            table[prefix] = replace(learned, prefix=prefix, others=(*learned.others, *ways))
    return table


def _resolved(config: RouterConfig, table: PrefixTable[Route]) -> Iterator[tuple[str, Route]]:
    """By session, the ways that lead to its peer, as routes: what it tells is used by them
    (RFC 4271 section 9.1.2.1)."""
    for name, neighbour in config.neighbours.items():
        found = table.match(neighbour.session.peer_address)
        if found is not None and found[1].via in neighbour.ways:
            _, route = found
            yield name, Route(route.prefix, RouteKind.BGP, route.via, 0, route.others)


def _fixed(config: RouterConfig, alive: Collection[str]) -> Iterator[Route]:
    for name, prefix in config.networks:
        yield Route(prefix, RouteKind.CONNECTED, name)
    for name, tunnel in config.tunnels.items():
        for ends in tunnel.inside:
            yield Route(ends.block, RouteKind.CONNECTED, name)
    for way in config.static:
        if way.tunnel in alive:
            yield Route(way.prefix, RouteKind.STATIC, way.tunnel, way.metric)
