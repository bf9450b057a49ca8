"""One packet through the model: each hop with the route or rule that decided, or where it stops."""

from __future__ import annotations

from dataclasses import dataclass, field, replace

from obrin.core.address.prefix import Address, Prefix
from obrin.core.address.translation import Exposure, inward, outward
from obrin.core.design.joining import GATEWAY, NOWHERE
from obrin.core.design.places import INTERNET, NetworkRef
from obrin.core.design.wishes import HostRule
from obrin.core.reach.beyond import caught, out_of_cloud, out_of_site
from obrin.core.reach.model import ReachModel
from obrin.core.routing.forwarding import Route, RouteKind
from obrin.core.routing.model import accepted_at_site, entered
from obrin.core.routing.packet import PacketKey
from obrin.core.settled.clouds import SettledSubnet
from obrin.core.settled.expected import Expected
from obrin.core.settled.links import Leg, SettledCircuit, SettledTunnel
from obrin.core.settled.model import Settled
from obrin.core.settled.sites import GATEWAYS, SettledGateway, SettledSite
from obrin.core.settled.telling import announced_by_site
from obrin.core.settled.ways import Attachment, Neighbour

MOST_HOPS = 16
FARTHEST = 1 << 30


@dataclass(frozen=True, slots=True)
class Trace:
    """`dropped` is empty when the packet arrives; `arrived` is the packet as it then is.

    `ways` are the tunnels, circuits and attachments that it takes, in order, and `filters` the
    places whose filters it was held against. `start` is where it began, `place` where it arrived.
    `hangs_on` are gateways that hosts leave by, whatever their routes are, as ways of their own.
    """

    hops: tuple[str, ...]
    dropped: str = ""
    arrived: PacketKey | None = None
    ways: tuple[str, ...] = ()
    filters: tuple[str, ...] = ()
    start: NetworkRef | None = None
    place: str = ""
    hangs_on: tuple[str, ...] = ()

    @property
    def tunnel(self) -> str:
        """The ways as one text; empty when it stops before the first, or needs none."""
        return " + ".join(self.ways)


def probe_key(settled: Settled, expectation: Expected) -> PacketKey:
    """The first packet that a probe of this expectation sends."""
    source, _ = settled.host(expectation.source, expectation.destination.place)
    _, destination = settled.host(expectation.destination, expectation.source.place)
    return PacketKey.first_of(expectation.flow, source, destination)


def far_key(settled: Settled, expectation: Expected) -> PacketKey:
    """The same packet as the far side sees it, where something is translated on the way."""
    near = expectation.source.place
    far = expectation.destination.place
    source = settled.host(expectation.source, far)[1]
    destination = settled.host(expectation.destination, near)[0]
    return probe_key(settled, expectation)._replace(source=source, destination=destination)


def trace(
    model: ReachModel,
    start: NetworkRef,
    key: PacketKey,
    *,
    answer: bool = False,
    meant: NetworkRef | None = None,
) -> Trace:
    """Follow a packet from a host in the network `start` through the model. An `answer` needs
    no leave of the firewall at the host that asked. Where it is said for whom it is `meant`, it
    must arrive there: elsewhere somebody else has the address."""
    walk = _Walk(model, start, [f"host {key.source} in {start}"], key, answer)
    if start.place in model.settled.clouds:
        found = walk.from_cloud(start.place, start.network)
    else:
        walk.by_inner_router(start.place, start.network)
        found = walk.from_site(start.place, start.network)
    if found.dropped or meant is None or meant.is_internet or found.place == meant.place:
        return found
    reason = f"{key.destination} is taken for a host of {found.place}, not of {meant.place}"
    return replace(found, dropped=reason, arrived=None)


