"""Starting and stopping the practice world: the internet, the cloud, and every gateway."""

from __future__ import annotations

import contextlib
import json
import os
import secrets
import signal
import subprocess
import sys
import time
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from obrin.core.design.offering import PRACTICE_CLOUD, Offering
from obrin.core.design.offering_file import format_offering
from obrin.core.design.settled import Settled
from obrin.core.errors import ObrinError, OutsideError
from obrin.live.files import private_folder, write_whole
from obrin.live.practice.beyond import refuse_beyond

TOKEN_VARIABLE = "OBRIN_PRACTICE_TOKEN"
WORLD = "world.json"
START_TIMEOUT = 30.0
STOP_TIMEOUT = 5.0
MOST_GATEWAYS = 16


class PracticeError(ObrinError):
    """The practice world is not in the state that a command needs."""


@dataclass(frozen=True, slots=True)
class World:
    """Where everything answers. `pids` are of this machine."""

    token: str
    internet: str
    cloud: str
    gateways: dict[str, str]
    pids: dict[str, int]
    speed: float
    capture: str | None


OFFERING = "offering.yaml"


def line_name(gateway: str, uplink: str) -> str:
    return f"{gateway}/{uplink}"


def start_world(
    settled: Settled, folder: Path, *, speed: float = 600.0, capture: Path | None = None,
    offering: Offering = PRACTICE_CLOUD,
) -> World:  # fmt: skip
    """Start all processes and wait until each answers.

    Raises PracticeError, OutsideError, and ObrinError for what the practice world has not.
    """
    if read_world(folder) is not None:
        raise PracticeError("a practice world runs here already. Stop it with 'practice stop'")
    refuse_beyond(settled)
    count = len({t.gateway for t in settled.tunnels()})
    if count > MOST_GATEWAYS:
        raise PracticeError(
            f"the design has {count} gateways with tunnels; the practice world runs at most "
            f"{MOST_GATEWAYS}. Try a part of it"
        )
    for site in settled.design.sites:
        names = [g.name for g in settled.gateways.values() if g.site == site]
        if len(names) > 1:
            raise PracticeError(
                f"site {site} has {len(names)} gateways; the practice world runs one per site. "
                "Try the others in a design of their own"
            )
    private_folder(folder.parent)
    folder.mkdir(exist_ok=True)
    for old in folder.glob("*.json"):
        old.unlink()
    token = secrets.token_urlsafe(24)
    starter = _Starter(folder, token)
    keylog = None
    if capture is not None:
        keylog = capture.with_name(capture.name + ".keys")
        for name in ("esp_sa", "ikev2_decryption_table"):
            (keylog / name).unlink(missing_ok=True)
    try:
        internet = starter.start("internet", _internet_arguments(settled, capture), "internet")
        cables = internet["cables"]
        write_whole(folder / OFFERING, format_offering(offering), 0o644)
        starter.launch("cloud", ["--cable", f"cloud={cables['cloud']}", "--speed", str(speed),
                                 "--offering", str(folder / OFFERING)])  # fmt: skip
        used = {t.gateway for t in settled.tunnels()}
        for gateway in settled.gateways.values():
            if gateway.name in used:
                arguments = ["--name", gateway.name]
                for uplink in gateway.uplinks:
                    port = cables[line_name(gateway.name, uplink)]
                    arguments += ["--cable", f"{uplink}={port}"]
                if keylog is not None:
                    arguments += ["--keylog", str(keylog.absolute())]
                starter.launch("gateway", arguments, f"gateway-{gateway.name}")
        cloud = starter.wait("cloud")
        gateways = {
            name: _url(starter.wait(f"gateway-{name}")) for name in settled.gateways if name in used
        }
    except BaseException:
        _stop_pids(starter.pids.values())
        raise
    world = World(
        token, _url(internet), _url(cloud), gateways, starter.pids, speed,
        str(capture) if capture else None,
    )  # fmt: skip
    write_whole(folder / WORLD, json.dumps(_as_json(world)))
    return world


