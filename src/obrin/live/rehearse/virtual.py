"""Run the whole practice world in one process and in virtual time: no sockets, no sleeping.

The problem. A day of lifetimes, thirty failures, a minute of hold time each: nobody waits that
long, and a clock that runs beside the packets makes no two runs alike.

The idea. Engines never read a clock: they are given the time, and say when they want to be woken.
So the clock can jump. Packets are carried until nothing moves; then the time becomes the earliest
of all timers and of all packets under way; and so on. It is built as the processes are: the cloud
through its store, from the steps that `connect` takes, the gateways from their packs, and packets
cross the same internet with the same weather.

The invariant. Time never goes back, and nothing happens between two events. All that is random
follows a seed, so that a run is the same each time.

The cost. Packets and timers, whatever time passes between them.

Proven: the same events have the same outcomes in real time, with sockets
(`tests/live/test_real_and_virtual.py`). The method is discrete-event simulation.
"""

from __future__ import annotations

import heapq
import itertools
import random
from collections.abc import Callable, Mapping
from dataclasses import replace
from datetime import datetime, timedelta
from functools import partial

from obrin.core.address.prefix import Address
from obrin.core.catalogue.offering import PRACTICE_CLOUD, Offered
from obrin.core.errors import OutsideError
from obrin.core.handover.configured import device_config
from obrin.core.handover.pack import Pack
from obrin.core.handover.secrets import Secrets, key_data
from obrin.core.handover.standard.device import decode, encode
from obrin.core.ipsec.shared_keys import make_key
from obrin.core.json_text import Json
from obrin.core.settled.links import SettledCircuit, SettledTunnel
from obrin.core.settled.model import Settled
from obrin.core.settled.ways import Attachment
from obrin.device.cloud.data_plane import Cloud
from obrin.device.lan.lan import Lan
from obrin.device.router.router import Router
from obrin.device.standard.from_standard import router_config
from obrin.live.drivers.practice_cloud.cloud_steps import (
    RESOURCE_KINDS,
    cloud_steps,
    planned,
    tunnel_step,
)
from obrin.live.drivers.protocol import CloudStep
from obrin.live.practice.cloud.data_plane import DataPlane
from obrin.live.practice.cloud.names import cloud_name
from obrin.live.practice.cloud.store import Store
from obrin.live.practice.faults import FULL_WORDS, retyped
from obrin.live.practice.internet.internet import CLOUD, Dedicated, Internet, Line
from obrin.live.practice.internet.weather import Weather
from obrin.wire.host import Host, Query
from obrin.wire.packet import decode_packet

SPEED = 1000.0
"""How much faster than in earnest the cloud builds."""


