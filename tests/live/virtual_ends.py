"""The drivers of a practice world in virtual time: commands that act run against it in this process.

What the program waits for passes in virtual time: every `sleep` and every wait calls `tick`, which lets
packets move.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from types import SimpleNamespace

from click.testing import CliRunner, Result

from obrin.cli.main import obrin
from obrin.core.errors import OutsideError
from obrin.core.pki.read import PrivateKey, key_as_pem, read_bundle
from obrin.core.pki.read import fits as is_for
from obrin.device.standard.state import circuit_states, session_states, tunnel_states
from obrin.live.connect import turns, whole
from obrin.live.drivers import registry
from obrin.live.drivers.observations import EndStatus
from obrin.live.drivers.observed import end_statuses
from obrin.live.drivers.practice_cloud.cloud_steps import RESOURCE_KINDS
from obrin.live.drivers.practice_cloud.driver import PracticeCloud
from obrin.live.drivers.protocol import Done, Ends
from obrin.live.observe import status
from obrin.live.practice.cloud.names import cloud_name
from obrin.live.practice.service import Problem
from obrin.live.rehearse.virtual import VirtualWorld, kind_and_name

TICK = 0.1


class Killed(BaseException):
    """The program is killed at this moment."""


class VirtualEnds:
    """`tick` lets that many seconds of virtual time pass. Acting calls are counted, and the one
    numbered `kill_at` does not come back."""

    def __init__(self, world: VirtualWorld, tick: Callable[[float], None]) -> None:
        self.world, self.tick = world, tick
        self.lock = threading.RLock()
        self.device_keys: dict[str, PrivateKey] = {}
        self.packs: dict[str, tuple] = {}
        self.silent: set[str] = set()
        self.acted, self.kill_at = 0, 0

    def act(self) -> None:
        self.acted += 1
        if self.acted == self.kill_at:
            raise Killed

    @contextmanager
    def opened(self, project, settled, person=None, *, by_hand=False) -> Iterator[Ends]:
        cloud = VirtualCloud(self)
        gateways = {name: VirtualGateway(self, name) for name in self.world.sites}
        clouds = dict.fromkeys(settled.clouds, cloud)
        yield Ends(clouds, gateways, lambda: project.barred(settled))

    def sleep(self, seconds: float) -> None:
        with self.lock:
            self.tick(seconds)

    def patch(self, monkeypatch) -> None:
        """Commands of this process meet this world."""
        clock = SimpleNamespace(sleep=self.sleep, monotonic=lambda: self.world.now)
        for module in (turns, whole, status):
            monkeypatch.setattr(module, "time", clock)
        monkeypatch.setattr(registry, "open_ends", self.opened)

    def states(self, routers) -> dict[str, EndStatus]:
        found: dict[str, EndStatus] = {}
        for router in routers:
            parts = (read(router, self.world.now) for read in (tunnel_states, circuit_states))
            found |= end_statuses(*parts, session_states(router, self.world.now))
        return found


class VirtualCloud(PracticeCloud):
    """The practice cloud's driver, with its store instead of HTTP."""

    def __init__(self, ends: VirtualEnds) -> None:
        self._ends, self._store = ends, ends.world.store
        self._speed = 1000.0

    def _finish(self, key: tuple[str, str]) -> None:
        while self._store.operation_on(*key) is not None:
            self._ends.tick(TICK)

    def do(self, step, report, stop) -> Done:
        key = kind_and_name(step)
        for left in reversed(range(50)):
            if left < 49:
                time.sleep(0.01)  # whoever has what it needs has to get the lock
            with self._ends.lock:
                held = self._store.resources.get(key)
                etag = None if held is None else self._store.etag(held)
                self._ends.act()
                try:
                    _, operation = self._store.put(*key, step.body, etag, self._ends.world.now)
                except Problem as problem:
                    if problem.status != 409 or not left:
                        raise OutsideError(f"{step.name}: {problem}") from None
                    continue
                self._finish(key)
                break
        return Done(operation is not None, "built" if operation else "already so")

    def held(self) -> list[str]:
        found = [k for kind in RESOURCE_KINDS for k in self._store.resources if k[0] == kind]
        return ["/".join(key) for key in found]

    def waiting(self) -> dict[str, str]:
        return {}

    def remove(self, name, report) -> None:
        kind, _, rest = name.partition("/")
        with self._ends.lock:
            self._ends.act()
            if (kind, rest) in self._store.resources:
                self._store.delete(kind, rest, self._ends.world.now)
                self._finish((kind, rest))

    def standing(self, steps) -> dict:
        held = self._store.resources
        return {s.name: () for s in steps if kind_and_name(s) in held}

    def tunnels(self, settled, cloud) -> dict[str, EndStatus]:
        with self._ends.lock:
            found = self._ends.states(i.router for i in self._ends.world.cloud.instances.values())
        labels = {cloud_name(leg.label): leg.label for leg in settled.legs_at(cloud)}
        return {labels[name]: end for name, end in found.items() if name in labels}

    def drops(self, cloud) -> list:
        return []

    def close(self) -> None:
        pass


class VirtualGateway:
    """A site's gateway; one whose device made its own key has it."""

    def __init__(self, ends: VirtualEnds, name: str) -> None:
        self._ends, self.name = ends, name

    def hand_over(self, config, keys) -> Done:
        with self._ends.lock:
            if self.name in self._ends.silent:
                raise OutsideError(f"gateway {self.name} does not answer")
            self._ends.act()
            before = self._ends.packs.get(self.name)
            self._ends.packs[self.name] = (config, keys)
            self._ends.world._hand(self.name, config, self._with_own_key(keys))
            self._ends.tick(TICK)
            return Done(before != (config, keys), "pack handed over")

    def _with_own_key(self, keys):
        held = keys.get("obrin-keys:keys", {})
        given, own = held.get("certificate"), self._ends.device_keys.get(self.name)
        if given is None or "private-key" in given or own is None:
            return keys
        leaf = read_bundle(given["chain"].encode(), None, "x").certificates[0]
        assert is_for(leaf, own), "a certificate for another key than the device's"
        return {
            "obrin-keys:keys": {**held, "certificate": {**given, "private-key": key_as_pem(own)}}
        }

    def has_pack(self) -> bool:
        return bool(self._ends.packs.get(self.name, ({},))[0])

    def held(self):
        return None

    def take_away(self) -> None:
        self.hand_over({}, {"obrin-keys:keys": {}})

    def begin_anew(self, label) -> None:
        with self._ends.lock:
            self._ends.act()
            router = self._ends.world.sites[self.name].router
            if label in router.ike.tunnels:
                router.begin_anew(label, self._ends.world.now)

    def tunnels(self) -> dict[str, EndStatus]:
        with self._ends.lock:
            return self._ends.states([self._ends.world.sites[self.name].router])

    def drops(self) -> list:
        return []

    def clock(self):
        return None

    def close(self) -> None:
        pass


def run(*arguments: str, today: str, design: str) -> Result:
    """A command in this process; the result has its exit code, output and exception."""
    return CliRunner().invoke(
        obrin, [*arguments, "--design", design], env={"OBRIN_TODAY": today, "COLUMNS": "110"}
    )
