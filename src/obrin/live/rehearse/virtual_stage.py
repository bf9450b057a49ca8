"""A virtual practice world as the stage of a rehearsal."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence
from datetime import timedelta

from obrin.core.errors import ObrinError
from obrin.core.reach.trace import probe_key
from obrin.core.routing.packet import PacketKey
from obrin.core.routing.stable import Stable
from obrin.core.settled.expected import Expected
from obrin.core.settled.links import SettledTunnel
from obrin.core.settled.model import Settled
from obrin.device.standard.state import router_state
from obrin.live.drivers.observations import NOT_CONFIGURED, EndStatus
from obrin.live.drivers.observed import statuses_in
from obrin.live.observe.both_ends import compared
from obrin.live.observe.status import clock_words
from obrin.live.practice.cloud.names import cloud_name
from obrin.live.practice.faults import (
    FULL,
    GATEWAY,
    KINDS,
    RESTART,
    RETYPE,
    UPLINK,
    Fault,
    judge_fault,
    seconds_wrong,
)
from obrin.live.rehearse.compare import differences
from obrin.live.rehearse.recorder import Recorder
from obrin.live.rehearse.virtual import VirtualWorld
from obrin.wire.host import Host, Query
from obrin.wire.ike.events import CHILD_REKEY

PATIENT = 1.0
"""Seconds in which an answer may come where packets are held up."""


class VirtualStage:
    """Packets need no time there, unless that is their trouble: what is answered at all is
    answered at once."""

    step = 0.1

    def __init__(self, world: VirtualWorld, recorder: Recorder | None = None) -> None:
        self._world, self._recorder = world, recorder

    @property
    def settled(self) -> Settled:
        return self._world.settled

    @property
    def now(self) -> float:
        return self._world.now

    def wait(self, seconds: float) -> None:
        self._world.run(seconds)
        if self._recorder is not None:
            self._recorder.look()

    def scene(self, what: str) -> None:
        if self._recorder is not None:
            self._recorder.scene(what)

    def answered(self, wishes: Sequence[Expected], *, patient: bool = False) -> list[bool]:
        """Asked side by side, but for those that one host would ask from one port."""
        found, left = dict[int, bool](), list(enumerate(wishes))
        while left:
            later, asked, busy = [], dict[int, tuple[Host, Query]](), set[object]()
            for number, wish in left:
                key = probe_key(self.settled, wish)
                host = self._world.host_at(wish.source.place, key.source)
                mine = wish.source.place, key.source, key.protocol, key.source_port
                if host is None:
                    found[number] = False
                elif mine in busy:
                    later.append((number, wish))
                else:
                    busy.add(mine)
                    asked[number] = host, self._ask(host, key, wish.flow.first_port)
            self._world.move()
            if patient and self._world.weather.troubles:
                self._world.run(PATIENT)
            for number, (host, query) in asked.items():
                found[number] = query.answered_at is not None
                host.forget(query)
            left = later
        self._world.move()
        return [found[number] for number in range(len(wishes))]

    def _ask(self, host: Host, key: PacketKey, port: int) -> Query:
        """Ask from the port that the model has: among shared tunnels it decides which one is
        taken."""
        return host.ask(key.protocol, key.destination, port, self.now, own=key.source_port)

    def cut(self, ways: Collection[str], dead: Collection[str]) -> None:
        for label in ways:
            self._world.cut(label)
        for gateway in dead:
            self._world.kill(gateway)

    def heal(self) -> None:
        self._world.heal()

    def differences(self, stable: Stable) -> Iterable[str]:
        return differences(self._world, stable)

    def trouble(self, fault: Fault) -> None:
        judge_fault(self.settled, fault)
        world, kind = self._world, KINDS[fault.kind]
        if kind.where == UPLINK:
            world.weather.set(fault.where, fault.kind, fault.value)
        elif fault.kind == RESTART:
            world.restart(fault.where)
        elif fault.kind == FULL:
            world.full.add(fault.where)
        elif fault.kind == RETYPE:
            world.retype(fault.where, fault.value)
        elif kind.where == GATEWAY:
            world.clocks[fault.where] = timedelta(seconds=seconds_wrong(fault))
        else:
            raise ObrinError(
                f"'{fault.kind}' troubles whoever asks the cloud's API, and in a rehearsal nobody "
                "does. Try it with 'obrin practice fault' and 'obrin connect'"
            )

    def noted(self) -> list[str]:
        world, now = self._world, self.now
        sites = {
            name: statuses_in(router_state(router, now)) for name, router in world.routers.items()
        }
        clouds: dict[str, EndStatus] = {}
        labels = {cloud_name(leg.label): leg.label for leg in self.settled.legs()}
        for instance in world.cloud.instances.values():
            for name, end in statuses_in(router_state(instance.router, now)).items():
                clouds[labels[name]] = end
        found: list[str] = []
        for leg in self.settled.legs():
            site = sites[leg.gateway].get(leg.label, NOT_CONFIGURED)
            seen = compared(self.settled, leg, site, clouds.get(leg.label, NOT_CONFIGURED))
            found += [f"{leg.label}: {text}" for text in (*seen.disagreements, *seen.notes)]
        found += [clock_words(n, wrong.total_seconds()) for n, wrong in world.clocks.items()]
        return found + [words for name in sorted(world.full) if (words := world.handed(name))]

    def change(self, settled: Settled) -> None:
        self._world.change(settled, lambda: self.wait(0.1), self._world.secrets)

    def new_key(self, tunnel: SettledTunnel) -> None:
        self._world.new_key(tunnel)

    def rekey(self, what: str) -> None:
        for router in self._world.routers.values():
            for tunnel in router.ike.tunnels.values():
                if what == CHILD_REKEY:
                    for child in list(tunnel.outbounds.values()):
                        tunnel.rekey_child(child, self.now)
                else:
                    tunnel.rekey_ike(self.now)
            router.settle(self.now)
