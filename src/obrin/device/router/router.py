"""A router: IKE, ESP, BGP, filters and forwarding in one device.

The process around it feeds outer packets from the uplinks, inner ones from hosts, dedicated lines
and neighbours on the LAN, and timers; and takes packets of the same kinds, and events. Gateways of
sites and instances of clouds are both made of it.
"""

from __future__ import annotations

from collections.abc import Callable

from obrin.core.address.table import PrefixTable
from obrin.core.address.translation import inward, outward
from obrin.core.routing.forwarding import Route
from obrin.core.routing.packet import PacketKey
from obrin.device.changes import changes_between
from obrin.device.config import RouterConfig
from obrin.device.packets.drops import NO_FLOW, DropLog
from obrin.device.packets.echo import echo_answer
from obrin.device.packets.icmp_errors import clamped, time_exceeded_for, too_big_for
from obrin.device.packets.packet_filter import PacketFilter
from obrin.device.router.table import ForwardingTable
from obrin.device.tunnels.bfd_sessions import BfdSessions
from obrin.device.tunnels.bgp_over_tcp import BgpOverTcp
from obrin.device.tunnels.ecn import come_out
from obrin.device.tunnels.esp_traffic import EspTraffic
from obrin.device.tunnels.origin import ON_LINK_TTL, Origins, Selection
from obrin.device.tunnels.outside import in_udp
from obrin.device.tunnels.spares import Spares
from obrin.device.tunnels.tunnel_life import TunnelLife
from obrin.wire.bfd import BfdError
from obrin.wire.errors import PacketError
from obrin.wire.icmp import is_icmp, packet_key
from obrin.wire.ike.codec.numbers import NAT_PORT, PORT
from obrin.wire.ike.endpoint import Endpoint
from obrin.wire.ip_fragments import Reassembly, fragments
from obrin.wire.packet import ESP, TCP, UDP, Packet, decode_packet, decode_part, decode_udp
from obrin.wire.readdress import readdress
from obrin.wire.tcp import TcpStack

_NOT_SELECTED = "not in the tunnel's traffic selectors"


