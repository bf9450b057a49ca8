"""The network of a settled design: routers, what they advertise and what they learn.

Routers are the site gateways by name, the cloud gateways by the names of their clouds, and each
route table of a hub as `hub/table`: a table learns from some and advertises to those who
use it. The same decision process and policy as in the practice devices.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator
from typing import Any, NamedTuple

from obrin.core.address.dual import Dual
from obrin.core.address.prefix import Address, Prefix
from obrin.core.address.table import PrefixTable
from obrin.core.design.arrangement import SHARED
from obrin.core.routing.forwarding import Route, RouteKind, host_route
from obrin.core.routing.network import Network
from obrin.core.routing.path import Peer
from obrin.core.routing.policy import WELL_KNOWN, PrefixList, SessionPolicy
from obrin.core.routing.session import Session
from obrin.core.routing.stable import Stable
from obrin.core.settled.links import Bundle, Leg, SettledTunnel
from obrin.core.settled.model import Settled
from obrin.core.settled.sites import SettledGateway
from obrin.core.settled.telling import (
    announced_by_cloud,
    announced_by_site,
    led_through,
    summaries_of,
    summarised,
)
from obrin.core.settled.ways import Attachment, Neighbour, Router


def local_pref(preference: int) -> int:
    """What both ends set for a tunnel, so that both directions prefer the same one."""
    return max(200 - preference, 101)


def preference_of(local_pref: int) -> int:
    """The preference that led to it."""
    return 200 - local_pref


def site_policy(settled: Settled, leg: Leg, accept: PrefixList | None = None) -> SessionPolicy:
    """The site gateway's side of a leg's session; `accept` where that has been made already."""
    bundle, gateway = settled.bundle(leg), settled.gateways[leg.gateway]
    return SessionPolicy(
        local_as=gateway.as_number,
        peer_as=settled.clouds[leg.cloud].as_number,
        accept=accept or PrefixList(accepted_at_site(settled, bundle)),
        local_pref=local_pref(session_preference(settled, leg)),
        prepend=bundle.prepend,
        med=_med(settled, bundle, leg),
        communities=tuple(WELL_KNOWN[name] for name in bundle.communities),
        limit=gateway.maximum_prefixes,
    )


def session_preference(settled: Settled, leg: Leg) -> int:
    """The preference of the first tunnel of its session."""
    sessions = settled.sessions_over(leg)
    return sessions[0].first.preference if sessions else leg.preference


def _med(settled: Settled, bundle: Bundle, leg: Leg) -> int | None:
    return session_preference(settled, leg) if bundle.sends_med else None


def advertised_before_summaries(settled: Settled, bundle: Bundle) -> tuple[Prefix, ...]:
    """What the cloud has for the site, in order: its space, and behind a hub what the site's table
    there learns of sites."""
    own, table = tuple(part.seen for part in bundle.cloud_exposures), _table(settled, bundle)
    key = bundle.cloud, table, own
    if key not in settled.advertised_over_hubs:
        others = led_through(settled.clouds, settled.bundles(), bundle)
        settled.advertised_over_hubs[key] = tuple(sorted({*own, *others})) if others else own
    return settled.advertised_over_hubs[key]


def accepted_at_site(settled: Settled, bundle: Bundle) -> tuple[Prefix, ...]:
    """The same once the summaries stand for what is inside them."""
    advertised, summaries = advertised_before_summaries(settled, bundle), summaries_of(bundle)[1]
    if not summaries:
        return advertised
    key = bundle.cloud, _table(settled, bundle), bundle.cloud_exposures, summaries
    if key not in settled.advertised_over_hubs:
        settled.advertised_over_hubs[key] = summarised(advertised, summaries)
    return settled.advertised_over_hubs[key]


def _table(settled: Settled, bundle: Bundle) -> str:
    """The name of the hub's table that it uses, or empty."""
    table = settled.clouds[bundle.cloud].table_of(bundle.name)
    return "" if table is None else table.name


