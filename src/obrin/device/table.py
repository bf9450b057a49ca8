"""The forwarding table of a router: its networks, its tunnels, what is static, what was learned."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping

from obrin.core.address.prefix import Prefix
from obrin.core.address.table import PrefixTable
from obrin.core.routing.decision import Decision
from obrin.core.routing.forwarding import Route, RouteKind, bgp_routes, forwarding_table
from obrin.device.config import RouterConfig


def table_of(
    config: RouterConfig, alive: Collection[str], decisions: Mapping[Prefix, Decision]
) -> PrefixTable[Route]:
    """With the tunnels that are `alive`, and what BGP decided."""
    shared = {name for name, tunnel in config.tunnels.items() if tunnel.shared}
    return forwarding_table((*_fixed(config, alive), *bgp_routes(decisions, shared)))


def _fixed(config: RouterConfig, alive: Collection[str]) -> Iterator[Route]:
    for name, prefix in config.networks:
        yield Route(prefix, RouteKind.CONNECTED, name)
    for name, tunnel in config.tunnels.items():
        for ends in tunnel.inside:
            yield Route(ends.block, RouteKind.CONNECTED, name)
    for way in config.static:
        if way.tunnel in alive:
            yield Route(way.prefix, RouteKind.STATIC, way.tunnel, way.metric)
