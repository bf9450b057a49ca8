"""A router: IKE, ESP, BGP, filters and forwarding in one device.

The process around it feeds outer packets from the uplinks, inner packets from the hosts, and
timers; and takes outer packets, inner packets for its own networks, and events. Site gateways and
the cloud gateway's instances are both made of it.
"""

from __future__ import annotations

from collections.abc import Callable

from obrin.core.address.table import PrefixTable
from obrin.core.address.translation import inward, outward
from obrin.core.reach.filters import RuleSet
from obrin.core.routing.forwarding import Route
from obrin.core.routing.packet import PacketKey
from obrin.device.bfd_sessions import BfdSessions
from obrin.device.bgp_over_tcp import BgpOverTcp
from obrin.device.changes import changes_between
from obrin.device.config import RouterConfig
from obrin.device.counters import Refusal, TunnelCounters
from obrin.device.drops import NO_FLOW, DropLog
from obrin.device.echo import echo_answer
from obrin.device.esp_traffic import EspTraffic
from obrin.device.marks import come_out
from obrin.device.origin import ON_LINK_TTL, Origins, Selection
from obrin.device.outside import in_udp
from obrin.device.sizes import clamped, told_too_big
from obrin.device.spares import Spares
from obrin.device.table import table_of
from obrin.wire.bfd import BfdError
from obrin.wire.errors import PacketError
from obrin.wire.icmp import is_icmp, packet_key
from obrin.wire.ike.endpoint import Endpoint
from obrin.wire.ike.events import (
    CHILD_REKEY,
    IKE_REKEY,
    ChildDown,
    ChildUp,
    Discarded,
    Event,
    IkeDown,
    IkeUp,
    Refused,
)
from obrin.wire.ike.numbers import NAT_PORT, PORT
from obrin.wire.ip_fragments import Reassembly, fragments
from obrin.wire.packet import ESP, TCP, UDP, Packet, decode_packet, decode_part, decode_udp
from obrin.wire.readdress import readdress
from obrin.wire.tcp import TcpStack

_NOT_SELECTED = "not in the tunnel's traffic selectors"


