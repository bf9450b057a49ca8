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
from obrin.core.reach.filters import Rule, beginning, rules_for
from obrin.core.routing.forwarding import host_route
from obrin.core.settled.clouds import identifier_of
from obrin.device.cloud import CloudConfig, CloudSubnet, InstanceConfig
from obrin.device.config import RouterConfig, RouterTunnel, StaticWay
from obrin.device.credentials import Wall, credential_from
from obrin.live.practice.cloud.bodies import (
    Address,
    FarEnd,
    Filter,
    Gateway,
    Subnet,
    Tunnel,
)
from obrin.live.practice.cloud.sessions import Own, inside_ends, neighbours, peers
from obrin.live.practice.cloud.store import Store
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
                routes=tuple((route.prefix, route.target) for route in body.routes),
                gate=_gate(body),
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
                neighbours=neighbours(
                    tunnels,
                    Own(gateway.autonomous_system, identifier),
                    lambda tunnel: self._far_end(tunnel).autonomous_system,
                ),
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
            each_pair=body.each_pair,
        )
        return RouterTunnel(
            peer=peer,
            inside=inside_ends(body),
            translations=tuple(Exposure("", part.real, part.seen) for part in body.translation),
            shared=body.shared,
            bfd=None if body.bfd is None else Bfd(body.bfd.interval, body.bfd.multiplier),
            watched=_watched(body),
            mtu=body.inner_mtu,
            fragments=body.fragments,
        )

    def _credential(self, body: Tunnel) -> Credential | None:
        """Raises PkiError; the store has refused such a body before."""
        given = body.certificate
        return None if given is None else credential_from(given.as_standard(), self._wall)

    def _static(self, tunnels: dict[str, Tunnel]) -> Iterator[StaticWay]:
        for name, tunnel in tunnels.items():
            if tunnel.bgp is None:
                for prefix in self._far_end(tunnel).prefixes:
                    yield StaticWay(prefix, name, tunnel.metric)
            else:
                host = host_route(peers(tunnel, tunnel.bgp)[1], tunnel.inside)
                if host is not None:
                    yield StaticWay(host, name, tunnel.metric)


def _watched(body: Tunnel) -> tuple[AnyAddress, AnyAddress] | None:
    """Where its BFD runs that is not inside."""
    multihop = body.bfd is not None and body.bfd.multihop
    return peers(body, body.bgp) if multihop and body.bgp is not None else None


def _gate(body: Subnet) -> tuple[Rule, ...] | None:
    if body.hosts_accept is None:
        return None
    return tuple(
        beginning(
            given.name,
            given.source,
            given.destination,
            given.flow.protocol,
            (given.flow.first_port, given.flow.last_port),
        )
        for given in body.hosts_accept
    )


def _any(body: Tunnel) -> tuple[Selector, ...]:
    """Everything, in the families that the tunnel has addresses of."""
    return tuple(ANY[block.bits] for block in body.inside)


def _rules(body: Filter) -> Iterator[Rule]:
    for given in body.rules:
        yield from rules_for(given.name, given.source, given.destination, given.flow)
