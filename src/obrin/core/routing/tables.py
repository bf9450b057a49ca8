"""Every table of the network as rows: what is in use, what lost by which rule, what was refused."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from obrin.core.address.prefix import Prefix, format_address
from obrin.core.design.joining import NOWHERE
from obrin.core.design.places import NetworkRef
from obrin.core.routing.decision import Decision, why_lost
from obrin.core.routing.forwarding import Route, RouteKind
from obrin.core.routing.held import Heard
from obrin.core.routing.model import routers_of
from obrin.core.routing.path import AsPath
from obrin.core.routing.stable import Stable
from obrin.core.settled.model import Settled
from obrin.core.settled.ways import Attachment

LEADS_TO_PEER = "leads to the BGP peer beyond the tunnel"
IN_USE, SHARES, BACKUP, REFUSED = "in use", "shares", "not used", "refused"


@dataclass(frozen=True, slots=True, kw_only=True)
class Row:
    """One route in one table. `why` says why it is used, or by which rule it lost. `next_hop` is
    empty where it leads to what is attached; the last two are BGP's."""

    table: str
    prefix: Prefix
    kind: str
    via: str
    state: str
    why: str
    next_hop: str = ""
    as_path: AsPath = ()
    local_pref: int | None = None


def table_names(settled: Settled) -> list[str]:
    """Site gateways, cloud gateways, route tables of hubs, and those of subnets."""
    clouds = [router for name in settled.clouds for router in routers_of(settled, name)]
    subnets = [f"{c.name}/{name}" for c in settled.clouds.values() for name in c.subnets]
    return [*settled.gateways, *clouds, *subnets]


def table_rows(settled: Settled, name: str, stable: Stable) -> list[Row]:
    """One table, by prefix, what is in use first. Raises KeyError for an unknown table."""
    if name in settled.index.routers:
        found = list(_router(settled, name, stable))
    else:
        subnet = NetworkRef.of(name)
        found = list(_subnet(settled, subnet.place, subnet.network, stable))
    order = {IN_USE: 0, SHARES: 1, BACKUP: 2, REFUSED: 3}
    return sorted(found, key=lambda row: (row.prefix, order[row.state], row.via))


def _router(settled: Settled, router: str, stable: Stable) -> Iterator[Row]:
    for prefix in stable.network.near(router):
        used = stable.route(router, prefix)
        heard = stable.heard(router, prefix)
        learned = heard.static or heard.decision is not None
        if used is not None and used.kind is RouteKind.CONNECTED:
            why = "its own: preferred to what BGP learns" if learned else "its own"
            hop = _own_hop(settled, used.via, router)
            yield Row(
                table=router,
                prefix=prefix,
                kind="connected",
                via=used.via,
                next_hop=hop,
                state=IN_USE,
                why=why,
            )
        if used is not None and used.kind is RouteKind.STATIC and not heard.static:
            yield Row(
                table=router,
                prefix=prefix,
                kind="static",
                via=used.via,
                next_hop=_own_hop(settled, used.via, router),
                state=IN_USE,
                why=LEADS_TO_PEER,
            )
        yield from _static(router, prefix, heard, used)
        if heard.decision is not None:
            yield from _advertised(settled, router, prefix, heard.decision, used)
        for session, reason in heard.refused:
            yield Row(
                table=router,
                prefix=prefix,
                kind="bgp",
                via=session.via,
                state=REFUSED,
                why=reason,
            )


def _static(router: str, prefix: Prefix, heard: Heard, used: Route | None) -> Iterator[Row]:
    for session in heard.static:
        state, why = BACKUP, "lost: higher metric"
        if used is not None and used.kind is RouteKind.STATIC:
            if session.via == used.via:
                better = heard.decision is not None
                state, why = IN_USE, "static: preferred to what BGP learns" if better else "static"
            elif session.via in used.others:
                state, why = SHARES, "static"
        hop = format_address(session.next_hop.of(prefix.bits) or 0, prefix.bits)
        yield Row(
            table=router,
            prefix=prefix,
            kind="static",
            via=session.via,
            next_hop=hop,
            state=state,
            why=why,
        )


