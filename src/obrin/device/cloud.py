"""A cloud's data plane: instances of gateways, the networks behind them, and their hosts."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

from obrin.core.address.prefix import Address, Prefix
from obrin.core.design.joining import NOWHERE
from obrin.core.reach.filters import Rule, RuleSet
from obrin.core.routing.decision import decide
from obrin.core.routing.forwarding import Route, RouteKind, share
from obrin.core.routing.packet import PacketKey
from obrin.core.routing.path import Candidate
from obrin.device.config import RouterConfig
from obrin.device.drops import NO_FLOW, DropLog
from obrin.device.hosts import Hosts
from obrin.device.router import Router
from obrin.wire.errors import PacketError
from obrin.wire.icmp import is_error, packet_key
from obrin.wire.packet import decode_packet

_NOTHING = RuleSet()


@dataclass(frozen=True, slots=True, kw_only=True)
class CloudSubnet:
    """`propagation` is whether its hosts know what the gateways learned. Only `workload` ones have
    hosts. `routes` are its own, with what they lead to; `gate` is what its hosts let in by
    themselves, None where they have no firewalls."""

    name: str
    network: str
    prefixes: tuple[Prefix, ...]
    propagation: bool
    workload: bool
    routes: tuple[tuple[Prefix, str], ...] = ()
    gate: tuple[Rule, ...] | None = None

    def own_route(self, address: Address) -> tuple[Prefix, str] | None:
        """The longest of its own routes that an address lies in."""
        found = [entry for entry in self.routes if entry[0].holds(address)]
        return max(found, key=lambda entry: entry[0].length, default=None)


@dataclass(frozen=True, slots=True, kw_only=True)
class InstanceConfig:
    """One running instance of a gateway; `addresses` are its public ones."""

    network: str
    addresses: tuple[Address, ...]
    router: RouterConfig


@dataclass(frozen=True, slots=True, kw_only=True)
class CloudConfig:
    """`rules` by network: what its subnets let in and out. `instances` by name."""

    subnets: tuple[CloudSubnet, ...] = ()
    rules: dict[str, tuple[Rule, ...]] = field(default_factory=dict)
    instances: dict[str, InstanceConfig] = field(default_factory=dict)


class Instance:
    """Its router takes changes in place."""

    def __init__(self, config: InstanceConfig, name: str, rng: Callable[[int], bytes]) -> None:
        self.network = config.network
        self.addresses = config.addresses
        self.router = Router(name, RouterConfig(), rng)


class Cloud:
    """`rng` gives so many random bytes; `now` is in seconds, and never goes back."""

    def __init__(self, rng: Callable[[int], bytes]) -> None:
        self._rng = rng
        self.instances: dict[str, Instance] = {}
        self.hosts = Hosts((), rng)
        self.drops = DropLog()
        self._subnets: tuple[CloudSubnet, ...] = ()
        self._rules: dict[str, RuleSet] = {}
        self._out: list[bytes] = []

    def take(self, config: CloudConfig, now: float) -> None:
        """Bring instances, hosts and rules in line; what stays as it was runs on."""
        self._subnets = config.subnets
        guarded = [(s.prefixes, s.gate) for s in config.subnets if s.gate is not None]
        self.hosts.take(
            (p for s in config.subnets if s.workload for p in s.prefixes),
            {prefix: gate for prefixes, gate in guarded for prefix in prefixes},
        )
        self._rules = {network: RuleSet(rules) for network, rules in config.rules.items()}
        for name, told in config.instances.items():
            if name not in self.instances:
                self.instances[name] = Instance(told, name, self._rng)
            router = self.instances[name].router
            if router.config != told.router:
                router.take(told.router, now)
        for name in set(self.instances) - set(config.instances):
            gone = self.instances.pop(name)
            gone.router.stop(now)
            self._collect(gone)

    # Packets

    def receive(self, data: bytes, now: float) -> None:
        """A packet from the internet."""
        try:
            packet = decode_packet(data)
        except PacketError as error:
            self.drops.add("cloud", f"bad packet: {error.reason}", NO_FLOW)
            return
        for instance in self.instances.values():
            if packet.destination in instance.addresses:
                instance.router.receive_underlay(packet, now)

    def pump(self, now: float) -> list[bytes]:
        """Let time pass and everything move; the packets for the internet."""
        engines: list[Router | Hosts] = [i.router for i in self.instances.values()]
        for engine in (*engines, self.hosts):
            if engine.next_timer() <= now:
                engine.handle_timer(now)
        moved = True
        while moved:
            inwards = [data for i in self.instances.values() for data in i.router.local()]
            outwards = list(self.hosts.packets(now))
            for data in inwards:
                self._to_host(data, now)
            for data in outwards:
                self._from_host(data, now)
            moved = bool(inwards or outwards)
        for instance in self.instances.values():
            self._collect(instance)
        out, self._out = self._out, []
        return out

    def next_timer(self) -> float:
        timers = (instance.router.next_timer() for instance in self.instances.values())
        return min((*timers, self.hosts.next_timer()))

    def _collect(self, instance: Instance) -> None:
        self._out += instance.router.underlay()
        instance.router.key_events.clear()

    def _subnet(self, address: Address) -> CloudSubnet | None:
        return next((s for s in self._subnets if any(p.holds(address) for p in s.prefixes)), None)

    def _allowed(self, subnet: CloudSubnet, key: PacketKey) -> bool:
        if self._rules.get(subnet.network, _NOTHING).match(key) is not None:
            return True
        self.drops.add(subnet.network, "no filter rule lets it through", key)
        return False

    def _to_host(self, data: bytes, now: float) -> None:
        packet = decode_packet(data)  # a router made it, or looked at it
        key, subnet = packet_key(packet), self._subnet(packet.destination)
        if subnet is None:
            reason = f"no subnet has {packet.destination}"
            self.drops.add("cloud", reason, key)
            return
        # Who sends too large packets must hear of it, whatever the rules say.
        if not is_error(packet) and not self._allowed(subnet, key):
            return
        host = self.hosts.get(packet.destination)
        if host is None:
            reason = f"no host has {packet.destination}"
            self.drops.add(subnet.network, reason, key)
            return
        host.receive(data, now)

    def _from_host(self, data: bytes, now: float) -> None:
        packet = decode_packet(data)  # a host of ours made it
        key, subnet = packet_key(packet), self._subnet(packet.source)
        if subnet is None:
            return
        inside = self._subnet(packet.destination)
        if inside is not None and inside.network == subnet.network:
            host = self.hosts.get(packet.destination)
            if host is not None:
                host.receive(data, now)
            return
        if not self._allowed(subnet, key):
            return
        chosen = self._leave_by(subnet, key)
        if isinstance(chosen, str):
            self.drops.add(subnet.network, chosen, key)
            return
        instance, via = chosen
        instance.router.receive_local(data, now, via)

    def _leave_by(self, subnet: CloudSubnet, key: PacketKey) -> tuple[Instance, str] | str:
        """By a subnet's own routes and what is propagated to it; else why it goes nowhere."""
        own = subnet.own_route(key.destination)
        found = self._candidates(subnet.network, key)
        longest = max((prefix.length for prefix, _, _ in found), default=-1)
        if own is not None and subnet.propagation and own[0].length < longest:
            own = None
        if own is None and not subnet.propagation:
            return f"propagation is off at {subnet.name}: no route"
        if own is not None and own[1] == NOWHERE:
            return f"the route table of {subnet.name} sends it nowhere"
        return self.choose(subnet.network, key) or f"no route to {key.destination}"

    def _candidates(self, network: str, key: PacketKey) -> list[tuple[Prefix, Route, Instance]]:
        """What each instance has for a destination, with its prefix."""
        found: list[tuple[Prefix, Route, Instance]] = []
        for instance in self.instances.values():
            matched = instance.router.table.match(key.destination)
            if instance.network != network or matched is None:
                continue
            if matched[1].kind is not RouteKind.CONNECTED:
                found.append((*matched, instance))
        return found

    def choose(self, network: str, key: PacketKey) -> tuple[Instance, str] | None:
        """The instance and tunnel that the whole gateway prefers for a flow."""
        found = self._candidates(network, key)
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
            best = _best_learned(found)
        owners = {via: i for route, i in best for via in (route.via, *route.others)}
        via = best[0][0].via
        if all(i.router.config.tunnels[name].shared for name, i in owners.items()):
            parts = owners[via].router.config.tunnels[via].translations
            via = share(owners, key, parts)
        return owners[via], via


def _best_learned(
    found: Sequence[tuple[Prefix, Route, Instance]],
) -> list[tuple[Route, Instance]]:
    """The winner among the instances' own winners first, then those that equal it."""
    owners: dict[Candidate, tuple[Route, Instance]] = {}
    for prefix, route, instance in found:
        owners[instance.router.bgp.speaker.decisions[prefix].winner] = route, instance
    decision = decide(list(owners))
    return [owners[candidate] for candidate in (decision.winner, *decision.equals)]
