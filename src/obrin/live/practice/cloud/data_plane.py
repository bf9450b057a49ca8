"""The data plane of the practice cloud: the resources that are ready, as its device's
configuration."""

from __future__ import annotations

from collections.abc import Iterator

from obrin.core.address.dual import Dual, of_families
from obrin.core.address.prefix import Address as AnyAddress
from obrin.core.address.prefix import Prefix, parse_address
from obrin.core.address.translation import Exposure
from obrin.core.handover.standard.ipsec import decode_suite
from obrin.core.ipsec.liveness import Bfd, Liveness
from obrin.core.ipsec.selectors import ANY, Selector
from obrin.core.reach.filters import Rule, beginning, rules_for
from obrin.core.routing.forwarding import host_route
from obrin.core.settled.clouds import identifier_of
from obrin.device.cloud.config import (
    CloudAttachment,
    CloudConfig,
    CloudNetwork,
    CloudSubnet,
    InstanceConfig,
    Joined,
)
from obrin.device.config import RouterConfig, RouterTunnel, RouterWay, StaticWay
from obrin.device.standard.credentials import Wall, credential_from
from obrin.live.practice.cloud.bodies import (
    Attachment,
    BfdBody,
    Circuit,
    FarEnd,
    Filter,
    Gateway,
    JoinedBody,
    Network,
    Subnet,
    Tunnel,
    Way,
)
from obrin.live.practice.cloud.resource import Resource
from obrin.live.practice.cloud.sessions import Own, inside_ends, neighbours, peers
from obrin.live.practice.cloud.store import Store
from obrin.wire.ike.config import Identity, PeerConfig
from obrin.wire.ike.crypto.credentials import Credential