@dataclass(slots=True)
class _Walk:
    """A packet on its way; `key` changes where it is translated."""

    model: ReachModel
    start: NetworkRef
    hops: list[str]
    key: PacketKey
    answer: bool
    ways: list[str] = field(default_factory=list)
    filters: list[str] = field(default_factory=list)
    hangs_on: tuple[str, ...] = ()

    def _stop(self, reason: str) -> Trace:
        ways, filters = tuple(self.ways), tuple(self.filters)
        hops, on = tuple(self.hops), self.hangs_on
        return Trace(hops, reason, None, ways, filters, self.start, hangs_on=on)

    def _arrive(self, place: str, *last: str) -> Trace:
        hops, ways, filters = (*self.hops, *last), tuple(self.ways), tuple(self.filters)
        return Trace(hops, "", self.key, ways, filters, self.start, place, self.hangs_on)

    @property
    def _target(self) -> str:
        return str(self.key.destination)

    def by_inner_router(self, site: str, network: str) -> None:
        """Say how a network is reached in which no gateway stands itself."""
        inner = self.model.settled.sites[site].networks[network].behind
        if any(inner):
            router = inner.of(self.key.destination.bits) or inner.first
            self.hops.append(f"inner router {router} of {site}")

    @property
    def _outbound(self) -> bool:
        """Whether it is on its way to the internet."""
        target = self.key.destination
        return target == self.model.settled.internet_host(target.bits)

    def _leave(self, place: str, reason: str) -> Trace:
        if reason:
            return self._stop(reason)
        return self._arrive(INTERNET, f"the internet, from {place} on its own way")

    def _first_hops(self, site: SettledSite) -> list[SettledGateway]:
        """Gateways that hosts of a site may leave by: all where they follow tunnels, else the
        first that is there, or the first alone. One that is dead is lost to its neighbours as
        well."""
        gateways = [self.model.settled.gateways[name] for name in site.gateways]
        if not site.leaves_by_order:
            return gateways
        kept = gateways if site.hosts_follow == GATEWAYS else gateways[:1]
        return [g for g in kept if Neighbour(g.name).label not in self.model.stable.lost][:1]

    def from_site(self, site: str, network: str) -> Trace:
        """Hosts of a site use the gateway with the preferred route, or the first one that is there
        where the design says that they do not follow tunnels."""
        settled = self.model.settled
        best: tuple[int, str, Route] | None = None
        gateways = self._first_hops(settled.sites[site])
        if settled.sites[site].leaves_by_order:
            self.hangs_on = tuple(Neighbour(gateway.name).label for gateway in gateways)
        for gateway in gateways:
            found = self.model.match(gateway.name, self.key.destination)
            if found is None:
                continue
            route = found[1]
            if route.kind is RouteKind.CONNECTED and route.via in gateway.networks:
                return self._arrive(site, f"delivered inside {site}")
            way = settled.way(route.via)
            rank = FARTHEST
            if isinstance(way, SettledTunnel | SettledCircuit):
                rank = way.preference
            if best is None or rank < best[0]:
                best = (rank, gateway.name, route)
        if best is None and self._outbound:
            return self._leave(site, out_of_site(settled, site, network, self.key))
        if best is None:
            names = (
                ", ".join(g.name for g in gateways) or f"the gateways that hosts of {site} follow"
            )
            return self._stop(f"no route to {self._target} at {names}")
        taken = "" if self.answer else caught(settled, site, network, self.key)
        if taken and not self._outbound:
            return self._stop(taken)
        return self._out(best[1], best[2], filtered=True)

    def from_cloud(self, cloud: str, network: str) -> Trace:
        """Hosts of a subnet use its route table: its own routes, then what is propagated."""
        entry = self.model.settled.clouds[cloud]
        subnet = entry.subnets[network]
        inside = (prefix for s in entry.subnets.values() for prefix in s.prefix)
        if any(prefix.holds(self.key.destination) for prefix in inside):
            return self._arrive(cloud, f"delivered inside {cloud}")
        if not self._filter(cloud):
            return self._stop(f"filter at {cloud}: no rule lets {self.key} through")
        found = self.model.match(cloud, self.key.destination)
        own = own_route(subnet, self.key.destination)
        if self._outbound and own is None and (found is None or not subnet.propagation):
            return self._leave(cloud, out_of_cloud(self.model.settled, cloud))
        if own is not None and found is not None and subnet.propagation:
            own = own if own[0].length >= found[0].length else None
        if own is None and not subnet.propagation:
            return self._stop(
                f"propagation is off at {cloud}/{network}: its route table has no route to the site"
            )
        if own is not None:
            prefix, target = own
            self.hops.append(f"{cloud}/{network}: own route {prefix} to {target}")
            if target == NOWHERE:
                return self._stop(f"the route table of {cloud}/{network} sends it nowhere")
            if target != GATEWAY:
                way = Attachment(target, cloud).label
                if way in self.model.stable.lost:
                    return self._stop(f"the attachment of {cloud} to {target} is down")
                return self._cross(way, cloud)
        if found is None:
            return self._stop(f"no route to {self._target} at {cloud}")
        return self._out(cloud, found[1])

    def _at(self, router: str) -> Trace:
        """A packet that has come to a router from elsewhere."""
        settled = self.model.settled
        if len(self.ways) > MOST_HOPS:
            return self._stop("it goes in circles")
        if router not in settled.gateways and router not in settled.clouds:
            found = self.model.match(router, self.key.destination)
            if found is None and self._outbound:
                hub = router.partition("/")[0]
                return self._leave(hub, out_of_cloud(settled, hub))
            if found is None or found[1].kind is RouteKind.CONNECTED:
                return self._stop(f"no route to {self._target} at {router}")
            return self._out(router, found[1])
        if router in settled.gateways and not self._filter(router):
            return self._stop(f"filter at {router}: no rule lets {self.key} through")
        found = self.model.match(router, self.key.destination)
        inside = found is not None and found[1].kind is RouteKind.CONNECTED
        if router in settled.clouds:
            if found is None or not inside or found[1].via not in settled.clouds[router].subnets:
                return self._stop(f"no subnet with {self._target} behind {self._name(router)}")
            if not self._filter(router):
                return self._stop(f"filter at {router}: no rule lets {self.key} through")
        elif self._from_neighbour() and found is not None and not inside:
            return self._out(router, found[1])
        elif self._outbound and not inside:
            site = settled.gateways[router].site
            return self._leave(site, out_of_site(settled, site, "", self.key))
        elif found is None or not inside or found[1].via not in settled.gateways[router].networks:
            return self._stop(f"no network with {self._target} behind {router}")
        return self._host(router, found[1].via)

    def _host(self, router: str, network: str) -> Trace:
        """The host's own firewall has the last word."""
        settled = self.model.settled
        place = router
        if router in settled.gateways:
            place = settled.gateways[router].site
            self.by_inner_router(place, network)
        self.hops.append(f"host {self._target} in {network}")
        accepts = settled.hosts_accept(NetworkRef(place, network))
        if accepts is None or self.answer or self.model.open:
            return self._arrive(place)
        if any(self._let_in(rule, place) for rule in accepts):
            return self._arrive(place, "its own firewall lets it in")
        listed = ", ".join(map(str, accepts)) or "nothing"
        return self._stop(f"the firewall of the hosts in {place}/{network} lets in {listed} only")

    def _let_in(self, rule: HostRule, place: str) -> bool:
        senders = self.model.settled.host_senders(rule, place)
        return rule.allow.lets(self.key.protocol, self.key.destination_port) and (
            senders is None or any(prefix.holds(self.key.source) for prefix in senders)
        )

    def _name(self, cloud: str) -> str:
        """The instance by which the packet came, where it did come by one."""
        way = self.model.settled.way(self.ways[-1])
        return f"{cloud} instance {way.instance}" if isinstance(way, SettledTunnel) else cloud

    def _from_neighbour(self) -> bool:
        return isinstance(self.model.settled.way(self.ways[-1]), Neighbour)

    def _filter(self, place: str) -> bool:
        if self._outbound:
            return True  # filters here are for what goes between the places of the design
        self.filters.append(place)
        rule = self.model.rules(place).match(self.key)
        if rule is not None:
            self.hops.append(f"{place}: filter rule {rule.name}")
        return rule is not None

    def _out(self, router: str, route: Route, *, filtered: bool = False) -> Trace:
        via = route.via_for(self.key, self._exposures(route.via, router)[0])
        self.hops.append(f"{router}: route {route.prefix} ({route.kind.label}) via {via}")
        if filtered and not self._filter(router):
            return self._stop(f"filter at {router}: no rule lets {self.key} through")
        return self._cross(via, router)

    def _cross(self, via: str, router: str) -> Trace:
        settled = self.model.settled
        self.ways.append(via)
        following = entered(settled, via, router)
        leg = settled.way(via)
        if isinstance(leg, Neighbour):
            self.hops.append(f"over the LAN to {following}")
        elif isinstance(leg, Attachment):
            self.hops.append(f"attachment {via} to {following}")
        else:
            self.hops.append(leg_words(leg, outbound=router == leg.gateway))
            near, far = self._exposures(via, router)
            if not _selected(settled, leg, self.key, near):
                return self._stop(f"{router}: not in the traffic selectors of {via}")
            self.key = _translated(self.key, near, far, self.hops)
        return self._at(following)

    def _exposures(self, via: str, router: str) -> tuple[tuple[Exposure, ...], ...]:
        """What stands for what at this end of a way, and at the other."""
        leg = self.model.settled.way(via)
        if not isinstance(leg, SettledTunnel | SettledCircuit):
            return (), ()
        bundle = self.model.settled.bundle(leg)
        ends = bundle.exposures, bundle.cloud_exposures
        return ends if router == leg.gateway else ends[::-1]