def _internet_arguments(settled: Settled, capture: Path | None) -> list[str]:
    arguments = []
    for gateway in settled.gateways.values():
        for uplink in gateway.uplinks.values():
            name = line_name(gateway.name, uplink.name)
            arguments += ["--line", f"{name}={uplink.address}={uplink.own}"]
    if capture is not None:
        arguments += ["--capture", str(capture.absolute())]
    return arguments


def _url(ready: dict[str, Any]) -> str:
    return f"http://127.0.0.1:{ready['port']}"


class _Starter:
    def __init__(self, folder: Path, token: str) -> None:
        self._folder = folder
        self._token = token
        self._processes: dict[str, subprocess.Popen[bytes]] = {}
        self.pids: dict[str, int] = {}

    def launch(self, role: str, arguments: list[str], name: str | None = None) -> None:
        name = name or role
        command = [
            sys.executable, "-m", "obrin.live.practice.run", role,
            "--folder", str(self._folder.absolute()), *arguments,
        ]  # fmt: skip
        with (self._folder / f"{name}.log").open("wb") as log:
            process = subprocess.Popen(
                command,
                stdin=subprocess.DEVNULL,
                stdout=log,
                stderr=log,
                start_new_session=True,
                env={**os.environ, TOKEN_VARIABLE: self._token},
            )
        self._processes[name] = process
        self.pids[name] = process.pid

    def wait(self, name: str) -> dict[str, Any]:
        """What the process wrote once it was ready."""
        path = self._folder / f"{name}.json"
        until = time.monotonic() + START_TIMEOUT
        while time.monotonic() < until:
            if path.exists():
                found: dict[str, Any] = json.loads(path.read_text(encoding="utf-8"))
                return found
            if self._processes[name].poll() is not None:
                break
            time.sleep(0.02)
        log = (self._folder / f"{name}.log").read_text(encoding="utf-8", errors="replace")
        last = log.strip().splitlines()[-1:] or ["it said nothing"]
        raise OutsideError(f"the practice {name} did not start: {last[0]}")

    def start(self, role: str, arguments: list[str], name: str) -> dict[str, Any]:
        self.launch(role, arguments, name)
        return self.wait(name)


def _as_json(world: World) -> dict[str, Any]:
    return {slot: getattr(world, slot) for slot in World.__slots__}


def read_world(folder: Path) -> World | None:
    """The world that runs here, or None."""
    try:
        world = World(**json.loads((folder / WORLD).read_text(encoding="utf-8")))
    except (OSError, ValueError, TypeError):
        return None
    return world if any(map(_alive, world.pids.values())) else None


def need_world(folder: Path) -> World:
    world = read_world(folder)
    if world is None:
        raise PracticeError("no practice world runs here. Start one with 'obrin practice start'")
    return world


def _alive(pid: int) -> bool:
    """Whether the process runs and is one of ours: numbers are used again."""
    with contextlib.suppress(ChildProcessError, OSError):
        os.waitpid(pid, os.WNOHANG)
    try:
        command = Path(f"/proc/{pid}/cmdline").read_bytes()
        return b"obrin.live.practice.run" in command
    except FileNotFoundError:
        if Path("/proc/self").exists():
            return False
    except OSError:
        return False
    try:
        os.kill(pid, 0)
    except OSError:
        return False
    return True


def stop_world(folder: Path) -> bool:
    """End every process; True if one ran."""
    world = read_world(folder)
    if world is not None:
        _stop_pids(world.pids.values())
    (folder / WORLD).unlink(missing_ok=True)
    return world is not None


def _stop_pids(pids: Any) -> None:
    left = [pid for pid in pids if _alive(pid)]
    for sign in (signal.SIGTERM, signal.SIGKILL):
        for pid in left:
            with contextlib.suppress(OSError):
                os.kill(pid, sign)
        until = time.monotonic() + STOP_TIMEOUT
        while left and time.monotonic() < until:
            left = [pid for pid in left if _alive(pid)]
            time.sleep(0.02)
        if not left:
            return
