"""What the practice cloud's data plane is told: the resources that are ready, as its device's."""

from __future__ import annotations

from collections.abc import Iterator

from obrin.core.address.dual import Dual, of_families
from obrin.core.address.prefix import Address as AnyAddress
from obrin.core.address.prefix import parse_address
from obrin.core.address.translation import Exposure
from obrin.core.handover.standard.ipsec import decode_suite
from obrin.core.ipsec.liveness import Bfd, Liveness
from obrin.core.ipsec.selectors import ANY, Selector
from obrin.core.reach.filters import Rule, rules_for
from obrin.core.routing.forwarding import host_route
from obrin.core.routing.policy import PrefixList, SessionPolicy
from obrin.core.settled.clouds import identifier_of
from obrin.device.cloud import CloudConfig, CloudSubnet, InstanceConfig
from obrin.device.config import InsideEnds, RouterConfig, RouterNeighbour, RouterTunnel, StaticWay
from obrin.device.credentials import Wall, credential_from
from obrin.live.practice.cloud.bodies import (
    Address,
    BgpBody,
    FarEnd,
    Filter,
    Gateway,
    Subnet,
    Tunnel,
)
from obrin.live.practice.cloud.store import Store
from obrin.wire.bgp.session import SessionConfig
from obrin.wire.ike.config import Identity, PeerConfig
from obrin.wire.ike.credentials import Credential