def _selected(settled: Settled, leg: Leg, key: PacketKey, near: tuple[Exposure, ...]) -> bool:
    """Whether a tunnel that policies lead into takes a packet (RFC 4301 section 4.4.1)."""
    bundle = settled.bundle(leg)
    if bundle.selection != "policy":
        return True
    source, destination = outward(near, key.source), key.destination
    site, cloud = announced_by_site(bundle), accepted_at_site(settled, bundle)
    return any(
        any(p.holds(source) for p in one) and any(p.holds(destination) for p in other)
        for one, other in ((site, cloud), (cloud, site))
    )


def leg_words(leg: Leg, *, outbound: bool) -> str:
    """A leg as one hop, seen from the site (`outbound`) or from the cloud."""
    if isinstance(leg, SettledCircuit):
        return f"circuit {leg.name} to {leg.cloud if outbound else leg.gateway}"
    end = f"{leg.cloud} instance {leg.instance}" if outbound else leg.gateway
    return f"tunnel {leg.label} to {end}"


def own_route(subnet: SettledSubnet, address: Address) -> tuple[Prefix, str] | None:
    """The longest of a subnet's own routes that an address lies in, with its target."""
    found = [(p, target) for p, target in subnet.routes if p.holds(address)]
    return max(found, key=lambda entry: entry[0].length, default=None)


