"""Every table of the network as rows: what is in use, what lost by which rule, what was refused."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from dataclasses import dataclass

from obrin.core.address.prefix import Prefix, format_address
from obrin.core.address.table import PrefixTable
from obrin.core.design.settled import Settled
from obrin.core.routing.decision import Decision
from obrin.core.routing.forwarding import Route, RouteKind
from obrin.core.routing.model import cloud_decisions, cloud_table, site_decisions, site_table

IN_USE, SHARES, BACKUP, REFUSED = "in use", "shares", "not used", "refused"


@dataclass(frozen=True, slots=True)
class Row:
    """One route in one table. `why` says why it is used, or by which rule it lost."""

    table: str
    prefix: Prefix
    kind: str
    via: str
    next_hop: str
    as_path: tuple[int, ...]
    local_pref: int | None
    state: str
    why: str


def table_names(settled: Settled) -> list[str]:
    """Site gateways, cloud gateways, and the route tables of subnets."""
    subnets = [f"{c.name}/{name}" for c in settled.clouds.values() for name in c.subnets]
    return [*settled.gateways, *settled.clouds, *subnets]


def rows(settled: Settled, name: str, up: Collection[str]) -> list[Row]:
    """One table, by prefix, what is in use first. Raises KeyError for an unknown table."""
    place, _, subnet = name.partition("/")
    if subnet:
        found = list(_subnet(settled, place, subnet, up))
    elif place in settled.clouds:
        found = list(_router(settled, place, up, cloud_decisions(settled, place, up)[0]))
    else:
        found = list(_router(settled, place, up, site_decisions(settled, place, up)[0]))
    order = {IN_USE: 0, SHARES: 1, BACKUP: 2, REFUSED: 3}
    return sorted(found, key=lambda row: (row.prefix, order[row.state], row.via))


def _router(
    settled: Settled, place: str, up: Collection[str], decisions: dict[Prefix, Decision]
) -> Iterator[Row]:
    cloud = place in settled.clouds
    table = (cloud_table if cloud else site_table)(settled, place, up)
    for prefix, route in table.items():
        if route.kind is RouteKind.BGP:
            continue
        for via in (route.via, *route.others):
            what = "its own" if route.kind is RouteKind.CONNECTED else "static"
            why = f"{what}: preferred to what BGP tells" if prefix in decisions else what
            state = IN_USE if via == route.via else SHARES
            hop = _next_hop(settled, via, cloud=cloud)
            yield Row(place, prefix, route.kind.label, via, hop, (), None, state, why)
    yield from _static_backups(settled, place, up, table)
    for prefix, decision in decisions.items():
        route_used = table.get(prefix)
        learned = route_used is not None and route_used.kind is RouteKind.BGP
        shared = route_used.others if learned and route_used is not None else ()
        winner = decision.winner
        for candidate, rule in ((winner, ""), *decision.losers):
            state = IN_USE if candidate is winner and learned else BACKUP
            why = _why_won(decision) if candidate is winner else f"lost: {rule}"
            if candidate.peer.name in shared:
                state, why = SHARES, "as good as the first, and shared"
            elif candidate is winner and not learned:
                why = "lost: a connected or static route comes first"
            yield Row(
                place, prefix, "bgp", candidate.peer.name, format_address(candidate.path.next_hop),
                candidate.path.as_path, candidate.path.local_pref, state, why,
            )  # fmt: skip


def _why_won(decision: Decision) -> str:
    """The rule that decided last, which is the one that mattered most."""
    if not decision.losers:
        return "the only one"
    rules = list(dict.fromkeys(rule for _, rule in decision.losers))
    return "won: " + ", ".join(rules)


def _static_backups(
    settled: Settled, place: str, up: Collection[str], table: PrefixTable[Route]
) -> Iterator[Row]:
    """Static routes that stand behind a better one in the table."""
    cloud = place in settled.clouds
    for tunnel in settled.tunnels_at(place):
        link = settled.links[tunnel.link]
        if link.routing != "static" or tunnel.label not in up:
            continue
        parts = link.exposures if cloud else link.cloud_exposures
        for prefix in dict.fromkeys(part.seen for part in parts):
            used = table.get(prefix)
            if used is not None and tunnel.label not in (used.via, *used.others):
                hop = _next_hop(settled, tunnel.label, cloud=cloud)
                why = "lost: lower metric"
                yield Row(place, prefix, "static", tunnel.label, hop, (), None, BACKUP, why)


def _subnet(settled: Settled, place: str, subnet: str, up: Collection[str]) -> Iterator[Row]:
    """A cloud subnet's own table: the cloud's space, and what propagation brings."""
    cloud, name = settled.clouds[place], f"{place}/{subnet}"
    entry = cloud.subnets[subnet]
    for space in cloud.spaces:
        yield Row(name, space, "local", place, "", (), None, IN_USE, "the cloud's own space")
    for row in rows(settled, place, up):
        if row.kind not in ("bgp", "static") or row.state not in (IN_USE, SHARES):
            continue
        state, why = row.state, "propagated from the cloud gateway"
        if not entry.propagation:
            state, why = REFUSED, "propagation is off at this subnet"
        yield Row(name, row.prefix, row.kind, row.via, row.next_hop, row.as_path,
                  row.local_pref, state, why)  # fmt: skip


def _next_hop(settled: Settled, via: str, *, cloud: bool) -> str:
    try:
        tunnel = settled.tunnel(via)
    except KeyError:
        return ""
    return format_address(tunnel.site_inside if cloud else tunnel.cloud_inside)


@dataclass(frozen=True, slots=True)
class Told:
    """What one end of a session tells the other, and what becomes of it."""

    tunnel: str
    by: str
    to: str
    prefixes: tuple[Prefix, ...]
    refused: tuple[str, ...]


def sessions(settled: Settled, up: Collection[str]) -> Iterator[Told]:
    """Both directions of every BGP session that is up."""
    for link in settled.links.values():
        if link.routing != "bgp":
            continue
        here = tuple(dict.fromkeys(part.seen for part in link.exposures))
        there = tuple(dict.fromkeys(part.seen for part in link.cloud_exposures))
        for tunnel in link.tunnels:
            if tunnel.label not in up:
                continue
            at_cloud = cloud_decisions(settled, link.cloud, {tunnel.label})[1]
            at_site = site_decisions(settled, tunnel.gateway, {tunnel.label})[1]
            yield Told(tunnel.label, tunnel.gateway, link.cloud, here, tuple(at_cloud))
            yield Told(tunnel.label, link.cloud, tunnel.gateway, there, tuple(at_site))