class Router:
    def __init__(self, name: str, config: RouterConfig, rng: Callable[[int], bytes]) -> None:
        self.name = name
        self.drops = DropLog()
        self.ike = Endpoint((t.peer for t in config.tunnels.values()), rng)
        self._adopt(config)
        self.tcp = TcpStack(rng, mss=1240, ttl=ON_LINK_TTL)
        self.bgp = BgpOverTcp(config.neighbours, self.tcp)
        self.states = {name: TunnelCounters() for name in config.tunnels}
        self.history: list[tuple[float, str, str]] = []
        self.key_events: list[IkeUp | ChildUp] = []
        self.table: PrefixTable[Route] = PrefixTable()
        self.esp = EspTraffic(self.ike, self._drop)
        self._parts = Reassembly()
        self._stirred = False
        self._underlay: list[bytes] = []
        self._local: list[bytes] = []
        self.bfd = BfdSessions(config.tunnels, rng)
        self._spares = Spares(config.tunnels, self.ike.tunnels)
        self._build_table()

    def _adopt(self, config: RouterConfig) -> None:
        """What forwarding looks at for each packet, made ready."""
        self.config = config
        self._rules = None if config.rules is None else RuleSet(config.rules)
        self._selection = Selection(config.tunnels, self.ike.tunnels)
        self._origins = Origins(config)

    def start(self, now: float) -> None:
        self.ike.start(now)
        self._spares.start(now)
        self.bgp.start(now)
        self._settle(now)

    def stop(self, now: float) -> None:
        """Tell the peers; what they answer does not matter any more."""
        self.bgp.stop(now)
        self._settle(now)
        self.ike.close(now)
        self._settle(now)

    def take(self, config: RouterConfig, now: float) -> None:
        """Another configuration in place: only what differs ends and begins, the rest runs on."""
        changes = changes_between(self.config, config)
        for name in changes.sessions_gone:
            self.bgp.remove(name, now)
        self._settle(now)  # what these sessions still had to say leaves by their tunnels
        for name in changes.gone:
            self.ike.remove(name, "not configured any more", now)
        self._take_ike_events(now)
        for name in changes.gone:
            del self.states[name]
        self._adopt(config)
        self.states |= {name: TunnelCounters() for name in changes.new}
        for name in changes.anew:
            self.ike.reconfigure(config.tunnels[name].peer, now)
        self._take_ike_events(now)
        for name in changes.new:
            self.ike.add(config.tunnels[name].peer, now)
        self._spares.take(config.tunnels, now)
        self.bfd.take(config.tunnels, self._carrying(), now)
        for name in changes.sessions_new:
            session = self.bgp.add(config.neighbours[name])
            session.start(now)
            for way in self._carrying().intersection(config.neighbours[name].ways):
                self.bgp.tunnel_up(way, now)
        for name in changes.policies:
            neighbour = config.neighbours[name]
            self.bgp.speaker.change(name, neighbour.policy, neighbour.announce)
        self._build_table()
        self._settle(now)

    def _carrying(self) -> set[str]:
        """Tunnels with a child SA."""
        return {name for name, tunnel in self.ike.tunnels.items() if tunnel.outbound is not None}

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
                self._note(now, *self.esp.learn(packet, now))
            else:
                self._drop("an outer packet that is neither ESP nor UDP", packet_key(packet))
        except PacketError as error:
            self._drop(f"bad packet: {error.reason}", NO_FLOW)
        if self._stirred:
            self._settle(now)

    def _receive_udp(self, packet: Packet, now: float) -> None:
        udp = decode_udp(packet)
        if udp.destination_port == NAT_PORT and udp.data[:4] != b"\0\0\0\0":
            if len(udp.data) > 1:  # one byte is a keepalive (RFC 3948 section 2.3)
                self._open(udp.data, packet.tos, now)
            return
        if udp.destination_port in (PORT, NAT_PORT):
            self._stirred = True
            self.ike.receive(
                udp.data,
                (str(packet.destination), udp.destination_port),
                (str(packet.source), udp.source_port),
                now,
            )
        else:
            self._drop("an outer UDP packet for no port of this gateway", packet_key(packet))

    def _open(self, data: bytes, tos: int, now: float) -> None:
        found = self.esp.open(data, now)
        if found is not None:
            name, inner = found
            self.states[name].came_out(now)
            if inner:
                self._route(inner, name, now, outer=tos)

    def receive_local(self, data: bytes, now: float, via: str | None = None) -> None:
        """A packet from one of this gateway's own networks, perhaps for a certain tunnel."""
        self._route(data, None, now, via=via)
        if self._stirred:
            self._settle(now)

    def next_timer(self) -> float:
        return min(
            self.ike.next_timer(),
            self.tcp.next_timer(),
            self.bgp.next_timer(),
            self._spares.next_timer(),
            self.bfd.next_timer(),
        )

    def handle_timer(self, now: float) -> None:
        self.ike.handle_timer(now)
        self.tcp.handle_timer(now)
        self.bgp.handle_timer(now)
        self.bfd.handle_timer(now)
        self._settle(now)

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
            self._drop("it met congestion, and its ends cannot be told", packet_key(packet))
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
        parts = self.config.tunnels[arrived_by].translations if arrived_by is not None else ()
        if parts:
            packet = readdress(packet, packet.source, inward(parts, packet.destination))
        key = packet_key(packet)
        found = self.table.match(packet.destination)
        if found is None:
            self._drop(f"no route to {packet.destination}", key)
            return
        route = found[1]
        via = via or self.way(route, key)
        to_tunnel = via in self.config.tunnels
        rules = None if own else self._rules
        if rules is not None and (arrived_by or to_tunnel) and rules.match(key) is None:
            self._drop("no filter rule lets it through", key)
            return
        if packet.ttl <= 1:
            self._drop("time to live ran out", key)
            return
        forwarded = packet if own else packet._replace(ttl=packet.ttl - 1)
        if to_tunnel:
            tunnel = self.config.tunnels[via]
            mtu = self.esp.ways.within(via, tunnel.mtu, now)
            if packet.size > mtu and not (tunnel.fragments and packet.may_fragment):
                self._too_big(packet, via, mtu, key, now)
                return
            forwarded = clamped(forwarded, mtu)
            if tunnel.translations:
                source = outward(tunnel.translations, packet.source)
                forwarded = readdress(forwarded, source, packet.destination)
            if not self._selection.takes(via, forwarded):
                self._drop(_NOT_SELECTED, key)
                return
            for part in fragments(forwarded, mtu):
                self._seal(via, part, key, now)
        else:
            if arrived_by is not None:
                forwarded = clamped(forwarded, self.config.tunnels[arrived_by].mtu)
            self._local.append(forwarded.encode())

    def _too_big(self, packet: Packet, name: str, mtu: int, key: PacketKey, now: float) -> None:
        self._drop(f"larger than the {mtu} bytes of tunnel {name}", key)
        told = told_too_big(packet, self.config.tunnels[name], mtu)
        if told is not None:
            self._forward(told, None, now, own=True)

    def way(self, route: Route, key: PacketKey) -> str:
        """The tunnel or network that a flow leaves by."""
        tunnel = self.config.tunnels.get(route.via)
        return route.via_for(key, () if tunnel is None else tunnel.translations)

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

    def _seal(self, name: str, packet: Packet, key: PacketKey, now: float) -> None:
        outer = self.esp.seal(name, packet, key)
        if outer is not None:
            self.states[name].went_in(now)
            self._underlay.append(outer)

    # After every input

    def _settle(self, now: float) -> None:
        """Let IKE, TCP and BGP act on each other until nothing moves; what only passes through
        stirs none of them."""
        self._stirred = False
        for _ in range(8):
            self._spares.mind(now)
            changed = self._take_ike_events(now)
            changed |= self._take_bfd_changes(now)
            changed |= self.bgp.pump(now)
            if changed:
                self._build_table()
            packets, watching = self.tcp.packets(now), self.bfd.packets()
            for data in packets:
                self._forward(decode_packet(data), None, now, own=True)
            for name, packet in watching:
                if self._selection.takes(name, packet):
                    self._seal(name, packet, packet_key(packet), now)
            if not changed and not packets and not watching:
                break
        self._underlay += [in_udp(d.source, d.destination, d.data) for d in self.ike.datagrams()]

    def _take_bfd_changes(self, now: float) -> bool:
        """A path that died takes its routes with it, long before IKE notices (RFC 5882)."""
        found = self.bfd.changes()
        for name, alive in found:
            self._note(now, name, "BFD up" if alive else "BFD down: the path is dead")
            if alive:
                self.bgp.tunnel_up(name, now)
            else:
                self.bgp.tunnel_down(name, now)
        return bool(found)

    def _take_ike_events(self, now: float) -> bool:
        changed = False
        for event in self.ike.events():
            changed |= self._take_ike_event(event, now)
        del self.history[:-200]
        return changed

    def _take_ike_event(self, event: Event, now: float) -> bool:
        if isinstance(event, ChildUp):
            self.esp.child_up(event)
            self.key_events.append(event)
            if not event.rekeyed:
                self.bfd.tunnel_up(event.tunnel, now)
            self.bgp.tunnel_up(event.tunnel, now)
            if event.rekeyed:
                self.states[event.tunnel].rekeyed(CHILD_REKEY)
            self._note(now, event.tunnel, "child SA rekeyed" if event.rekeyed else "child SA up")
            return True
        if isinstance(event, ChildDown):
            self.esp.child_down(event)
            tunnel = self.ike.tunnels.get(event.tunnel)
            if tunnel is None or tunnel.outbound is None:
                self._note(now, event.tunnel, f"child SA down: {event.reason}")
                self.bgp.tunnel_down(event.tunnel, now)
                self._spares.elder_down(event.tunnel, now)
                self.bfd.tunnel_down(event.tunnel, now)
            return True
        if isinstance(event, IkeUp):
            self.key_events.append(event)
            if event.rekeyed:
                self.states[event.tunnel].rekeyed(IKE_REKEY)
            else:
                self.states[event.tunnel] = TunnelCounters()
            self._note(now, event.tunnel, "IKE SA rekeyed" if event.rekeyed else "IKE SA up")
        elif isinstance(event, IkeDown):
            self._note(now, event.tunnel, f"IKE SA down: {event.reason}")
        elif isinstance(event, Discarded):
            self._drop(f"IKE message: {event.reason}", NO_FLOW)
        elif isinstance(event, Refused):
            who = "the peer" if event.by_peer else "this end"
            text = f"{event.notify} from {who}: {event.text}"
            if event.tunnel in self.states:
                self.states[event.tunnel].refusal = Refusal(text, now, event.rekey)
            self._note(now, event.tunnel, text)
        return False

    def _note(self, now: float, tunnel: str, text: str) -> None:
        self.history.append((now, tunnel, text))

    def _build_table(self) -> None:
        alive = self._carrying() - self.bfd.dead
        self.table = table_of(self.config, alive, self.bgp.speaker.decisions)

    def underlay(self) -> list[bytes]:
        """Outer packets to send; the source address tells the uplink."""
        out, self._underlay = self._underlay, []
        return out

    def local(self) -> list[bytes]:
        """Inner packets for hosts of this gateway's own networks."""
        out, self._local = self._local, []
        return out
