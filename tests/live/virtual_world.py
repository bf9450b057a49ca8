"""The whole practice world in one process and in virtual time: no sockets, no sleeping."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime, timedelta

from obrin.core.address.prefix import parse_ipv4
from obrin.core.catalogue.offering import PRACTICE_CLOUD
from obrin.core.handover.pack import make_pack
from obrin.core.handover.secrets import CertificateFiles, Secrets
from obrin.core.settled.model import Settled
from obrin.live.connect.steps import (
    RESOURCE_KINDS,
    CloudStep,
    cloud_tunnel_name,
    connect_steps,
)
from obrin.live.practice.cloud.fabric import Fabric
from obrin.live.practice.cloud.store import Store
from obrin.live.practice.from_standard import node_config
from obrin.live.practice.hosts import Hosts
from obrin.live.practice.internet import CLOUD, Internet, Line
from obrin.live.practice.node import Node
from obrin.wire.host import Query
from obrin.wire.packet import decode_ipv4
from tests.authority import NOW
from tests.doubles import seeded


def wall(now: float) -> datetime:
    """Virtual time as UTC."""
    return NOW + timedelta(seconds=now)


class VirtualWorld:
    """Built through the same store, packs and configuration readers as the processes."""

    def __init__(
        self, settled: Settled, keys: dict[str, str] | None = None,
        certificates: dict[str, CertificateFiles] | None = None,
    ) -> None:  # fmt: skip
        self.settled = settled
        keys = keys or {t.label: f"key-of-{t.label}-1234567890" for t in settled.tunnels()}
        secrets = Secrets(keys, certificates or {})
        self.now = 0.0
        self.internet = Internet(
            [
                Line(f"{g.name}/{u.name}", parse_ipv4(u.address), parse_ipv4(u.own))
                for g in settled.gateways.values()
                for u in g.uplinks.values()
            ]
        )
        self.dirty = False
        self.store = Store(PRACTICE_CLOUD, 1000.0, self._mark, b"key")
        self.fabric = Fabric(self.store, seeded(11), wall)
        self.nodes: dict[str, Node] = {}
        self.hosts: dict[str, Hosts] = {}
        packs = {name: make_pack(settled, name, secrets) for name in settled.gateways}
        self._build_cloud(
            [s for s in connect_steps(settled, packs, secrets) if isinstance(s, CloudStep)]
        )
        for seed, (name, pack) in enumerate(packs.items()):
            config = node_config(pack.config, pack.keys, wall)
            self.nodes[name] = Node(name, config, seeded(100 + seed))
            self.hosts[name] = Hosts(config.host_places(), seeded(200 + seed))
            self.nodes[name].start(self.now)

    def _mark(self) -> None:
        self.dirty = True

    def _build_cloud(self, steps: list[CloudStep]) -> None:
        done: set[str] = set()
        while steps:
            for step in [s for s in steps if s.needs <= done]:
                self.store.put(step.kind, step.resource, step.body, None, self.now)
                steps.remove(step)
                done.add(step.name)
            self.now = max(o.ends for o in self.store.operations.values())
            self.store.handle_timer(self.now)
            self.fabric.rebuild(self.now)

    def run(self, seconds: float) -> None:
        until = self.now + seconds
        while True:
            self.store.handle_timer(self.now)
            if self.dirty:
                self.dirty = False
                self.fabric.rebuild(self.now)
            self._move()
            due = min(
                self.store.next_timer(),
                self.fabric.pump(self.now),
                *(n.next_timer() for n in self.nodes.values()),
                *(h.next_timer() for h in self.hosts.values()),
            )
            self._move()
            if due > until:
                break
            self.now = max(self.now, due)
            for engine in (*self.nodes.values(), *self.hosts.values()):
                engine.handle_timer(self.now)
        self.now = until

    def _move(self) -> None:
        """Carry packets until nothing moves."""
        moved = True
        while moved:
            moved = False
            self.fabric.pump(self.now)
            for data in self.fabric.packets():
                moved = True
                self._carry(CLOUD, data)
            for name, node in self.nodes.items():
                for data in node.local():
                    moved = True
                    host = self.hosts[name].by_address.get(decode_ipv4(data).destination)
                    if host is not None:
                        host.receive(data, self.now)
                for host in self.hosts[name].by_address.values():
                    for data in host.packets(self.now):
                        moved = True
                        node.receive_local(data, self.now)
                for data in node.underlay():
                    moved = True
                    source = decode_ipv4(data).source
                    uplinks = self.settled.gateways[name].uplinks.values()
                    uplink = next(u.name for u in uplinks if parse_ipv4(u.own) == source)
                    self._carry(f"{name}/{uplink}", data)

    def _carry(self, cable: str, data: bytes) -> None:
        onward = self.internet.carry(cable, data)
        if onward is None:
            return
        target, packet = onward
        if target == CLOUD:
            self.fabric.receive(packet, self.now)
        else:
            self.nodes[target.partition("/")[0]].receive_underlay(packet, self.now)

    def ask(
        self, source: int, destination: int, protocol: int, port: int, *, at_cloud: bool = True
    ) -> Query:
        """A question that has a second to be answered; both sides may have the address."""
        host = self.fabric.hosts.get(source) if at_cloud else None
        if host is None:
            host = next(h.by_address[source] for h in self.hosts.values() if source in h.by_address)
        query = host.ask(protocol, destination, port, self.now)
        self.run(1.0)
        host.forget(query)
        self.run(0.0)
        return query

    def longest_gap(self, source: int, destination: int, seconds: float) -> float:
        """Echo requests every 50 ms; the longest time between two answers."""
        host = next(h.by_address[source] for h in self.hosts.values() if source in h.by_address)
        last, gap, until = self.now, 0.0, self.now + seconds
        while self.now < until:
            query = host.ask(1, destination, 0, self.now)
            self._move()
            if query.answered_at is not None:
                gap, last = max(gap, self.now - last), self.now
            host.forget(query)
            self.run(0.05)
        return max(gap, self.now - last - 0.05)

    def change(self, settled: Settled, tick: Callable[[], None]) -> None:
        """Connect again with another design, as the program does; `tick` lets time pass."""
        keys = {t.label: f"key-of-{t.label}-1234567890" for t in settled.tunnels()}
        secrets = Secrets(keys, {})
        packs = {name: make_pack(settled, name, secrets) for name in settled.gateways}
        done: set[str] = set()
        steps = [s for s in connect_steps(settled, packs, secrets) if isinstance(s, CloudStep)]
        for step in sorted(steps, key=lambda s: RESOURCE_KINDS.index(s.kind)):
            assert step.needs <= done, step.name
            held = self.store.resources.get((step.kind, step.resource))
            etag = None if held is None else self.store.etag(held)
            self.store.put(step.kind, step.resource, step.body, etag, self.now)
            while self.store.running(step.kind, step.resource) is not None:
                tick()
            done.add(step.name)
        wanted = {(s.kind, s.resource) for s in steps}
        for kind in reversed(RESOURCE_KINDS):
            for key in [k for k in self.store.resources if k[0] == kind and k not in wanted]:
                self.store.delete(*key, self.now)
                while self.store.running(*key) is not None:
                    tick()
        for name, pack in packs.items():
            config = node_config(pack.config, pack.keys, wall)
            self.hosts[name].take(config.host_places())
            self.nodes[name].take(config, self.now)
            tick()
        self.settled = settled

    def cut(self, label: str) -> None:
        tunnel = next(t for t in self.settled.tunnels() if t.label == label)
        self.internet.cut_pair(tunnel.uplink.address, tunnel.cloud_address)

    def instance(self, number: int) -> Node:
        name = next(iter(self.settled.clouds))
        return self.fabric.instances[f"{name}-{number}"].node


def cloud_via(node: Node, destination: int) -> str | None:
    """The tunnel that an instance uses, by the cloud's name for it."""
    found = node.table.match(destination)
    return None if found is None or "." not in found[1].via else found[1].via


__all__ = ["VirtualWorld", "cloud_tunnel_name", "cloud_via"]
