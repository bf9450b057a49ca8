"""A site in real time: its gateways and hosts on one LAN, and the cables that leave it."""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping
from datetime import datetime, timedelta
from functools import partial

from obrin.core.address.prefix import Address
from obrin.device.config import RouterConfig
from obrin.device.lan.hosts import Hosts
from obrin.device.lan.lan import Lan
from obrin.device.lan.site import Site
from obrin.live.practice.clock import wall_clock
from obrin.live.practice.internet.cable import Cable, cable_token
from obrin.live.practice.internet.internet import Dedicated
from obrin.live.practice.internet.keylog import KeyLog
from obrin.live.practice.service import Ticker
from obrin.live.practice.world import line_name
from obrin.wire.packet import decode_packet


class SiteProcess:
    """`uplinks` are the ports of the internet by gateway and uplink, `lines` those of dedicated
    lines, each with the gateway that it ends at. `follow` is what its hosts follow."""

    def __init__(
        self,
        uplinks: Mapping[str, Mapping[str, int]],
        lines: Mapping[str, tuple[str, int]],
        secret: str,
        keylog: KeyLog | None,
        follow: str = "",
    ) -> None:
        self._ports, self._line_ports = uplinks, lines
        self.secret, self._keylog = secret, keylog
        self._lan = Lan(os.urandom, follow)
        for name in uplinks:
            self._lan.add(name)
        self._clocks: dict[str, timedelta] = {}
        self._addresses: dict[str, dict[Address, str]] = {name: {} for name in uplinks}
        self._cables: dict[str, Cable] = {}
        self._ticker = Ticker(self._pump)

    def plug_in(self) -> None:
        """All cables, into the running loop."""
        for gateway, ports in self._ports.items():
            self.plug_more(gateway, ports, {})
        for label, (gateway, port) in self._line_ports.items():
            self.plug_more(gateway, {}, {label: port})

    def plug_more(self, gateway: str, uplinks: Mapping[str, int], lines: Mapping[str, int]) -> None:
        """Further cables of a gateway, with their ports; and the gateway, where it is new."""
        if gateway not in self._lan.gateways:
            self._lan.add(gateway)
            self._addresses[gateway] = {}
        for uplink, port in uplinks.items():
            name = line_name(gateway, uplink)
            self._plug(name, port, partial(self._arrived, gateway))
        for label, port in lines.items():
            end = Dedicated(label).ends[0]
            self._plug(end, port, partial(self._came_across, gateway, label))

    def _plug(self, name: str, port: int, receive: Callable[[bytes], None]) -> None:
        self._cables[name] = Cable(port, cable_token(self.secret, name), receive, self.kick)

    @property
    def gateways(self) -> dict[str, Site]:
        """The gateways of this process, by name."""
        return self._lan.gateways

    def wall(self, gateway: str, now: float) -> datetime:
        """What a gateway takes for the time of day."""
        return wall_clock(now) + self._clocks.get(gateway, timedelta())

    def set_clock(self, gateway: str, wrong: timedelta) -> None:
        self._clocks[gateway] = wrong

    def clock_wrong(self, gateway: str) -> float:
        """Seconds by which its clock is ahead."""
        return self._clocks.get(gateway, timedelta()).total_seconds()

    def restart(self, gateway: str) -> None:
        """It forgets everything but its configuration."""
        self._lan.restart(gateway, self.now())
        self.kick()

    @property
    def hosts(self) -> Hosts:
        """Behind all its gateways."""
        return self._lan.hosts

    def now(self) -> float:
        return self._ticker.now()

    def kick(self) -> None:
        self._ticker.kick()

    def take(self, name: str, made: RouterConfig, addresses: dict[Address, str]) -> None:
        """Another configuration of a gateway, with the uplinks that have its addresses."""
        self.gateways[name].take(made, self.now())
        self._lan.settle()
        self.kick()  # what has ended still goes out by the old uplinks
        self._addresses[name] = addresses
        self.kick()

    def begin_anew(self, gateway: str, tunnel: str) -> None:
        """Raises KeyError for a tunnel that there is not."""
        self.gateways[gateway].router.begin_anew(tunnel, self.now())
        self.kick()

    def _arrived(self, gateway: str, packet: bytes) -> None:
        self.gateways[gateway].receive(packet, self.now())

    def _came_across(self, gateway: str, line: str, packet: bytes) -> None:
        self.gateways[gateway].router.receive_across(line, packet, self.now())

    def _pump(self, now: float) -> float:
        for gateway, data in self._lan.pump(now):
            uplink = self._addresses[gateway].get(decode_packet(data).source, "")
            self._send(line_name(gateway, uplink), data)
        for _, line, data in self._lan.across():
            self._send(Dedicated(line).ends[0], data)
        for site in self.gateways.values():
            events = site.router.key_events
            if self._keylog is not None and events:
                self._keylog.write(events)
            events.clear()
        return self._lan.next_timer()

    def _send(self, cable: str, data: bytes) -> None:
        if cable in self._cables:
            self._cables[cable].send(data)
