"""A cloud's data plane: instances of gateways, networks and hubs behind them, and their hosts."""

from __future__ import annotations

from collections.abc import Callable

from obrin.core.design.joining import GATEWAY, NOWHERE
from obrin.core.reach.filters import RuleSet
from obrin.core.routing.forwarding import share
from obrin.core.routing.packet import PacketKey
from obrin.core.settled.ways import Router as RouterName
from obrin.device.cloud.config import (
    CloudAttachment,
    CloudConfig,
    CloudSubnet,
    InstanceConfig,
)
from obrin.device.cloud.tables import CloudTables
from obrin.device.config import RouterConfig
from obrin.device.lan.hosts import Hosts
from obrin.device.lan.lent import LentHost
from obrin.device.packets.drops import NO_FLOW, DropLog
from obrin.device.router.router import Router
from obrin.wire.errors import PacketError
from obrin.wire.host import Host
from obrin.wire.icmp import is_error, packet_key
from obrin.wire.packet import Packet, decode_packet

_NOTHING = RuleSet()


class Instance:
    """Its router takes changes in place."""

    def __init__(self, config: InstanceConfig, name: str, rng: Callable[[int], bytes]) -> None:
        self.network = config.network
        self.addresses = config.addresses
        self.router = Router(name, RouterConfig(), rng)


