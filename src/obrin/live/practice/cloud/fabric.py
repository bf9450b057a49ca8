"""The practice cloud's data plane: gateway instances, the networks behind them, and their hosts."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from obrin.core.address.prefix import Prefix, format_address, parse_ipv4
from obrin.core.address.translation import Exposure
from obrin.core.ipsec.liveness import Liveness
from obrin.core.ipsec.selectors import ANY_IPV4, Selector
from obrin.core.reach.filters import RuleSet, rules_for
from obrin.core.routing.decision import decide
from obrin.core.routing.forwarding import Route, RouteKind, flow_number
from obrin.core.routing.packet import PacketKey
from obrin.core.routing.path import Candidate
from obrin.core.routing.policy import PrefixList, SessionPolicy
from obrin.core.settled.model import host_of
from obrin.live.practice.cloud.bodies import (
    Address,
    FarEnd,
    Filter,
    Gateway,
    Subnet,
    Tunnel,
)
from obrin.live.practice.cloud.store import Store
from obrin.live.practice.credentials import Wall, credential_of, wall_clock
from obrin.live.practice.drops import DropLog, packet_key
from obrin.live.practice.from_standard import suite_from
from obrin.live.practice.node import Node
from obrin.live.practice.node_config import NodeConfig, NodeNeighbour, NodeTunnel
from obrin.wire.bgp.session import SessionConfig
from obrin.wire.host import Host
from obrin.wire.ike.config import Identity, PeerConfig
from obrin.wire.ike.credentials import Credential
from obrin.wire.packet import decode_ipv4

_NOTHING = RuleSet()


class Instance:
    """One running instance of a gateway. Its router takes changes in place."""

    def __init__(
        self, name: str, network: str, address: int, router_id: int, rng: Callable[[int], bytes]
    ) -> None:
        self.name = name
        self.network = network
        self.address = address
        self.router_id = router_id
        self.node = Node(name, NodeConfig(), rng)
        self.tunnels: dict[str, Tunnel] = {}


class Fabric:
    """Builds instances and hosts from what the store says is ready, and moves packets."""

    def __init__(self, store: Store, rng: Callable[[int], bytes], wall: Wall = wall_clock) -> None:
        self._store = store
        self._wall = wall
        self._rng = rng
        self.instances: dict[str, Instance] = {}
        self.hosts: dict[int, Host] = {}
        self._subnet_of: list[tuple[Prefix, str, Subnet]] = []
        self._rules: dict[str, RuleSet] = {}
        self.drops = DropLog()
        self._out: list[bytes] = []

    # From resources to a running data plane

    def rebuild(self, now: float) -> None:
        """Bring instances, hosts and rules in line with the store."""
        subnets = [(r.name, r.body) for r in self._store.ready("subnets")]
        self._subnet_of = [(b.prefix, n, b) for n, b in subnets if isinstance(b, Subnet)]
        wanted = {host_of(p) for p, _, b in self._subnet_of if b.role == "workload"}
        self.hosts = {a: self.hosts.get(a) or Host(a, self._rng) for a in wanted}
        self._rules = {
            body.network: RuleSet(
                rule
                for given in body.rules
                for rule in rules_for(given.name, given.source, given.destination, given.flow)
            )
            for body in (r.body for r in self._store.ready("filters"))
            if isinstance(body, Filter)
        }
        names: set[str] = set()
        for resource in self._store.ready("gateways"):
            if isinstance(resource.body, Gateway):
                names |= self._build_gateway(resource.name, resource.body, now)
        for name in set(self.instances) - names:
            instance = self.instances.pop(name)
            instance.node.stop(now)
            self._collect(instance)

    def _build_gateway(self, name: str, body: Gateway, now: float) -> set[str]:
        subnet = next(
            (p for p, _, b in self._subnet_of if b.network == body.network and b.role == "gateway"),
            None,
        )
        tunnels = {
            r.name: r.body
            for r in self._store.ready("tunnels")
            if isinstance(r.body, Tunnel) and r.body.gateway == name
        }
        changing = {r.name for r in self._store.changing("tunnels")}
        names = set()
        for number, address_name in enumerate(body.public_addresses, 1):
            address = self._store.get("addresses", address_name).body
            if subnet is None or not isinstance(address, Address):
                continue
            key = f"{name}-{number}"
            names.add(key)
            instance = self.instances.get(key)
            if instance is None:
                instance = self.instances[key] = Instance(
                    key, body.network, parse_ipv4(address.address), subnet.value + 3 + number,
                    self._rng,
                )  # fmt: skip
            mine = {n: t for n, t in tunnels.items() if t.instance == number}
            # What is being changed runs on as it was until the change is done.
            mine |= {n: t for n, t in instance.tunnels.items() if n in changing and n not in mine}
            instance.tunnels = mine
            config = self._config(instance, body, mine)
            if config != instance.node.config:
                instance.node.take(config, now)
        return names

    def _config(
        self, instance: Instance, gateway: Gateway, tunnels: dict[str, Tunnel]
    ) -> NodeConfig:
        own = format_address(instance.address)
        return NodeConfig(
            {n: self._tunnel(n, t, own) for n, t in tunnels.items()},
            {n: p for p, n, b in self._subnet_of
             if b.network == instance.network and b.role == "workload"},
            {n: self._neighbour(n, t, gateway, instance) for n, t in tunnels.items() if t.bgp},
            tuple(
                (prefix, n, t.metric)
                for n, t in tunnels.items()
                if t.bgp is None
                for prefix in self._far_end(t).prefixes
            ),
        )  # fmt: skip

    def _far_end(self, tunnel: Tunnel) -> FarEnd:
        body = self._store.get("far-ends", tunnel.far_end).body
        if not isinstance(body, FarEnd):
            raise AssertionError("a far end of another kind")
        return body

    def _tunnel(self, name: str, body: Tunnel, own: str) -> NodeTunnel:
        far = self._far_end(body)
        live = body.liveness
        local = parse_ipv4(body.inside_address)
        peer = PeerConfig(
            name, False, own, far.address,
            Identity.of(own), Identity.of(far.identity or far.address),
            (suite_from(body.suite),),
            key=(body.pre_shared_key or "").encode(),
            credential=self._credential(body),
            liveness=Liveness(live.delay, live.first_wait, live.tries),
            local_selectors=tuple(map(Selector.of, body.local_selectors)) or (ANY_IPV4,),
            remote_selectors=tuple(map(Selector.of, body.remote_selectors)) or (ANY_IPV4,),
            always_encapsulate=body.always_encapsulate,
        )  # fmt: skip
        low = body.inside.value + (0 if body.inside.length == 31 else 1)
        return NodeTunnel(
            peer, body.inside, local, low + 1 if local == low else low,
            tuple(Exposure("", part.real, part.seen) for part in body.translation),
            shared=body.shared,
            bfd=None if body.bfd is None else (body.bfd.interval, body.bfd.multiplier),
        )  # fmt: skip

    def _credential(self, body: Tunnel) -> Credential | None:
        """Raises PkiError; the store has refused such a body before."""
        return None if body.certificate is None else credential_of(body.certificate, self._wall)

    def _neighbour(
        self, name: str, body: Tunnel, gateway: Gateway, instance: Instance
    ) -> NodeNeighbour:
        bgp, far = body.bgp, self._far_end(body)
        if bgp is None:
            raise AssertionError("a neighbour without BGP")
        inside = self._tunnel(name, body, format_address(instance.address))
        policy = SessionPolicy(
            gateway.autonomous_system, far.autonomous_system, PrefixList(bgp.accept),
            bgp.local_preference,
        )  # fmt: skip
        session = SessionConfig(
            name, gateway.autonomous_system, far.autonomous_system, instance.router_id,
            inside.local_inside, inside.remote_inside, bgp.hold_time, passive=True,
        )  # fmt: skip
        return NodeNeighbour(session, policy, tuple(bgp.announce))

    # Packets

    def receive(self, data: bytes, now: float) -> None:
        """A packet from the internet."""
        destination = int.from_bytes(data[16:20], "big")
        for instance in self.instances.values():
            if instance.address == destination:
                instance.node.receive_underlay(data, now)

    def pump(self, now: float) -> float:
        """Move everything that can move; when the next timer is due."""
        for instance in self.instances.values():
            if instance.node.next_timer() <= now:
                instance.node.handle_timer(now)
        for host in self.hosts.values():
            if host.next_timer() <= now:
                host.handle_timer(now)
        moved = True
        while moved:
            moved = False
            for instance in list(self.instances.values()):
                for data in instance.node.local():
                    moved = True
                    self._to_host(data, now)
            for host in list(self.hosts.values()):
                for data in host.packets(now):
                    moved = True
                    self._from_host(data, now)
        for instance in self.instances.values():
            self._collect(instance)
        timers = [i.node.next_timer() for i in self.instances.values()]
        timers += [h.next_timer() for h in self.hosts.values()]
        return min(timers, default=float("inf"))

    def _collect(self, instance: Instance) -> None:
        self._out += instance.node.underlay()
        instance.node.key_events.clear()

    def packets(self) -> list[bytes]:
        out, self._out = self._out, []
        return out

    def _subnet(self, address: int) -> tuple[str, Subnet] | None:
        for prefix, name, body in self._subnet_of:
            if prefix.contains(address):
                return name, body
        return None

    def _allowed(self, subnet: Subnet, key: PacketKey) -> bool:
        if self._rules.get(subnet.network, _NOTHING).match(key) is not None:
            return True
        self.drops.add(subnet.network, "no filter rule lets it through", key)
        return False

    def _to_host(self, data: bytes, now: float) -> None:
        packet = decode_ipv4(data)  # a node made it, or looked at it
        key, found = packet_key(packet), self._subnet(packet.destination)
        if found is None:
            reason = f"no subnet has {format_address(packet.destination)}"
            self.drops.add("cloud", reason, key)
            return
        if not self._allowed(found[1], key):
            return
        host = self.hosts.get(packet.destination)
        if host is None:
            reason = f"no host has {format_address(packet.destination)}"
            self.drops.add(found[1].network, reason, key)
            return
        host.receive(data, now)

    def _from_host(self, data: bytes, now: float) -> None:
        packet = decode_ipv4(data)  # a host of ours made it
        key, found = packet_key(packet), self._subnet(packet.source)
        if found is None:
            return
        name, subnet = found
        inside = self._subnet(packet.destination)
        if inside is not None and inside[1].network == subnet.network:
            host = self.hosts.get(packet.destination)
            if host is not None:
                host.receive(data, now)
            return
        if not self._allowed(subnet, key):
            return
        if not subnet.propagation:
            self.drops.add(subnet.network, f"propagation is off at {name}: no route", key)
            return
        chosen = self.choose(subnet.network, key)
        if chosen is None:
            reason = f"no route to {format_address(packet.destination)}"
            self.drops.add(subnet.network, reason, key)
            return
        instance, via = chosen
        instance.node.receive_local(data, now, via)

    def choose(self, network: str, key: PacketKey) -> tuple[Instance, str] | None:
        """The instance and tunnel that the whole gateway prefers for a flow."""
        found: list[tuple[Prefix, Route, Instance]] = []
        for instance in self.instances.values():
            matched = instance.node.table.match(key.destination)
            if instance.network != network or matched is None:
                continue
            if matched[1].kind is not RouteKind.CONNECTED:
                found.append((*matched, instance))
        if not found:
            return None
        longest = max(prefix.length for prefix, _, _ in found)
        found = [f for f in found if f[0].length == longest]
        lowest = min(route.kind.value for _, route, _ in found)
        found = [f for f in found if f[1].kind.value == lowest]
        if found[0][1].kind is RouteKind.STATIC:
            metric = min(route.metric for _, route, _ in found)
            best = [(route, instance) for _, route, instance in found if route.metric == metric]
        else:
            best = self._best_learned(found)
        owners = {via: i for route, i in best for via in (route.via, *route.others)}
        via = best[0][0].via
        if len(owners) > 1 and all(self._shares(i, name) for name, i in owners.items()):
            via = sorted(owners)[flow_number(key) % len(owners)]
        return owners[via], via

    @staticmethod
    def _shares(instance: Instance, tunnel: str) -> bool:
        return instance.node.config.tunnels[tunnel].shared

    @staticmethod
    def _best_learned(
        found: Sequence[tuple[Prefix, Route, Instance]],
    ) -> list[tuple[Route, Instance]]:
        """The winner among the instances' own winners first, then those that equal it."""
        owners: dict[Candidate, tuple[Route, Instance]] = {}
        for prefix, route, instance in found:
            owners[instance.node.bgp.speaker.decisions[prefix].winner] = route, instance
        decision = decide(list(owners))
        return [owners[candidate] for candidate in (decision.winner, *decision.equals)]
