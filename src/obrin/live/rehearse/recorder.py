"""What happens in a virtual world, written scene by scene: packets, states over time, a log.

Below the folder each scene has one of its own, with `packets.pcap` (what crossed the practice
internet, opened with the keys in `keys/`), `status.csv` (every state that changed, and when) and
`log.csv` (what IKE noted at each gateway).
"""

from __future__ import annotations

import csv
import os
import re
from collections.abc import Iterator
from pathlib import Path
from typing import IO

from obrin.device.router.router import Router
from obrin.live.practice.internet.internet import Capture
from obrin.live.practice.internet.keylog import KeyLog
from obrin.live.rehearse.virtual import VirtualWorld
from obrin.wire.bfd import BfdState

STATUS, LOG, PACKETS = "status.csv", "log.csv", "packets.pcap"
_UNFIT = re.compile(r"[^a-z0-9.+@-]+")

Noted = tuple[float, str, str]
"""When, about which tunnel, what."""
State = tuple[str, str, str]
"""Gateway, tunnel or session, and of which of its states."""


class Recorder:
    """Nothing is written before the first `scene`."""

    def __init__(self, world: VirtualWorld, folder: Path) -> None:
        self._world, self._folder = world, folder
        world.keys_wanted = True
        self._seen: dict[State, str] = {}
        self._status: IO[str] | None = None
        self._log: IO[str] | None = None
        self._capture: Capture | None = None
        self._logged: dict[str, Noted] = {}
        self._keys: KeyLog | None = None

    def scene(self, what: str) -> None:
        """A part begins: its files, and the states that it begins with."""
        self.close()
        folder = self._folder / _UNFIT.sub("-", what.lower()).strip("-")
        folder.mkdir(parents=True, exist_ok=True)
        self._status, self._log = _opened(folder / STATUS), _opened(folder / LOG)
        csv.writer(self._status).writerow(("seconds", "gateway", "name", "what", "state"))
        csv.writer(self._log).writerow(("seconds", "gateway", "tunnel", "what"))
        world = self._world
        self._capture = Capture(folder / PACKETS, lambda: world.wall(world.now).timestamp())
        world.internet.capture = self._capture
        if self._keys is None:
            self._keys = KeyLog(self._folder / "keys")
        self._seen.clear()
        self.look()

    def look(self) -> None:
        """Write what changed since."""
        if self._status is None or self._log is None or self._keys is None:
            return
        now, status, log = self._world.now, csv.writer(self._status), csv.writer(self._log)
        for name, router in self._routers().items():
            for state, value in _states(name, router):
                if self._seen.get(state) != value:
                    self._seen[state] = value
                    status.writerow((f"{now:.3f}", *state, value))
            for at, tunnel, text in self._unlogged(name, router):
                log.writerow((f"{at:.3f}", name, tunnel, text))
            self._keys.write(router.key_events)
            router.key_events.clear()

    def _unlogged(self, name: str, router: Router) -> list[Noted]:
        history = router.life.history
        last = self._logged.get(name)
        after = next((n for n in range(len(history) - 1, -1, -1) if history[n] is last), -1)
        if history:
            self._logged[name] = history[-1]
        return history[after + 1 :]

    def close(self) -> None:
        """Everything is in the files."""
        self.look()
        for file in (self._status, self._log):
            if file is not None:
                file.close()
        if self._capture is not None:
            self._world.internet.capture = None
            self._capture.close()
        self._status = self._log = self._capture = None

    def _routers(self) -> dict[str, Router]:
        instances = self._world.cloud.instances.items()
        return {**self._world.routers, **{name: i.router for name, i in instances}}


def _opened(path: Path) -> IO[str]:
    flags = os.O_WRONLY | os.O_CREAT | os.O_TRUNC | os.O_NOFOLLOW
    return os.fdopen(os.open(path, flags, 0o644), "w", encoding="utf-8", newline="")


def _states(name: str, router: Router) -> Iterator[tuple[State, str]]:
    for tunnel, running in router.ike.tunnels.items():
        current = running.current
        yield (name, tunnel, "IKE SA"), "down" if current is None else current.state.value
        yield (name, tunnel, "child SA"), "down" if running.outbound is None else "up"
    for session, neighbour in router.bgp.speaker.neighbours.items():
        yield (name, session, "BGP"), neighbour.session.state.value
    for way, watched in router.bfd.sessions.items():
        yield (name, way, "BFD"), "up" if watched.state is BfdState.UP else "down"