def _translated(
    key: PacketKey, near: tuple[Exposure, ...], far: tuple[Exposure, ...], hops: list[str]
) -> PacketKey:
    """The packet beyond a tunnel: the near gateway changed its source, the far one the rest."""
    moved = key._replace(source=outward(near, key.source), destination=inward(far, key.destination))
    if moved != key:
        hops.append(f"translated one to one: {moved}")
    return moved


def there_and_back(
    model: ReachModel, expectation: Expected, key: PacketKey | None = None
) -> tuple[Trace, Trace | None]:
    """The first packet of an expectation (`key` where it is known already), and its answer when
    the first one arrives."""
    key = key or probe_key(model.settled, expectation)
    there = trace(model, expectation.source, key, meant=expectation.destination)
    return there, answer_to(model, expectation.destination, there)


def answer_to(model: ReachModel, answering: NetworkRef, there: Trace) -> Trace | None:
    """The way back of a packet; None when it did not arrive. What the internet answers comes to
    the address that the packet had there, and so by the same way."""
    if there.arrived is None:
        return None
    reply = there.arrived.reply()
    if answering.is_internet:
        return Trace(("the internet answers, by the same way",), "", reply, there.ways[::-1])
    return trace(model, answering, reply, answer=True, meant=there.start)


def stopped(there: Trace, back: Trace | None) -> str:
    """Why a flow does not work, there or back; empty when it does."""
    return there.dropped or ("" if back is None else back.dropped)