def cloud_policy(settled: Settled, leg: Leg, accept: PrefixList | None = None) -> SessionPolicy:
    """The cloud instance's side of a leg's session; hubs pass on what they learn."""
    bundle = settled.bundle(leg)
    return SessionPolicy(
        local_as=settled.clouds[leg.cloud].as_number,
        peer_as=settled.gateways[leg.gateway].as_number,
        accept=accept or PrefixList(announced_by_site(bundle)),
        local_pref=local_pref(session_preference(settled, leg)),
        summaries=summaries_of(bundle)[1],
        med=_med(settled, bundle, leg),
        passes_on=settled.clouds[leg.cloud].is_hub,
    )


class _Sessions:
    """Makes the sessions of a design; lists that are equal are made once."""

    def __init__(self, settled: Settled) -> None:
        self.settled = settled
        self._lists: dict[tuple[Prefix, ...], PrefixList] = {}
        self._at_table: dict[object, PrefixList] = {}

    def all(self) -> Iterator[Session]:
        for bundle in self.settled.bundles():
            yield from self._bundle(bundle)
        for hub in self.settled.clouds.values():
            for member in hub.members:
                yield from self._attached(hub.name, member)
        for gateway in self.settled.gateways.values():
            yield from self._internal(gateway)

    def _listed(self, prefixes: tuple[Prefix, ...]) -> PrefixList:
        if prefixes not in self._lists:
            self._lists[prefixes] = PrefixList(prefixes)
        return self._lists[prefixes]

    def _heard_at_site(self, bundle: Bundle) -> PrefixList:
        """Sites that use the same table of a hub get the same routes."""
        table = self.settled.clouds[bundle.cloud].table_of(bundle.name)
        if table is None:
            return self._listed(announced_by_cloud(bundle))
        key = bundle.cloud, table.name, summaries_of(bundle)[1]
        if key not in self._at_table:
            self._at_table[key] = self._listed(accepted_at_site(self.settled, bundle))
        return self._at_table[key]

    def _bundle(self, bundle: Bundle) -> Iterator[Session]:
        settled = self.settled
        cloud = settled.clouds[bundle.cloud]
        near, far = self._listed(announced_by_site(bundle)), announced_by_cloud(bundle)
        heard = self._heard_at_site(bundle)
        tables = [t.name for t in cloud.hub_tables if bundle.name in t.learns]
        used = [t.name for t in cloud.hub_tables if bundle.name in t.users]
        by_session = cloud.is_hub and bundle.routing != "static"
        # A hub has no other routes of its own to advertise: the rest comes from the members.
        own = self._listed(summaries_of(bundle)[1] if by_session else far)
        for leg in bundle.legs:
            gateway = settled.gateways[leg.gateway]
            at_site, at_cloud = site_policy(settled, leg, heard), cloud_policy(settled, leg, near)
            identifier = cloud.router_id(leg.instance if isinstance(leg, SettledTunnel) else 1)
            for spoken in _spoken(settled, leg):
                alike: dict[str, Any] = {
                    "via": leg.label,
                    "metric": leg.preference if bundle.routing == "static" else None,
                    "distance": leg.preference - session_preference(settled, leg),
                }
                for router in [Router(cloud.name, n).label for n in tables] or [cloud.name]:
                    yield Session(
                        sender=gateway.name,
                        receiver=router,
                        export=at_site,
                        accept=at_cloud,
                        peer=spoken.peer(0, leg, gateway.as_number, gateway.router_id),
                        next_hop=spoken.hops[0],
                        announces=near,
                        far_peers=spoken.far_peers and spoken.far_peers[::-1],
                        **alike,
                    )
                for router in [Router(cloud.name, n).label for n in used] or [cloud.name]:
                    yield Session(
                        sender=router,
                        receiver=gateway.name,
                        export=at_cloud,
                        accept=at_site,
                        peer=spoken.peer(1, leg, cloud.as_number, identifier),
                        next_hop=spoken.hops[1],
                        announces=own,
                        far_peers=spoken.far_peers,
                        **alike,
                    )

    def _attached(self, hub: str, member: str) -> Iterator[Session]:
        """A member advertises its space to the hub and learns what its table there has."""
        cloud, way = self.settled.clouds[member], Attachment(hub, member).label
        centre = self.settled.clouds[hub]
        policy = SessionPolicy(local_as=cloud.as_number, peer_as=centre.as_number, attached=True)
        back = SessionPolicy(
            local_as=centre.as_number, peer_as=cloud.as_number, attached=True, passes_on=True
        )
        one, other = (
            Peer(way, at.as_number, Address(32, at.router_id(1)), at.router_id(1), external=False)
            for at in (cloud, centre)
        )
        spaces = self._listed(cloud.all_spaces)
        for table in centre.hub_tables:
            router = Router(hub, table.name).label
            if member in table.learns:
                yield Session(
                    via=way,
                    sender=member,
                    receiver=router,
                    export=policy,
                    accept=back,
                    peer=one,
                    next_hop=Dual(cloud.router_id(1), cloud.router_id(1)),
                    announces=spaces,
                )
            if member in table.users:
                yield Session(
                    via=way,
                    sender=router,
                    receiver=member,
                    export=back,
                    accept=policy,
                    peer=other,
                    next_hop=Dual(centre.router_id(1), centre.router_id(1)),
                )

    def _internal(self, one: SettledGateway) -> Iterator[Session]:
        """A gateway advertises to the others of its site what it learned from the clouds."""
        policy = SessionPolicy(
            local_as=one.as_number, peer_as=one.as_number, passes_on=True, next_hop_self=True
        )
        way = Neighbour(one.name).label
        identifier = Address(32, one.router_id)
        peer = Peer(way, one.as_number, identifier, one.router_id, external=False)
        for other in self.settled.internal_peers(one.name):
            yield Session(
                via=way,
                sender=one.name,
                receiver=other.name,
                export=policy,
                accept=policy,
                peer=peer,
                next_hop=Dual(one.router_id, one.router_id),
            )