class DataPlane:
    """A resource that is being changed runs on as it was until the change is done."""

    def __init__(self, store: Store, wall: Wall) -> None:
        self._store = store
        self._wall = wall

    def config(self) -> CloudConfig:
        standing = [(r.name, body) for r, body in self._store.running("subnets")]
        subnets = tuple(
            CloudSubnet(
                name=name,
                network=body.network,
                prefixes=tuple(body.prefixes),
                propagation=body.propagation,
                workload=body.role == "workload",
                routes=tuple((route.prefix, route.target) for route in body.routes),
                host_firewall=_host_firewall(body),
            )
            for name, body in standing
            if isinstance(body, Subnet)
        )
        instances: dict[str, InstanceConfig] = {}
        for resource, body in self._store.running("gateways"):
            if isinstance(body, Gateway):
                instances.update(self._instances(resource, body, subnets))
                instances.update(self._lines(resource, body, subnets))
        rules = {f.network: tuple(_rules(f)) for f in self._filters()}
        ways = (way for kind in ("tunnels", "circuits") for way in self._store.running(kind))
        running = ((r.name, body) for r, body in ways if isinstance(body, Way))
        return CloudConfig(
            networks=dict(self._networks()),
            subnets=subnets,
            rules=rules,
            instances=instances,
            attachments=tuple(self._attachments()),
            joined={n: _joined(body.joined) for n, body in running if body.joined is not None},
        )

    def _networks(self) -> Iterator[tuple[str, CloudNetwork]]:
        gateways = {
            body.network: (body, r.addresses_of(body))
            for r, body in self._store.running("gateways")
            if isinstance(body, Gateway)
        }
        for resource, body in self._store.running("networks"):
            gateway, peers = gateways.get(resource.name, (None, ()))
            if isinstance(body, Network):
                own = parse_address(peers[0]) if peers else body.spaces[0].address_at(1)
                yield (
                    resource.name,
                    CloudNetwork(
                        spaces=tuple(body.spaces),
                        asn=0 if gateway is None else gateway.autonomous_system,
                        identifier=identifier_of(own),
                        tables=tuple(body.tables),
                    ),
                )

    def _attachments(self) -> Iterator[CloudAttachment]:
        there = {resource.name for resource, _ in self._store.running("networks")}
        for _, body in self._store.running("attachments"):
            if isinstance(body, Attachment) and {body.hub, body.network} <= there:
                joined = _joined(body.joined)
                yield CloudAttachment(hub=body.hub, network=body.network, joined=joined)

    def _filters(self) -> Iterator[Filter]:
        for _, body in self._store.running("filters"):
            if isinstance(body, Filter):
                yield body

    def _instances(
        self, resource: Resource, gateway: Gateway, subnets: tuple[CloudSubnet, ...]
    ) -> Iterator[tuple[str, InstanceConfig]]:
        name, own = resource.name, _gateway_subnet(subnets, gateway.network)
        peers = resource.addresses_of(gateway)
        for number, address_name in enumerate(gateway.public_addresses, 1):
            if own is None:
                continue
            reserved = self._store.get("addresses", address_name)
            public = of_families(map(parse_address, reserved.addresses))
            key = f"{name}-{number}"
            ways = self._ways_of("tunnels", name, number)
            tunnels = {n: body for n, body in ways.items() if isinstance(body, Tunnel)}
            config = RouterConfig(
                tunnels={n: self._tunnel(n, t, public) for n, t in tunnels.items()},
                networks=_workloads(subnets, gateway.network),
                neighbours=neighbours(
                    tunnels,
                    Own(gateway.autonomous_system, identifier_of(parse_address(peers[number - 1]))),
                    {n: self._far_end(t).autonomous_system for n, t in tunnels.items()},
                ),
                static=tuple(self._static(tunnels)),
                hands_on=self._is_hub(gateway.network),
            )
            yield (
                key,
                InstanceConfig(network=gateway.network, addresses=tuple(public), router=config),
            )

    def _lines(
        self, resource: Resource, gateway: Gateway, subnets: tuple[CloudSubnet, ...]
    ) -> Iterator[tuple[str, InstanceConfig]]:
        """What all circuits of a gateway end at: it goes on when an instance fails."""
        own, key = _gateway_subnet(subnets, gateway.network), f"{resource.name}-lines"
        ways = self._ways_of("circuits", resource.name)
        peers = resource.addresses_of(gateway)
        lines = {n: body for n, body in ways.items() if isinstance(body, Circuit)}
        if not lines or own is None:
            return
        config = RouterConfig(
            lines={
                n: RouterWay(inside=inside_ends(c), bfd=_bfd(c.bfd), mtu=c.inner_mtu)
                for n, c in lines.items()
            },
            networks=_workloads(subnets, gateway.network),
            neighbours=neighbours(
                lines,
                Own(gateway.autonomous_system, identifier_of(parse_address(peers[0]))),
                {n: circuit.autonomous_system for n, circuit in lines.items()},
            ),
            static=tuple(
                StaticWay(prefix, n, c.metric)
                for n, c in lines.items()
                if c.bgp is None
                for prefix in c.prefixes
            ),
            hands_on=self._is_hub(gateway.network),
        )
        yield key, InstanceConfig(network=gateway.network, addresses=(), router=config)

    def _is_hub(self, network: str) -> bool:
        body = self._store.get("networks", network).body
        return isinstance(body, Network) and bool(body.tables)

    def _ways_of(self, kind: str, gateway: str, instance: int = 0) -> dict[str, Way]:
        """The tunnels of an instance, or circuits."""
        return {
            r.name: body
            for r, body in self._store.running(kind)
            if isinstance(body, Way)
            and body.gateway == gateway
            and (not isinstance(body, Tunnel) or body.instance == instance)
        }

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
            bfd=_bfd(body.bfd),
            bfd_endpoints=_bfd_endpoints(body),
            mtu=body.inner_mtu,
            fragments=body.fragments,
        )

    def _credential(self, body: Tunnel) -> Credential | None:
        """Raises PkiError; the store has refused such a body before."""
        given = body.certificate
        return None if given is None else credential_from(given.files, self._wall)

    def _static(self, tunnels: dict[str, Tunnel]) -> Iterator[StaticWay]:
        for name, tunnel in tunnels.items():
            if tunnel.bgp is None:
                for prefix in self._far_end(tunnel).prefixes:
                    yield StaticWay(prefix, name, tunnel.metric)
            else:
                host = host_route(peers(tunnel, tunnel.bgp)[1], tunnel.inside)
                if host is not None:
                    yield StaticWay(host, name, tunnel.metric)


def _joined(body: JoinedBody) -> Joined:
    return Joined(uses=body.uses, fills=frozenset(body.fills))


def _bfd(body: BfdBody | None) -> Bfd | None:
    return None if body is None else Bfd(body.interval, body.multiplier)


def _gateway_subnet(subnets: tuple[CloudSubnet, ...], network: str) -> Prefix | None:
    """The gateway subnet's prefix of the first family."""
    own = (s.prefixes[0] for s in subnets if s.network == network and not s.workload)
    return next(own, None)


def _workloads(subnets: tuple[CloudSubnet, ...], network: str) -> tuple[tuple[str, Prefix], ...]:
    held = (s for s in subnets if s.network == network and s.workload)
    return tuple((s.name, p) for s in held for p in s.prefixes)


def _bfd_endpoints(body: Tunnel) -> tuple[AnyAddress, AnyAddress] | None:
    """The endpoints of a BFD session that is not inside the tunnel."""
    multihop = body.bfd is not None and body.bfd.multihop
    return peers(body, body.bgp) if multihop and body.bgp is not None else None


def _host_firewall(body: Subnet) -> tuple[Rule, ...] | None:
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
