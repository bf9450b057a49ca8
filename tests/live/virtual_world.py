"""The whole practice world in one process and in virtual time: no sockets, no sleeping."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime, timedelta

from obrin.core.address.prefix import Address
from obrin.core.catalogue.offering import PRACTICE_CLOUD
from obrin.core.handover.pack import make_pack
from obrin.core.handover.secrets import CertificateFiles, Secrets
from obrin.core.settled.model import Settled
from obrin.device.cloud import Cloud
from obrin.device.from_standard import router_config
from obrin.device.router import Router
from obrin.device.site import Site
from obrin.live.drivers.practice_cloud.steps import RESOURCE_KINDS, cloud_steps, cloud_tunnel_name
from obrin.live.drivers.protocol import CloudStep
from obrin.live.practice.cloud.store import Store
from obrin.live.practice.cloud.told import Told
from obrin.live.practice.internet import CLOUD, Internet, Line
from obrin.wire.host import Host, Query
from obrin.wire.packet import decode_packet
from tests.authority import NOW
from tests.doubles import seeded


def wall(now: float) -> datetime:
    """Virtual time as UTC."""
    return NOW + timedelta(seconds=now)


def keys_of(settled: Settled) -> dict[str, str]:
    """By label."""
    return {s.label: f"key-of-{s.label}-1234567890" for s in settled.shared_secrets()}


class VirtualWorld:
    """Built through the same store, packs and configuration readers as the processes."""

    def __init__(
        self,
        settled: Settled,
        keys: dict[str, str] | None = None,
        certificates: dict[str, CertificateFiles] | None = None,
    ) -> None:
        self.settled = settled
        secrets = Secrets(keys or keys_of(settled), certificates or {})
        self.now = 0.0
        self.internet = Internet(
            [
                Line(
                    f"{g.name}/{u.name}",
                    u.address,
                    u.own,
                    forwards=bool(u.forwards),
                    mtu=u.mtu,
                )
                for g in settled.gateways.values()
                for u in g.uplinks.values()
            ]
        )
        self.dirty = False
        self.store = Store(PRACTICE_CLOUD, 1000.0, self._mark, b"key")
        self.cloud = Cloud(seeded(11))
        self.told = Told(self.store, wall)
        packs = {name: make_pack(settled, name, secrets) for name in settled.gateways}
        self.sites = {n: Site(n, seeded(100 + seed)) for seed, n in enumerate(packs)}
        self._build_cloud(cloud_steps(settled, settled.clouds, secrets))
        for name, pack in packs.items():
            self.sites[name].take(router_config(pack.config, pack.keys, wall), self.now)

    @property
    def routers(self) -> dict[str, Router]:
        return {name: site.router for name, site in self.sites.items()}

    def rebuild(self) -> None:
        """Tell the cloud's data plane what is ready now."""
        self.cloud.take(self.told.config(), self.now)

    def _mark(self) -> None:
        self.dirty = True

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
        until = self.now + seconds
        while True:
            self.store.handle_timer(self.now)
            if self.dirty:
                self.dirty = False
                self.rebuild()
            self._move()
            due = min(
                self.store.next_timer(),
                self.cloud.next_timer(),
                *(site.next_timer() for site in self.sites.values()),
            )
            if due > until:
                break
            self.now = max(self.now, due)
        self.now = until

    def _move(self) -> None:
        """Carry packets until nothing moves."""
        moved = True
        while moved:
            moved = False
            for data in self.cloud.pump(self.now):
                moved = True
                self._carry(CLOUD, data)
            for name, site in self.sites.items():
                for data in site.pump(self.now):
                    moved = True
                    source = decode_packet(data).source
                    uplinks = self.settled.gateways[name].uplinks.values()
                    uplink = next(u.name for u in uplinks if u.own == source)
                    self._carry(f"{name}/{uplink}", data)

    def _carry(self, cable: str, data: bytes) -> None:
        onward = self.internet.carry(cable, data)
        if onward is None:
            return
        target, packet = onward
        if target == CLOUD:
            self.cloud.receive(packet, self.now)
        else:
            self.sites[target.partition("/")[0]].receive(packet, self.now)

    def host(self, address: Address) -> Host:
        """A host at one of the sites."""
        return next(h for s in self.sites.values() if (h := s.hosts.get(address)) is not None)

    def ask(
        self,
        source: Address,
        destination: Address,
        protocol: int,
        port: int,
        *,
        at_cloud: bool = True,
    ) -> Query:
        """A question that has a second to be answered; both sides may have the address."""
        host = self.cloud.hosts.get(source) if at_cloud else None
        if host is None:
            host = self.host(source)
        query = host.ask(protocol, destination, port, self.now)
        self.run(1.0)
        host.forget(query)
        self.run(0.0)
        return query

    def longest_gap(self, source: Address, destination: Address, seconds: float) -> float:
        """Echo requests every 50 ms; the longest time between two answers."""
        host = self.host(source)
        last, gap, until = self.now, 0.0, self.now + seconds
        while self.now < until:
            query = host.ask(1, destination, 0, self.now)
            self._move()
            if query.answered_at is not None:
                gap, last = max(gap, self.now - last), self.now
            host.forget(query)
            self.run(0.05)
        return max(gap, self.now - last - 0.05)

    def change(
        self, settled: Settled, tick: Callable[[], None], keys: dict[str, str] | None = None
    ) -> None:
        """Connect again with another design, as the program does; `tick` lets time pass."""
        secrets = Secrets(keys or keys_of(settled), {})
        packs = {name: make_pack(settled, name, secrets) for name in settled.gateways}
        done: set[str] = set()
        steps = cloud_steps(settled, settled.clouds, secrets)
        for step in sorted(steps, key=lambda s: RESOURCE_KINDS.index(kind_and_name(s)[0])):
            assert step.needs <= done, step.name
            held = self.store.resources.get(kind_and_name(step))
            etag = None if held is None else self.store.etag(held)
            self.store.put(*kind_and_name(step), step.body, etag, self.now)
            while self.store.running(*kind_and_name(step)) is not None:
                tick()
            done.add(step.name)
        wanted = set(map(kind_and_name, steps))
        for kind in reversed(RESOURCE_KINDS):
            for key in [k for k in self.store.resources if k[0] == kind and k not in wanted]:
                self.store.delete(*key, self.now)
                while self.store.running(*key) is not None:
                    tick()
        for name, pack in packs.items():
            config = router_config(pack.config, pack.keys, wall)
            self.sites[name].take(config, self.now)
            tick()
        self.settled = settled

    def cut(self, label: str) -> None:
        tunnel = next(t for t in self.settled.tunnels() if t.label == label)
        self.internet.cut_pair(str(tunnel.uplink.address), str(tunnel.cloud_address))

    def instance(self, number: int) -> Router:
        name = next(iter(self.settled.clouds))
        return self.cloud.instances[f"{name}-{number}"].router


def kind_and_name(step: CloudStep) -> tuple[str, str]:
    """Of a resource of the practice cloud."""
    kind, _, name = step.name.partition("/")
    return kind, name


def cloud_via(router: Router, destination: Address) -> str | None:
    """The tunnel that an instance uses, by the cloud's name for it."""
    found = router.table.match(destination)
    return None if found is None or "." not in found[1].via else found[1].via


__all__ = ["VirtualWorld", "cloud_tunnel_name", "cloud_via"]