def _advertised(
    settled: Settled, router: str, prefix: Prefix, decision: Decision, used: Route | None
) -> Iterator[Row]:
    learned = used is not None and used.kind is RouteKind.BGP
    shared = used.others if learned and used is not None else ()
    winner = decision.winner
    for candidate, rule in ((winner, ""), *decision.losers):
        state = IN_USE if candidate is winner and learned else BACKUP
        why = _why_won(decision)
        if candidate is not winner:
            why = f"lost: {why_lost(candidate, winner, rule)}"
        if candidate.peer.name in shared:
            state, why = SHARES, "as good as the first, and shared"
        elif candidate is winner and not learned:
            why = "lost: a connected or static route comes first"
        attached = isinstance(settled.way(candidate.peer.name), Attachment)
        yield Row(
            table=router,
            prefix=prefix,
            kind="attached" if attached else "bgp",
            via=candidate.peer.name,
            next_hop=format_address(candidate.path.next_hop, prefix.bits),
            as_path=candidate.path.as_path,
            local_pref=candidate.path.local_pref,
            state=state,
            why=why,
        )


def _why_won(decision: Decision) -> str:
    """The rule that decided last, which is the one that mattered most."""
    if not decision.losers:
        return "the only one"
    rules = list(dict.fromkeys(rule for _, rule in decision.losers))
    return "won: " + ", ".join(rules)


def _subnet(settled: Settled, place: str, subnet: str, stable: Stable) -> Iterator[Row]:
    """A cloud subnet's own table: the cloud's space, its own routes, and what propagation brings.

    At equal prefixes its own route comes before a propagated one.
    """
    cloud, name = settled.clouds[place], f"{place}/{subnet}"
    entry = cloud.subnets[subnet]
    for space in cloud.all_spaces:
        yield Row(
            table=name,
            prefix=space,
            kind="local",
            via=place,
            state=IN_USE,
            why="the cloud's own space",
        )
    own = dict(entry.routes)
    for prefix, target in own.items():
        why = "its own: dropped" if target == NOWHERE else "its own"
        yield Row(
            table=name,
            prefix=prefix,
            kind="static",
            via=target,
            state=IN_USE,
            why=why,
        )
    for row in _router(settled, place, stable):
        if row.kind == "connected" or row.why == LEADS_TO_PEER or row.state not in (IN_USE, SHARES):
            continue
        state, why = row.state, "propagated from the cloud gateway"
        if row.kind == "attached":
            why = "propagated from the hub"
        if not entry.propagation:
            state, why = REFUSED, "propagation is off at this subnet"
        elif row.prefix in own:
            state, why = BACKUP, "lost: the table's own route comes first"
        yield Row(
            table=name,
            prefix=row.prefix,
            kind=row.kind,
            via=row.via,
            next_hop=row.next_hop,
            as_path=row.as_path,
            local_pref=row.local_pref,
            state=state,
            why=why,
        )


def _own_hop(settled: Settled, via: str, router: str) -> str:
    """The far end of a tunnel's or circuit's own block; nothing for a network."""
    leg = settled.index.by_label.get(via)
    if leg is None:
        return ""
    return str(leg.cloud_inside if router == leg.gateway else leg.site_inside)


@dataclass(frozen=True, slots=True)
class Advertised:
    """What one end of a session advertises, and what the other does not accept."""

    tunnel: str
    by: str
    to: str
    prefixes: tuple[Prefix, ...]
    refused: tuple[str, ...]


def sessions(stable: Stable) -> Iterator[Advertised]:
    """Both directions of every session that is up, and what crosses attachments."""
    over = stable.over_limit()
    for session in stable.network.sessions:
        if session.static or session.via in stable.lost:
            continue
        if session in over:
            limit = session.accept.limit
            reason = f"more than {limit} prefixes: the session ends (RFC 4486)"
            yield Advertised(session.via, session.sender, session.receiver, (), (reason,))
            continue
        advertised: list[Prefix] = []
        refused: list[str] = []
        for kind, why in stable.advertised(session):
            advertised += kind.prefixes
            if why:
                refused += [f"{prefix}: {why}" for prefix in kind.prefixes]
        yield Advertised(
            session.via, session.sender, session.receiver, tuple(sorted(advertised)), tuple(refused)
        )
