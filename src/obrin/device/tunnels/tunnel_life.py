"""What SAs that come and go mean to the rest of a router, and what is remembered of them."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from obrin.core.address.prefix import Address, parse_address
from obrin.core.routing.packet import PacketKey
from obrin.device.packets.drops import NO_FLOW
from obrin.device.tunnels.bfd_sessions import BfdSessions
from obrin.device.tunnels.bgp_over_tcp import BgpOverTcp
from obrin.device.tunnels.counters import Refusal, TunnelCounters
from obrin.device.tunnels.esp_traffic import EspTraffic
from obrin.device.tunnels.spares import Spares
from obrin.wire.ike.endpoint import NO_PEER, Endpoint
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
from obrin.wire.packet import UDP

KEPT = 200
"""Entries of the history."""
MOST_STRANGERS = 8
"""Addresses without a tunnel that are told apart when IKE comes from them."""


class TunnelLife:
    """`states` are the counters of tunnels and lines, `history` what happened and when,
    `key_events` those with keys in them, for who writes a log of keys."""

    def __init__(
        self,
        ike: Endpoint,
        esp: EspTraffic,
        bgp: BgpOverTcp,
        bfd: BfdSessions,
        spares: Spares,
        drop: Callable[[str, PacketKey], None],
    ) -> None:
        self._ike, self._esp, self._bgp = ike, esp, bgp
        self._bfd, self._spares, self._drop = bfd, spares, drop
        self.states: dict[str, TunnelCounters] = {}
        self.history: list[tuple[float, str, str]] = []
        self.key_events: list[IkeUp | ChildUp] = []
        self._strangers: set[str] = set()

    def watch(self, ways: Iterable[str]) -> None:
        """These have counters from now on; those that had them keep theirs."""
        kept = {name: self.states.get(name) or TunnelCounters() for name in ways}
        self.states.clear()
        self.states.update(kept)

    def note(self, now: float, tunnel: str, text: str) -> None:
        self.history.append((now, tunnel, text))

    def take_all(self, now: float) -> bool:
        """Everything that IKE reports; whether the routes may have changed."""
        changed = False
        for event in self._ike.events():
            changed |= self._take(event, now)
        del self.history[:-KEPT]
        return changed

    def _take(self, event: Event, now: float) -> bool:
        if isinstance(event, ChildUp):
            self._child_up(event, now)
            return True
        if isinstance(event, ChildDown):
            self._child_down(event, now)
            return True
        if isinstance(event, IkeUp):
            self.key_events.append(event)
            if event.rekeyed:
                self.states[event.tunnel].rekeyed(IKE_REKEY)
            else:
                self.states[event.tunnel] = TunnelCounters()
            self.note(now, event.tunnel, "IKE SA rekeyed" if event.rekeyed else "IKE SA up")
        elif isinstance(event, IkeDown):
            self.note(now, event.tunnel, f"IKE SA down: {event.reason}")
        elif isinstance(event, Discarded):
            self._drop(f"IKE message: {event.reason}", self._flow_of(event))
        elif isinstance(event, Refused):
            who = "the peer" if event.by_peer else "this end"
            text = f"{event.notify} from {who}: {event.text}"
            if event.tunnel in self.states:
                self.states[event.tunnel].refusal = Refusal(text, now, event.rekey)
            self.note(now, event.tunnel, text)
        return False

    def _flow_of(self, event: Discarded) -> PacketKey:
        """Source of a discarded packet. Only a few are told apart, since anybody can forge an
        address."""
        if event.reason != NO_PEER:
            return NO_FLOW
        if event.detail not in self._strangers and len(self._strangers) < MOST_STRANGERS:
            self._strangers.add(event.detail)
        if event.detail not in self._strangers:
            return NO_FLOW
        source = parse_address(event.detail)
        return PacketKey(source, Address(source.bits, 0), UDP)

    def _child_up(self, event: ChildUp, now: float) -> None:
        self._esp.child_up(event)
        self.key_events.append(event)
        if not event.rekeyed:
            self._bfd.tunnel_up(event.tunnel, now)
        self._bgp.tunnel_up(event.tunnel, now)
        if event.rekeyed:
            self.states[event.tunnel].rekeyed(CHILD_REKEY)
        self.note(now, event.tunnel, "child SA rekeyed" if event.rekeyed else "child SA up")

    def _child_down(self, event: ChildDown, now: float) -> None:
        self._esp.child_down(event)
        tunnel = self._ike.tunnels.get(event.tunnel)
        if tunnel is None or tunnel.outbound is None:
            self.note(now, event.tunnel, f"child SA down: {event.reason}")
            self._bgp.tunnel_down(event.tunnel, now)
            self._spares.elder_down(event.tunnel, now)
            self._bfd.tunnel_down(event.tunnel, now)