class _Spoken(NamedTuple):
    """What one session on a leg is, the site's part first: its ends, the next hops that are
    advertised, and the ends once more where they are beyond the leg."""

    ends: tuple[Address, Address]
    hops: tuple[Dual[int], Dual[int]]
    far_peers: tuple[Address, Address] | None

    def peer(self, whose: int, leg: Leg, asn: int, identifier: int) -> Peer:
        return Peer(leg.label, asn, self.ends[whose], identifier)


def _spoken(settled: Settled, leg: Leg) -> Iterator[_Spoken]:
    """The sessions on a leg; static routes are known as if one session had advertised them."""
    found = [(leg.peers, tuple(block.bits for block in leg.inside))]
    if isinstance(leg, SettledTunnel):
        found = [(s.ends, s.families) for s in settled.sessions_over(leg)] or found
    for ends, families in found:
        yield _Spoken(ends, _hops(leg, ends, families), ends if leg.ends_beyond else None)


def _hops(
    leg: Leg, peers: tuple[Address, Address], families: Collection[int]
) -> tuple[Dual[int], Dual[int]]:
    """The next hops of site and cloud on a leg; in the session's own family, where it ends."""
    ends = {block.bits: leg.ends_inside(block) for block in leg.inside}
    ends[peers[0].bits] = peers
    carried = {bits: pair for bits, pair in ends.items() if bits in families}
    site = {bits: pair[0].value for bits, pair in carried.items()}
    cloud = {bits: pair[1].value for bits, pair in carried.items()}
    return Dual(site.get(32), site.get(128)), Dual(cloud.get(32), cloud.get(128))