class VirtualWorld:
    """`packs` by gateway, where they are not to be made anew. `start` is the time of day when it
    begins, in UTC; all that is random in it follows from `seed`. Session keys are kept for whoever
    writes them where they are `keys_wanted`."""

    def __init__(
        self,
        settled: Settled,
        secrets: Secrets,
        *,
        packs: Mapping[str, Pack] | None = None,
        start: datetime,
        seed: int = 0,
        offering: Offered = PRACTICE_CLOUD,
    ) -> None:
        self.settled = settled
        self.now = 0.0
        self._circuits = {circuit.label: circuit for circuit in settled.circuits.values()}
        self._line_of = {cloud_name(label): label for label in self._circuits}
        self._start = start
        self.internet = Internet(
            [
                Line(f"{g.name}/{u.name}", u.address, u.own, forwards=bool(u.forwards), mtu=u.mtu)
                for g in settled.gateways.values()
                for u in g.uplinks.values()
            ],
            dedicated=[Dedicated(c.label, c.mtu) for c in settled.circuits.values()],
        )
        self.weather = Weather(self.internet, random.Random(f"{seed}:weather").random)
        self._flying: list[tuple[float, int, str, bytes]] = []
        self._count = itertools.count()
        self.dirty = False
        self.store = Store(offering, SPEED, self._mark, b"key", wished=planned(settled))
        self.cloud = Cloud(_seeded(seed, 11))
        self.data_plane = DataPlane(self.store, self.wall)
        self.lans = {
            name: Lan(_seeded(seed, 100 + number), site.hosts_follow)
            for number, (name, site) in enumerate(settled.sites.items())
        }
        self.sites = {
            gateway: self.lans[name].add(gateway)
            for name, site in settled.sites.items()
            for gateway in site.gateways
        }
        self.clocks: dict[str, timedelta] = {}
        self.full: set[str] = set()
        self._retyped: set[str] = set()
        self.keys_wanted = False
        self._random = _seeded(seed, 7)
        self.secrets = secrets
        self._configs: dict[str, Json] = {}
        self._build_cloud(cloud_steps(settled, settled.clouds, secrets))
        for name in self.sites:
            pack = (packs or {}).get(name)
            self._hand(name, *((pack.config, pack.keys) if pack else self._data(name, secrets)))

    def _clock_of(self, gateway: str, now: float) -> datetime:
        """What a gateway takes for the time of day."""
        return self.wall(now) + self.clocks.get(gateway, timedelta())

    def wall(self, now: float) -> datetime:
        """Virtual time as UTC."""
        return self._start + timedelta(seconds=now)

    @property
    def routers(self) -> dict[str, Router]:
        """The routers of the sites, by gateway."""
        return {name: site.router for name, site in self.sites.items()}

    def rebuild(self) -> None:
        """Tell the cloud's data plane what is ready now."""
        self.cloud.take(self.data_plane.config(), self.now)

    def _mark(self) -> None:
        self.dirty = True

    def _data(self, gateway: str, secrets: Secrets) -> tuple[Json, Json]:
        """What of a pack a gateway reads."""
        data_plane = encode(device_config(self.settled, gateway))
        return data_plane, key_data(self.settled, gateway, secrets)

    def _hand(self, gateway: str, config: Json, keys: Json) -> None:
        self._configs[gateway] = config
        if gateway in self.full:
            raise OutsideError(f"gateway {gateway}: {FULL_WORDS}")
        self.sites[gateway].take(
            router_config(config, keys, partial(self._clock_of, gateway)), self.now
        )
        self.lans[self.settled.gateways[gateway].site].settle()

    def handed(self, gateway: str) -> str:
        """Hand a gateway its pack again; why it was not taken, or nothing."""
        try:
            self._hand(gateway, *self._data(gateway, self.secrets))
        except OutsideError as error:
            return str(error)
        return ""

    def retype(self, gateway: str, what: str) -> None:
        """Somebody changes it by hand."""
        config, keys = self._data(gateway, self.secrets)
        self._hand(gateway, encode(retyped(decode(config), what)), keys)
        self._retyped.add(gateway)

    def _build_cloud(self, steps: list[CloudStep]) -> None:
        done: set[str] = set()
        while steps:
            for step in [s for s in steps if s.needs <= done]:
                self.store.put(*kind_and_name(step), step.body, None, self.now)
                steps.remove(step)
                done.add(step.name)
            self.now = max(o.ends for o in self.store.operations.values())
            self.store.handle_timer(self.now)
            self.rebuild()

    def run(self, seconds: float) -> None:
        """Let time pass."""
        until = self.now + seconds
        while True:
            self.store.handle_timer(self.now)
            if self.dirty:
                self.dirty = False
                self.rebuild()
            self.move()
            due = min(
                self.store.next_timer(),
                self.cloud.next_timer(),
                self._flying[0][0] if self._flying else float("inf"),
                *(lan.next_timer() for lan in self.lans.values()),
            )
            if due > until:
                break
            self.now = max(self.now, due)
        self.now = until
        if not self.keys_wanted:
            for site in self.sites.values():
                site.router.key_events.clear()

    def move(self) -> None:
        """Carry packets until nothing moves."""
        moved = True
        while moved:
            moved = self._land()
            for data in self.cloud.pump(self.now):
                moved = True
                self._carry(CLOUD, data)
            for lan in self.lans.values():
                for name, data in lan.pump(self.now):
                    moved = True
                    source = decode_packet(data).source
                    uplinks = self.settled.gateways[name].uplinks.values()
                    uplink = next(u.name for u in uplinks if u.own == source)
                    self._carry(f"{name}/{uplink}", data)
                for _, line, data in lan.across():
                    moved = True
                    self._carry(self.internet.dedicated[line].ends[0], data)
            for way, data in self.cloud.across():
                moved = True
                self._carry(self.internet.dedicated[self._line_of[way]].ends[1], data)

    def _carry(self, cable: str, data: bytes) -> None:
        for at, target, packet in self.weather.carry(cable, data, self.now):
            if at <= self.now:
                self._deliver(target, packet)
            else:
                heapq.heappush(self._flying, (at, next(self._count), target, packet))

    def _land(self) -> bool:
        """Deliver what was under way long enough."""
        landed = False
        while self._flying and self._flying[0][0] <= self.now:
            _, _, target, packet = heapq.heappop(self._flying)
            self._deliver(target, packet)
            landed = True
        return landed

    def _deliver(self, cable: str, packet: bytes) -> None:
        line, _, end = cable.rpartition("/")
        circuit = self._circuits.get(line)
        if cable == CLOUD:
            self.cloud.receive(packet, self.now)
        elif circuit is None:
            self.sites[line].receive(packet, self.now)
        elif end == "site":
            self.sites[circuit.gateway].router.receive_across(line, packet, self.now)
        else:
            self.cloud.receive_across(cloud_name(line), packet, self.now)

    def host_at(self, place: str, address: Address) -> Host | None:
        """Find a host at a site or in a cloud."""
        hosts = self.lans[place].hosts if place in self.lans else self.cloud.hosts.get(place)
        return None if hosts is None else hosts.own(address)

    def asked(
        self,
        host: Host,
        protocol: int,
        destination: Address,
        port: int,
        seconds: float = 0.0,
        own: int | None = None,
    ) -> Query:
        """A question that has so long to be answered; none, and it must be at once. It comes from
        the host's `own` port, where that is given."""
        query = host.ask(protocol, destination, port, self.now, own=own)
        self.move()
        if seconds:
            self.run(seconds)
        host.forget(query)
        self.move()
        return query

    def change(self, settled: Settled, tick: Callable[[], None], secrets: Secrets) -> None:
        """Connect again with another design or other keys, as the program does; `tick` lets time
        pass."""
        self.settled, done = settled, set[str]()
        steps = cloud_steps(settled, settled.clouds, secrets)
        for step in sorted(steps, key=lambda s: RESOURCE_KINDS.index(kind_and_name(s)[0])):
            assert step.needs <= done, step.name
            held = self.store.resources.get(kind_and_name(step))
            etag = None if held is None else self.store.etag(held)
            self.store.put(*kind_and_name(step), step.body, etag, self.now)
            while self.store.operation_on(*kind_and_name(step)) is not None:
                tick()
            done.add(step.name)
        wanted = set(map(kind_and_name, steps))
        for kind in reversed(RESOURCE_KINDS):
            for key in [k for k in self.store.resources if k[0] == kind and k not in wanted]:
                self.store.delete(*key, self.now)
                while self.store.operation_on(*key) is not None:
                    tick()
        for name in self.sites:
            there = name in settled.gateways and settled.legs_at(name)
            self._hand(name, *(self._data(name, secrets) if there else ({}, {})))
            tick()

    def new_key(self, tunnel: SettledTunnel) -> None:
        """A new pre-shared key: at the cloud first, then at the site's gateway."""
        settled = self.settled
        key = make_key(self._random, settled.key_rules(tunnel))
        self.secrets = replace(self.secrets, keys={**self.secrets.keys, tunnel.label: key})
        step = tunnel_step(settled, tunnel, self.secrets)
        etag = self.store.etag(self.store.resources[kind_and_name(step)])
        self.store.put(*kind_and_name(step), step.body, etag, self.now)
        while self.store.operation_on(*kind_and_name(step)) is not None:
            self.run(0.1)
        keys = key_data(settled, tunnel.gateway, self.secrets)
        self._hand(tunnel.gateway, self._configs[tunnel.gateway], keys)

    def cut(self, label: str) -> None:
        """A way loses everything, without a word."""
        way = self.settled.way(label)
        if isinstance(way, SettledTunnel):
            self.internet.cut_pair(str(way.uplink.address), str(way.cloud_address))
        elif isinstance(way, SettledCircuit):
            self.internet.cut_dedicated.add(label)
        elif isinstance(way, Attachment):
            self.cloud.lost |= {label}

    def kill(self, gateway: str) -> None:
        """A site's gateway is dead to its hosts and to the gateways beside it."""
        site = self.settled.sites[self.settled.gateways[gateway].site]
        self.lans[site.name].dead[gateway] = self.now + site.first_hop

    def restart(self, gateway: str) -> None:
        """It loses everything but its configuration; its peers are not informed."""
        lan = self.lans[self.settled.gateways[gateway].site]
        lan.restart(gateway, self.now)
        self.sites[gateway] = lan.gateways[gateway]

    @property
    def dead(self) -> frozenset[str]:
        """Gateways."""
        return frozenset(name for lan in self.lans.values() for name in lan.dead)

    def heal(self) -> None:
        """Everything that was cut carries again."""
        self.internet.heal()
        self.weather.heal()
        self.clocks.clear()
        self.full.clear()
        for gateway in self._retyped:
            self.handed(gateway)
        self._retyped.clear()
        self.cloud.lost = frozenset()
        for lan in self.lans.values():
            lan.dead.clear()


def kind_and_name(step: CloudStep) -> tuple[str, str]:
    """Split a step's name into the kind and the name of a resource of the practice cloud."""
    kind, _, name = step.name.partition("/")
    return kind, name


def _seeded(*numbers: int) -> Callable[[int], bytes]:
    return random.Random(":".join(map(str, numbers))).randbytes