class Told:
    """A resource that is being changed runs on as it was until the change is done."""

    def __init__(self, store: Store, wall: Wall) -> None:
        self._store = store
        self._wall = wall
        self._tunnels: dict[str, dict[str, Tunnel]] = {}

    def config(self) -> CloudConfig:
        ready = [(r.name, r.body) for r in self._store.ready("subnets")]
        subnets = tuple(
            CloudSubnet(
                name=name,
                network=body.network,
                prefixes=tuple(body.prefixes),
                propagation=body.propagation,
                workload=body.role == "workload",
            )
            for name, body in ready
            if isinstance(body, Subnet)
        )
        instances: dict[str, InstanceConfig] = {}
        for resource in self._store.ready("gateways"):
            if isinstance(resource.body, Gateway):
                instances.update(self._instances(resource.name, resource.body, subnets))
        self._tunnels = {name: self._tunnels[name] for name in instances}
        rules = {f.network: tuple(_rules(f)) for f in self._filters()}
        return CloudConfig(subnets=subnets, rules=rules, instances=instances)

    def _filters(self) -> Iterator[Filter]:
        for resource in self._store.ready("filters"):
            if isinstance(resource.body, Filter):
                yield resource.body

    def _instances(
        self, name: str, gateway: Gateway, subnets: tuple[CloudSubnet, ...]
    ) -> Iterator[tuple[str, InstanceConfig]]:
        here = [subnet for subnet in subnets if subnet.network == gateway.network]
        own = next((subnet.prefixes[0] for subnet in here if not subnet.workload), None)
        for number, address_name in enumerate(gateway.public_addresses, 1):
            reserved = self._store.get("addresses", address_name).body
            if own is None or not isinstance(reserved, Address):
                continue
            public = of_families(map(parse_address, reserved.addresses))
            key = f"{name}-{number}"
            tunnels = self._tunnels[key] = self._tunnels_of(name, number, key)
            identifier = identifier_of(own.address_at(3 + number))
            config = RouterConfig(
                tunnels={n: self._tunnel(n, t, public) for n, t in tunnels.items()},
                networks=tuple((s.name, p) for s in here if s.workload for p in s.prefixes),
                neighbours={
                    n: self._neighbour(n, t, gateway, identifier)
                    for n, t in tunnels.items()
                    if t.bgp is not None
                },
                static=tuple(self._static(tunnels)),
            )
            yield (
                key,
                InstanceConfig(network=gateway.network, addresses=tuple(public), router=config),
            )

    def _tunnels_of(self, gateway: str, number: int, key: str) -> dict[str, Tunnel]:
        found = {
            r.name: r.body
            for r in self._store.ready("tunnels")
            if isinstance(r.body, Tunnel)
            and r.body.gateway == gateway
            and r.body.instance == number
        }
        changing = {r.name for r in self._store.changing("tunnels")}
        before = self._tunnels.get(key, {})
        return found | {n: t for n, t in before.items() if n in changing and n not in found}

    def _far_end(self, tunnel: Tunnel) -> FarEnd:
        body = self._store.get("far-ends", tunnel.far_end).body
        if not isinstance(body, FarEnd):
            raise AssertionError("a far end of another kind")
        return body

    def _tunnel(self, name: str, body: Tunnel, public: Dual[AnyAddress]) -> RouterTunnel:
        far = self._far_end(body)
        own = str(public.of(parse_address(far.address).bits) or public.first)
        live = body.liveness
        peer = PeerConfig(
            name=name,
            initiate=body.initiate,
            local_address=own,
            remote_address=far.address,
            local_identity=Identity.of(own),
            remote_identity=Identity.of(far.identity or far.address),
            suites=(decode_suite(body.suite),),
            key=(body.pre_shared_key or "").encode(),
            credential=self._credential(body),
            liveness=Liveness(live.delay, live.first_wait, live.tries),
            local_selectors=tuple(map(Selector.of, body.local_selectors)) or _any(body),
            remote_selectors=tuple(map(Selector.of, body.remote_selectors)) or _any(body),
            always_encapsulate=body.always_encapsulate,
        )
        return RouterTunnel(
            peer=peer,
            inside=_ends(body),
            translations=tuple(Exposure("", part.real, part.seen) for part in body.translation),
            shared=body.shared,
            bfd=None if body.bfd is None else Bfd(body.bfd.interval, body.bfd.multiplier),
            mtu=body.inner_mtu,
        )

    def _credential(self, body: Tunnel) -> Credential | None:
        """Raises PkiError; the store has refused such a body before."""
        given = body.certificate
        return None if given is None else credential_from(given.as_standard(), self._wall)

    def _neighbour(
        self, name: str, body: Tunnel, gateway: Gateway, identifier: int
    ) -> RouterNeighbour:
        bgp, far = body.bgp, self._far_end(body)
        if bgp is None:
            raise AssertionError("a neighbour without BGP")
        ends = _ends(body)
        local, peer = _peers(body, bgp)
        session = SessionConfig(
            name=name,
            local_as=gateway.autonomous_system,
            peer_as=far.autonomous_system,
            router_id=identifier,
            local_address=local,
            peer_address=peer,
            next_hops=of_families([*(e.local for e in ends if e.local.bits != local.bits), local]),
            multihop=(local, peer) != (ends[0].local, ends[0].remote),
            hold=bgp.hold_time,
            passive=not body.initiate,
            password=(body.session_password or "").encode(),
        )
        policy = SessionPolicy(
            local_as=gateway.autonomous_system,
            peer_as=far.autonomous_system,
            accept=PrefixList(bgp.accept),
            local_pref=bgp.local_preference,
            med=bgp.discriminator,
        )
        return RouterNeighbour(session, policy, tuple(bgp.announce))

    def _static(self, tunnels: dict[str, Tunnel]) -> Iterator[StaticWay]:
        for name, tunnel in tunnels.items():
            if tunnel.bgp is None:
                for prefix in self._far_end(tunnel).prefixes:
                    yield StaticWay(prefix, name, tunnel.metric)
            else:
                host = host_route(_peers(tunnel, tunnel.bgp)[1], tunnel.inside)
                if host is not None:
                    yield StaticWay(host, name, tunnel.metric)


def _ends(body: Tunnel) -> tuple[InsideEnds, ...]:
    """Those inside, IPv4 first."""
    pairs = zip(map(parse_address, body.inside_addresses), body.inside, strict=True)
    found = [InsideEnds.of(address, block.length) for address, block in pairs]
    return tuple(sorted(found, key=lambda ends: ends.local.bits))


def _peers(body: Tunnel, bgp: BgpBody) -> tuple[AnyAddress, AnyAddress]:
    """The ends of its session, the cloud's first."""
    inside = _ends(body)[0]
    local = inside.local if bgp.local_address is None else parse_address(bgp.local_address)
    peer = inside.remote if bgp.peer_address is None else parse_address(bgp.peer_address)
    return local, peer


def _any(body: Tunnel) -> tuple[Selector, ...]:
    """Everything, in the families that the tunnel has addresses of."""
    return tuple(ANY[block.bits] for block in body.inside)


def _rules(body: Filter) -> Iterator[Rule]:
    for given in body.rules:
        yield from rules_for(given.name, given.source, given.destination, given.flow)