class Router:
    """`ways` are tunnels and lines, `routes` what is known of where packets go."""

    def __init__(self, name: str, config: RouterConfig, rng: Callable[[int], bytes]) -> None:
        self.name = name
        self.drops = DropLog()
        self.ike = Endpoint((t.peer for t in config.tunnels.values()), rng)
        self._adopt(config)
        self.tcp = TcpStack(rng, mss=1240, ttl=ON_LINK_TTL)
        self.bgp = BgpOverTcp(config.neighbours, self.tcp)
        self.esp = EspTraffic(self.ike, self._drop)
        self._parts = Reassembly()
        self._stirred = False
        self._due: float | None = None
        self._underlay: list[bytes] = []
        self._local: list[bytes] = []
        self._across: list[tuple[str, bytes]] = []
        self._handed: list[tuple[str, bytes]] = []
        self.bfd = BfdSessions(self.ways, rng)
        self._spares = Spares(config.tunnels, self.ike.tunnels)
        self.life = TunnelLife(self.ike, self.esp, self.bgp, self.bfd, self._spares, self._drop)
        self.life.watch(self.ways)
        self.states, self.key_events = self.life.states, self.life.key_events
        self.routes = ForwardingTable(config, self._carrying_now(), self.bgp.speaker)

    @property
    def table(self) -> PrefixTable[Route]:
        """What packets go by."""
        return self.routes.table

    def _adopt(self, config: RouterConfig) -> None:
        """What forwarding looks at for each packet, made ready."""
        self.config = config
        self.ways = config.ways()
        self._filter = PacketFilter(config.rules)
        self._selection = Selection(config.tunnels, self.ike.tunnels)
        self._origins = Origins(config)

    def start(self, now: float) -> None:
        self.ike.start(now)
        self._spares.start(now)
        for name in self._always_there():
            self.bgp.tunnel_up(name, now)
            self.bfd.tunnel_up(name, now)
        self.bgp.start(now)
        self.settle(now)

    def stop(self, now: float) -> None:
        """Tell the peers; what they answer does not matter any more."""
        self.bgp.stop(now)
        self.settle(now)
        self.ike.close(now)
        self.settle(now)

    def take(self, config: RouterConfig, now: float) -> None:
        """Another configuration in place: only what differs ends and begins, the rest runs on."""
        changes = changes_between(self.config, config)
        for name in changes.sessions_gone:
            self.bgp.remove(name, now)
        self.settle(now)  # what these sessions still had to say leaves by their tunnels
        for name in changes.gone:
            self.ike.remove(name, "not configured any more", now)
        self.life.take_all(now)
        there = self._always_there()
        self._adopt(config)
        for name in there - self._always_there():
            self.bgp.tunnel_down(name, now)
        self.life.watch(self.ways)
        for name in changes.anew:
            self.ike.reconfigure(config.tunnels[name].peer, now)
        self.life.take_all(now)
        for name in changes.new:
            self.ike.add(config.tunnels[name].peer, now)
        self._spares.take(config.tunnels, now)
        self.bfd.take(self.ways, self._carrying(), now)
        for name in changes.sessions_new:
            session = self.bgp.add(config.neighbours[name])
            session.start(now)
            for way in self._carrying().intersection(config.neighbours[name].ways):
                self.bgp.tunnel_up(way, now)
        for name in changes.policies:
            neighbour = config.neighbours[name]
            self.bgp.speaker.change(name, neighbour.policy, neighbour.announce)
        self.routes.build(config, self._carrying_now(), self.bgp.speaker)
        self.settle(now)

    def begin_anew(self, tunnel: str, now: float) -> None:
        """Raises KeyError for one that there is not."""
        self.ike.begin_anew(tunnel, now)
        self.settle(now)

    def _carrying(self) -> set[str]:
        """Tunnels with a child SA, and what needs none."""
        up = (name for name, tunnel in self.ike.tunnels.items() if tunnel.outbound is not None)
        return self._always_there().union(up)

    def _always_there(self) -> set[str]:
        """Lines, and the LAN: nothing shows whether they carry."""
        return {*self.config.lines, *self.config.beside}

    def _drop(self, reason: str, key: PacketKey) -> None:
        self.drops.add(self.name, reason, key)

    # In

    def receive_underlay(self, packet: Packet, now: float) -> None:
        """A packet from an uplink; bad ones are dropped."""
        try:
            if packet.protocol == ESP:
                self._open(packet.payload, packet.tos, now)
            elif packet.protocol == UDP:
                self._receive_udp(packet, now)
            elif is_icmp(packet):
                self.life.note(now, *self.esp.learn(packet, now))
            else:
                self._drop("an outer packet that is neither ESP nor UDP", packet_key(packet))
        except PacketError as error:
            self._drop(f"bad packet: {error.reason}", NO_FLOW)
        if self._stirred:
            self.settle(now)

    def _receive_udp(self, packet: Packet, now: float) -> None:
        udp = decode_udp(packet)
        if udp.destination_port == NAT_PORT and udp.data[:4] != b"\0\0\0\0":
            if len(udp.data) > 1:  # one byte is a keepalive (RFC 3948 section 2.3)
                self._open(udp.data, packet.tos, now)
            return
        if udp.destination_port in (PORT, NAT_PORT):
            here = str(packet.destination), udp.destination_port
            there = str(packet.source), udp.source_port
            if self.ike.receive(udp.data, here, there, now):
                self._stirred = True
            else:  # a flood does not have everything settled each time
                self.life.take_all(now)
                self._answer_ike()
        else:
            self._drop("an outer UDP packet for no port of this gateway", packet_key(packet))

    def _open(self, data: bytes, tos: int, now: float) -> None:
        if (found := self.esp.open(data, now)) is not None:
            name, inner = found
            self.states[name].came_out(now)
            if inner:
                self._route(inner, name, now, outer=tos)

    def receive_local(self, data: bytes, now: float, via: str | None = None) -> None:
        """A packet from one of this gateway's own networks, perhaps for a certain tunnel."""
        if via is None or via in self.ways:
            self._enter(data, None, now, via)

    def receive_across(self, way: str, data: bytes, now: float) -> None:
        """Take a packet from a dedicated circuit, or from a gateway on the same LAN."""
        if way in self.states:
            self.states[way].came_out(now)
        if way in self.ways or way in self.config.beside:
            self._enter(data, way, now, None)

    def _enter(self, data: bytes, arrived_by: str | None, now: float, via: str | None) -> None:
        self._route(data, arrived_by, now, via=via)
        if self._stirred:
            self.settle(now)

    def next_timer(self) -> float:
        """What passes through moves timers only further away, so they are looked at once for each
        time that things were settled."""
        if self._due is None:
            engines = self.ike, self.tcp, self.bgp, self._spares, self.bfd
            self._due = min(engine.next_timer() for engine in engines)
        return self._due

    def handle_timer(self, now: float) -> None:
        self.ike.handle_timer(now)
        self.tcp.handle_timer(now)
        self.bgp.handle_timer(now)
        self.bfd.handle_timer(now)
        self.settle(now)

    # Forwarding

    def _route(
        self,
        data: bytes,
        arrived_by: str | None,
        now: float,
        *,
        via: str | None = None,
        outer: int = 0,
    ) -> None:
        """A packet from elsewhere. `outer` are the marks of the one that it came in."""
        try:
            packet = decode_part(data)
            whole = self._parts.take(packet, now) if packet.offset or packet.more else packet
        except PacketError as error:
            self._drop(f"bad packet: {error.reason}", NO_FLOW)
            return
        if whole is not None:
            self._route_whole(whole, arrived_by, now, via=via, outer=outer)

    def _route_whole(
        self, packet: Packet, arrived_by: str | None, now: float, *, via: str | None, outer: int
    ) -> None:
        marked = come_out(packet, outer)
        if marked is None:
            self._drop("it met congestion, and its ends cannot be notified", packet_key(packet))
        elif not self._selection.takes(arrived_by, marked, inwards=True):
            self._drop(_NOT_SELECTED, packet_key(packet))
        else:
            self._forward(marked, arrived_by, now, via=via)

    def _forward(
        self,
        packet: Packet,
        arrived_by: str | None,
        now: float,
        *,
        own: bool = False,
        via: str | None = None,
    ) -> None:
        """Filters are for what passes through; what the gateway itself sends is `own`.

        `via` is a tunnel that somebody has chosen already among those that share a route.
        """
        if packet.destination in self._origins.own:
            self._for_me(packet, arrived_by, now)
            return
        came = None if arrived_by is None else self.ways.get(arrived_by)
        if came is not None and came.translations:
            inside = inward(came.translations, packet.destination)
            packet = readdress(packet, packet.source, inside)
        key = packet_key(packet)
        if via is None and (arrived_by is None or not self.config.hands_on):
            found = self.table.match(packet.destination)
            if found is None:
                self._drop(f"no route to {packet.destination}", key)
                return
            via = self.way(found[1], key)
        crosses = via in self.ways or via in self.config.beside
        if not own and (arrived_by or crosses) and not self._filter.lets_through(packet, key):
            self._drop("no filter rule lets it through", key)
            return
        if packet.ttl <= 1:
            self._drop("time to live ran out", key)
            report = time_exceeded_for(packet, (came, self.ways.get(via or "")))
            if report is not None:
                self._forward(report, None, now, own=True)
            return
        forwarded = packet if own else packet._replace(ttl=packet.ttl - 1)
        if via is not None and crosses:
            self._cross(via, forwarded, key, now)
            return
        if came is not None:
            forwarded = clamped(forwarded, came.mtu)
        if via is None and arrived_by is not None:
            self._handed.append((arrived_by, forwarded.encode()))
        else:
            self._local.append(forwarded.encode())

    def _cross(self, via: str, packet: Packet, key: PacketKey, now: float) -> None:
        """Send a packet to a peer through a tunnel, a circuit or the LAN."""
        way = self.ways.get(via)
        if way is None:
            self._across.append((via, packet.encode()))
            return
        mtu = self.esp.ways.within(via, way.mtu, now)
        if packet.size > mtu and not (way.fragments and packet.may_fragment):
            self._too_big(packet, via, mtu, key, now)
            return
        forwarded = clamped(packet, mtu)
        if way.translations:
            source = outward(way.translations, packet.source)
            forwarded = readdress(forwarded, source, packet.destination)
        if not self._selection.takes(via, forwarded):
            self._drop(_NOT_SELECTED, key)
            return
        for part in fragments(forwarded, mtu):
            self._send_by(via, part, key, now)

    def _too_big(self, packet: Packet, name: str, mtu: int, key: PacketKey, now: float) -> None:
        what = "tunnel" if name in self.config.tunnels else "line"
        self._drop(f"larger than the {mtu} bytes of {what} {name}", key)
        report = too_big_for(packet, self.ways[name], mtu)
        if report is not None:
            self._forward(report, None, now, own=True)

    def way(self, route: Route, key: PacketKey) -> str:
        """The way or network that a flow leaves by."""
        way = self.ways.get(route.via)
        return route.via_for(key, () if way is None else way.translations)

    def _for_me(self, packet: Packet, arrived_by: str | None, now: float) -> None:
        self._stirred = True
        try:
            if is_icmp(packet):
                answer = echo_answer(packet)
                if answer is not None:
                    self._forward(answer, None, now, own=True)
                return
            self._origins.judge(packet, arrived_by)
            if packet.protocol == TCP:
                self.tcp.receive(packet, now)
            elif packet.protocol == UDP:
                self.bfd.receive(arrived_by, packet, now)
            else:
                raise PacketError("of a protocol that the gateway itself does not speak")
        except (PacketError, BfdError) as error:
            reason = error.reason if isinstance(error, PacketError) else "BFD that is refused"
            self._drop(f"for the gateway itself: {reason}", packet_key(packet))

    def _send_by(self, name: str, packet: Packet, key: PacketKey, now: float) -> None:
        if name in self.config.lines:
            self.states[name].went_in(now)
            self._across.append((name, packet.encode()))
            return
        outer = self.esp.seal(name, packet, key)
        if outer is not None:
            self.states[name].went_in(now)
            self._underlay.append(outer)

    # After every input

    def settle(self, now: float) -> None:
        """Let IKE, TCP and BGP act on each other until nothing moves; what only passes through
        stirs none of them."""
        self._stirred, self._due = False, None
        for _ in range(8):
            self._spares.mind(now)
            changed = self.life.take_all(now)
            changed |= self._take_bfd_changes(now)
            changed |= self.bgp.pump(now)
            if changed:
                self.routes.renew(self._carrying_now(), self.bgp.speaker)
            packets, watching = self.tcp.packets(now), self.bfd.packets()
            for data in packets:
                self._forward(decode_packet(data), None, now, own=True)
            for name, packet in watching:
                if self._selection.takes(name, packet):
                    self._send_by(name, packet, packet_key(packet), now)
            if not changed and not packets and not watching:
                break
        self._answer_ike()

    def _answer_ike(self) -> None:
        self._underlay += [in_udp(d.source, d.destination, d.data) for d in self.ike.datagrams()]

    def _take_bfd_changes(self, now: float) -> bool:
        """A path that died takes its routes with it, long before IKE notices (RFC 5882)."""
        found = self.bfd.changes()
        for name, alive in found:
            self.life.note(now, name, "BFD up" if alive else "BFD down: the path is dead")
            if alive:
                self.bgp.tunnel_up(name, now)
            else:
                self.bgp.tunnel_down(name, now)
        return bool(found)

    def _carrying_now(self) -> set[str]:
        return self._carrying() - self.bfd.dead

    def underlay(self) -> list[bytes]:
        """Outer packets to send; the source address gives the uplink."""
        out, self._underlay = self._underlay, []
        return out

    def across(self) -> list[tuple[str, bytes]]:
        """Packets for lines and for gateways on the LAN, each with its way."""
        out, self._across = self._across, []
        return out

    def handed_on(self) -> list[tuple[str, bytes]]:
        """What came out of tunnels and lines for somebody else to send on, each with its way."""
        out, self._handed = self._handed, []
        return out

    def local(self) -> list[bytes]:
        """Inner packets for hosts of this gateway's own networks."""
        out, self._local = self._local, []
        return out
