"""Every table of a settled design, before anything exists, for any set of tunnels that are up.

The same decision process, policy and forwarding table as in the practice devices.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping

from obrin.core.address.prefix import Prefix
from obrin.core.address.table import PrefixTable
from obrin.core.design.arrangement import SHARED
from obrin.core.design.settled import Settled, SettledLink, SettledTunnel
from obrin.core.routing.decision import Decision, decide
from obrin.core.routing.forwarding import Route, RouteKind, forwarding_table
from obrin.core.routing.path import Candidate, Path, Peer
from obrin.core.routing.policy import SessionPolicy, export_path, import_path


def local_pref(preference: int) -> int:
    """What both ends set for a tunnel, so that both directions prefer the same one."""
    return max(200 - preference, 101)


def announced_by_site(link: SettledLink) -> tuple[Prefix, ...]:
    """The site's networks as the cloud knows them."""
    return tuple(sorted({part.seen for part in link.exposures}))


def announced_by_cloud(link: SettledLink) -> tuple[Prefix, ...]:
    """The cloud's space as the site knows it."""
    return tuple(part.seen for part in link.cloud_exposures)


def site_policy(settled: Settled, tunnel: SettledTunnel) -> SessionPolicy:
    """The site gateway's side of a tunnel's session."""
    cloud = settled.clouds[tunnel.cloud]
    return SessionPolicy(
        settled.gateways[tunnel.gateway].asn,
        cloud.asn,
        announced_by_cloud(settled.links[tunnel.link]),
        local_pref(tunnel.preference),
    )


def cloud_policy(settled: Settled, tunnel: SettledTunnel) -> SessionPolicy:
    """The cloud instance's side of a tunnel's session."""
    return SessionPolicy(
        settled.clouds[tunnel.cloud].asn,
        settled.gateways[tunnel.gateway].asn,
        announced_by_site(settled.links[tunnel.link]),
        local_pref(tunnel.preference),
    )


def site_decisions(
    settled: Settled, gateway: str, up: Collection[str]
) -> tuple[dict[Prefix, Decision], list[str]]:
    """What a site gateway learns by BGP and chooses; and why it refuses the rest."""
    return _choose(_site_offers(settled, gateway, up))


Offer = tuple[Prefix, Path, Peer, SessionPolicy]


def _site_offers(settled: Settled, gateway: str, up: Collection[str]) -> list[Offer]:
    offers: list[Offer] = []
    for tunnel in settled.tunnels_at(gateway):
        if _speaks(settled, tunnel, up):
            cloud = settled.clouds[tunnel.cloud]
            sender, receiver = cloud_policy(settled, tunnel), site_policy(settled, tunnel)
            peer = Peer(
                tunnel.label, cloud.asn, tunnel.cloud_inside, cloud.router_id(tunnel.instance)
            )
            path = export_path(sender, Path(tunnel.cloud_inside), tunnel.cloud_inside)
            offers += [
                (p, path, peer, receiver) for p in announced_by_cloud(settled.links[tunnel.link])
            ]
    return offers


def cloud_decisions(
    settled: Settled, cloud: str, up: Collection[str]
) -> tuple[dict[Prefix, Decision], list[str]]:
    """What a cloud gateway's instances learn together and choose."""
    return _choose(_cloud_offers(settled, cloud, up))


def _cloud_offers(settled: Settled, cloud: str, up: Collection[str]) -> list[Offer]:
    offers: list[Offer] = []
    for tunnel in settled.tunnels_at(cloud):
        if _speaks(settled, tunnel, up):
            gateway = settled.gateways[tunnel.gateway]
            sender, receiver = site_policy(settled, tunnel), cloud_policy(settled, tunnel)
            peer = Peer(tunnel.label, gateway.asn, tunnel.site_inside, gateway.router_id)
            path = export_path(sender, Path(tunnel.site_inside), tunnel.site_inside)
            networks = announced_by_site(settled.links[tunnel.link])
            offers += [(p, path, peer, receiver) for p in networks]
    return offers


def _speaks(settled: Settled, tunnel: SettledTunnel, up: Collection[str]) -> bool:
    return tunnel.label in up and settled.links[tunnel.link].routing == "bgp"