class Cloud:
    """`rng` gives so many random bytes; `now` is in seconds, and never goes back. `hosts` are
    those of each network. Attachments that are `lost` carry nothing."""

    def __init__(self, rng: Callable[[int], bytes]) -> None:
        self._rng = rng
        self.instances: dict[str, Instance] = {}
        self.hosts: dict[str, Hosts] = {}
        self.drops = DropLog()
        self.lost: frozenset[str] = frozenset()
        self._config = CloudConfig()
        self._attached: dict[str, CloudAttachment] = {}
        self._rules: dict[str, RuleSet] = {}
        self._tables = CloudTables()
        self._built: object = None
        self._advertised: object = None
        self._out: list[bytes] = []
        self._across: list[tuple[str, bytes]] = []

    def take(self, config: CloudConfig, now: float) -> None:
        """Bring instances, hosts and rules in line; what stays as it was runs on."""
        self._config = config
        self._attached = {a.label: a for a in config.attachments}
        for name in set(self.hosts) - set(config.networks):
            del self.hosts[name]
        for name in config.networks:
            subnets = [s for s in config.subnets if s.network == name and s.workload]
            guarded = [
                (s.prefixes, s.host_firewall) for s in subnets if s.host_firewall is not None
            ]
            self.hosts.setdefault(name, Hosts((), self._rng)).take(
                (prefix for s in subnets for prefix in s.prefixes),
                {
                    prefix: host_firewall
                    for prefixes, host_firewall in guarded
                    for prefix in prefixes
                },
            )
        self._rules = {network: RuleSet(rules) for network, rules in config.rules.items()}
        for name, instance in config.instances.items():
            if name not in self.instances:
                self.instances[name] = Instance(instance, name, self._rng)
            router = self.instances[name].router
            if router.config != instance.router:
                router.take(instance.router, now)
        for name in set(self.instances) - set(config.instances):
            gone = self.instances.pop(name)
            gone.router.stop(now)
            self._collect(gone)
        self._built = None

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

    def receive_across(self, line: str, data: bytes, now: float) -> None:
        """A packet from a dedicated line."""
        for instance in self.instances.values():
            if line in instance.router.config.lines:
                instance.router.receive_across(line, data, now)

    def pump(self, now: float) -> list[bytes]:
        """Let time pass and everything move; the packets for the internet."""
        engines: list[Router | Hosts] = [i.router for i in self.instances.values()]
        for engine in (*engines, *self.hosts.values()):
            if engine.next_timer() <= now:
                engine.handle_timer(now)
        moved = True
        while moved:
            moved = self._pass_on(now)
            for instance in list(self.instances.values()):
                for data in instance.router.local():
                    moved = True
                    self._into(instance.network, decode_packet(data), data, now)
                for way, data in instance.router.handed_on():
                    moved = True
                    table = self._config.joined[way].uses
                    self._at_hub(instance.network, table, data, now)
            for name, hosts in self.hosts.items():
                for data in list(hosts.packets(now)):
                    moved = True
                    self._from_host(name, data, now)
        for instance in self.instances.values():
            self._collect(instance)
        out, self._out = self._out, []
        return out

    def across(self) -> list[tuple[str, bytes]]:
        """Packets for dedicated lines, each with its name."""
        out, self._across = self._across, []
        return out

    def next_timer(self) -> float:
        timers = [instance.router.next_timer() for instance in self.instances.values()]
        timers += [hosts.next_timer() for hosts in self.hosts.values()]
        return min(timers, default=float("inf"))

    def _collect(self, instance: Instance) -> None:
        self._out += instance.router.underlay()
        self._across += instance.router.across()
        instance.router.key_events.clear()

    # Route tables

    def tables(self) -> CloudTables:
        """The route tables as they are now."""
        seen = self.lost, tuple((n, i.router.routes.built) for n, i in self.instances.items())
        if self._built != seen:
            self._tables.build(self._config, self.instances.values(), self.lost)
            self._built = seen
        return self._tables

    def _pass_on(self, now: float) -> bool:
        """Tell those who use a hub's tables what is in them; whether that is news to anybody."""
        if not self._config.joined:
            return False
        best, changed = self.tables().best, False
        if self._advertised is self._built:
            return False
        self._advertised = self._built
        for instance in self.instances.values():
            router, news = instance.router, False
            for name, neighbour in router.config.neighbours.items():
                joined = self._config.joined.get(neighbour.ways[0])
                if joined is not None:
                    given = best[RouterName(instance.network, joined.uses).label]
                    news |= router.bgp.speaker.pass_on(name, given)
            if news:
                router.settle(now)
            changed |= news
        return changed

    def choose(self, router: str, key: PacketKey) -> str | None:
        """The way by which a flow leaves a network, or a hub's table."""
        table = self.tables().tables.get(router)
        found = None if table is None else table.match(key.destination)
        if found is None:
            return None
        route = found[1]
        owner = self._owner(route.via)
        if not route.others or owner is None:
            return route.via
        # What is static on ways that do not share goes by the first.
        ways = (route.via, *route.others)
        owners = {way: self._owner(way) for way in ways}
        if not all(i is not None and i.router.ways[way].shared for way, i in owners.items()):
            return route.via
        return share(ways, key, owner.router.ways[route.via].translations)

    def _owner(self, way: str) -> Instance | None:
        """The instance that a tunnel or line belongs to."""
        for instance in self.instances.values():
            if way in instance.router.ways:
                return instance
        return None

    # Packets between networks, hubs and gateways

    def _subnet(self, network: str, packet: Packet, *, inwards: bool) -> CloudSubnet | None:
        address = packet.destination if inwards else packet.source
        here = (s for s in self._config.subnets if s.network == network)
        return next((s for s in here if any(p.holds(address) for p in s.prefixes)), None)

    def _allowed(self, network: str, key: PacketKey) -> bool:
        if self._rules.get(network, _NOTHING).match(key) is not None:
            return True
        self.drops.add(network, "no filter rule lets it through", key)
        return False

    def _into(self, network: str, packet: Packet, data: bytes, now: float) -> None:
        """A packet for a host of a network."""
        key = packet_key(packet)
        if self._subnet(network, packet, inwards=True) is None:
            self.drops.add("cloud", f"no subnet has {packet.destination}", key)
            return
        # Who sends too large packets must hear of it, whatever the rules say.
        if not is_error(packet) and not self._allowed(network, key):
            return
        host = self.host(network, packet)
        if host is None:
            self.drops.add(network, f"no host has {packet.destination}", key)
            return
        host.receive(data, now)

    def host(self, network: str, packet: Packet) -> Host | LentHost | None:
        """Find the host that a packet is for."""
        hosts = self.hosts.get(network)
        return None if hosts is None else hosts.get(packet.destination)

    def _from_host(self, network: str, data: bytes, now: float) -> None:
        packet = decode_packet(data)  # a host of ours made it
        key, subnet = packet_key(packet), self._subnet(network, packet, inwards=False)
        if subnet is None:
            return
        if self._subnet(network, packet, inwards=True) is not None:
            host = self.host(network, packet)
            if host is not None:
                host.receive(data, now)
            return
        if not self._allowed(network, key):
            return
        way, why = self._leave_by(subnet, key)
        if way is None:
            self.drops.add(network, why, key)
        else:
            self._send_by(way, data, key, now)

    def _leave_by(self, subnet: CloudSubnet, key: PacketKey) -> tuple[str | None, str]:
        """Route by a subnet's own routes and what is propagated to it; else why it goes nowhere."""
        own = subnet.own_route(key.destination)
        table = self.tables().tables.get(subnet.network)
        found = None if table is None else table.match(key.destination)
        if own is not None and subnet.propagation and found is not None:
            own = own if own[0].length >= found[0].length else None
        if own is None and not subnet.propagation:
            return None, f"propagation is off at {subnet.name}: no route"
        if own is not None and own[1] == NOWHERE:
            return None, f"the route table of {subnet.name} sends it nowhere"
        if own is not None and own[1] != GATEWAY:
            way = next((a for a in self._attached if self._joins(a, own[1], subnet.network)), None)
            return way, f"{subnet.network} is not attached to {own[1]}"
        return self.choose(subnet.network, key), f"no route to {key.destination}"

    def _joins(self, way: str, hub: str, network: str) -> bool:
        at = self._attached[way]
        return (at.hub, at.network) == (hub, network) and way not in self.lost

    def _send_by(
        self, way: str, data: bytes, key: PacketKey, now: float, hub: str | None = None
    ) -> None:
        """Receive over a tunnel or line, or an attachment: from its `hub`, or from its network."""
        owner, attached = self._owner(way), self._attached.get(way)
        if owner is not None:
            owner.router.receive_local(data, now, way)
        elif attached is None or way in self.lost:
            self.drops.add("cloud", f"{way} is down", key)
        elif hub is None:
            self._at_hub(attached.hub, attached.joined.uses, data, now)
        else:
            self._into(attached.network, decode_packet(data), data, now)

    def _at_hub(self, hub: str, table: str, data: bytes, now: float) -> None:
        """A packet that has come to a hub from somebody who uses a table there."""
        key = packet_key(decode_packet(data))
        router = RouterName(hub, table).label
        way = self.choose(router, key)
        if way is None:
            self.drops.add(hub, f"no route to {key.destination} at {router}", key)
        else:
            self._send_by(way, data, key, now, hub)