def routers_of(settled: Settled, place: str) -> list[str]:
    """The routers of a site gateway, cloud or hub."""
    cloud = settled.clouds.get(place)
    if cloud is None or not cloud.is_hub:
        return [place]
    return [Router(place, table.name).label for table in cloud.hub_tables]


def entered(settled: Settled, via: str, router: str) -> str:
    """The router at which packets come out that leave `router` by a way."""
    way = settled.way(via)
    if isinstance(way, Neighbour):
        return way.gateway
    if isinstance(way, Attachment):
        at_hub = settled.index.routers[router].place == way.hub
        return way.member if at_hub else _table_of(settled, way.hub, way.member)
    if router != way.gateway:
        return way.gateway
    return _table_of(settled, way.cloud, settled.bundle(way).name)


def _table_of(settled: Settled, cloud: str, user: str) -> str:
    table = settled.clouds[cloud].table_of(user)
    return cloud if table is None else Router(cloud, table.name).label


def network_of(settled: Settled) -> Network:
    """Everything that the stable state of a design follows from."""
    fixed: dict[str, list[Route]] = {}
    for gateway in settled.gateways.values():
        fixed[gateway.name] = [
            Route(prefix, RouteKind.CONNECTED, name)
            for name, network in gateway.networks.items()
            for prefix in network.prefix
        ]
    for cloud in settled.clouds.values():
        for router in routers_of(settled, cloud.name):
            fixed[router] = [
                Route(prefix, RouteKind.CONNECTED, name)
                for name, subnet in cloud.subnets.items()
                for prefix in subnet.prefix
            ]
    for leg in settled.legs():
        for block in leg.inside:
            route = Route(block, RouteKind.CONNECTED, leg.label)
            for router in (leg.gateway, *routers_of(settled, leg.cloud)):
                fixed[router].append(route)
        near, far = leg.peers
        if leg.ends_beyond:
            _lead(fixed, leg, leg.gateway, far)
            for router in _speakers(settled, leg):
                _lead(fixed, leg, router, near)
    shared: dict[str, set[str]] = {}
    for tunnel in settled.tunnels():
        if tunnel.role == SHARED:
            for router in (tunnel.gateway, *routers_of(settled, tunnel.cloud)):
                shared.setdefault(router, set()).add(tunnel.label)
    return Network(
        _Sessions(settled).all(), fixed, {r: frozenset(found) for r, found in shared.items()}
    )


def _speakers(settled: Settled, leg: Leg) -> list[str]:
    """The routers at the cloud's end that its sessions speak with."""
    cloud, name = settled.clouds[leg.cloud], settled.bundle(leg).name
    tables = (t for t in cloud.hub_tables if name in t.learns or name in t.users)
    return [Router(cloud.name, table.name).label for table in tables] or [cloud.name]


def _lead(fixed: dict[str, list[Route]], leg: Leg, router: str, peer: Address) -> None:
    """The host route by which a peer beyond the tunnel is reached, never by what it advertises
    itself; one inside needs none."""
    host = host_route(peer, leg.inside)
    if host is not None:
        fixed[router].append(Route(host, RouteKind.STATIC, leg.label, leg.preference))


def all_up(settled: Settled) -> frozenset[str]:
    """Labels of all tunnels and circuits."""
    return frozenset(leg.label for leg in settled.legs())


def state_of(settled: Settled, up: Collection[str] | None = None) -> Stable:
    """The stable state with these legs up; all of them when left out."""
    whole = Stable(network_of(settled))
    if up is None:
        return whole
    return Stable(whole.network, all_up(settled) - frozenset(up), whole)


def table_of(settled: Settled, router: str, up: Collection[str]) -> PrefixTable[Route]:
    """The forwarding table of one router; `via` is a network, a subnet or a way."""
    table: PrefixTable[Route] = PrefixTable()
    for prefix, route in state_of(settled, up).table(router):
        table[prefix] = route
    return table