def _taken(
    offers: Iterable[Offer],
) -> tuple[dict[Prefix, list[Candidate]], list[str]]:
    """What import policies let in, by prefix; and why they refuse the rest."""
    candidates: dict[Prefix, list[Candidate]] = {}
    refused: list[str] = []
    for prefix, path, peer, policy in offers:
        taken = import_path(policy, prefix, path)
        if isinstance(taken, str):
            refused.append(f"{prefix} over {peer.name}: {taken}")
        else:
            candidates.setdefault(prefix, []).append(Candidate(prefix, taken, peer))
    return candidates, refused


def _choose(
    offers: Iterable[Offer],
) -> tuple[dict[Prefix, Decision], list[str]]:
    candidates, refused = _taken(offers)
    return {prefix: decide(found) for prefix, found in candidates.items()}, refused


def bgp_routes(decisions: Mapping[Prefix, Decision], shared: Collection[str]) -> list[Route]:
    """What was chosen, as routes; tunnels that are `shared` carry what equals the winner."""
    return [
        Route(
            prefix, RouteKind.BGP, d.winner.peer.name, as_path=d.winner.path.as_path,
            others=tuple(c.peer.name for c in d.equals if c.peer.name in shared)
            if shared and d.winner.peer.name in shared else (),
        )
        for prefix, d in decisions.items()
    ]  # fmt: skip


def shared_at(settled: Settled, place: str) -> frozenset[str]:
    """Tunnels at a place that share."""
    return frozenset(t.label for t in settled.tunnels_at(place) if t.role == SHARED)


def site_table(settled: Settled, gateway: str, up: Collection[str]) -> PrefixTable[Route]:
    """The forwarding table of a site gateway; `via` is a network or a tunnel's label."""
    learned = site_decisions(settled, gateway, up)[0]
    routes = _site_routes(settled, gateway, up)
    return forwarding_table(routes + bgp_routes(learned, shared_at(settled, gateway)))


def _site_routes(settled: Settled, gateway: str, up: Collection[str]) -> list[Route]:
    """Connected and static ones."""
    routes = [
        Route(prefix, RouteKind.CONNECTED, name)
        for name, prefix in settled.gateways[gateway].networks.items()
    ]
    for tunnel in settled.tunnels_at(gateway):
        if tunnel.label in up:
            routes.append(Route(tunnel.inside, RouteKind.CONNECTED, tunnel.label))
            if settled.links[tunnel.link].routing == "static":
                for prefix in announced_by_cloud(settled.links[tunnel.link]):
                    routes.append(Route(prefix, RouteKind.STATIC, tunnel.label, tunnel.preference))
    return routes


def cloud_table(settled: Settled, cloud: str, up: Collection[str]) -> PrefixTable[Route]:
    """What the cloud gateway knows; subnets see it where propagation is on."""
    learned = cloud_decisions(settled, cloud, up)[0]
    routes = _cloud_routes(settled, cloud, up)
    return forwarding_table(routes + bgp_routes(learned, shared_at(settled, cloud)))


def _cloud_routes(settled: Settled, cloud: str, up: Collection[str]) -> list[Route]:
    """Connected and static ones."""
    routes = [
        Route(subnet.prefix, RouteKind.CONNECTED, name)
        for name, subnet in settled.clouds[cloud].subnets.items()
    ]
    for tunnel in settled.tunnels_at(cloud):
        if tunnel.label in up:
            routes.append(Route(tunnel.inside, RouteKind.CONNECTED, tunnel.label))
            if settled.links[tunnel.link].routing == "static":
                for prefix in announced_by_site(settled.links[tunnel.link]):
                    routes.append(Route(prefix, RouteKind.STATIC, tunnel.label, tunnel.preference))
    return routes


def all_up(settled: Settled) -> frozenset[str]:
    """Labels of all tunnels."""
    return frozenset(t.label for t in settled.tunnels())


def possible(settled: Settled, place: str) -> tuple[list[Route], dict[Prefix, list[Candidate]]]:
    """All connected and static routes, and all BGP candidates, that a place has with all up."""
    up = all_up(settled)
    if place in settled.clouds:
        offers, routes = _cloud_offers(settled, place, up), _cloud_routes(settled, place, up)
    else:
        offers, routes = _site_offers(settled, place, up), _site_routes(settled, place, up)
    return routes, _taken(offers)[0]
