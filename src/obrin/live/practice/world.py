"""Starting and stopping the practice world: the internet, the cloud, and the gateways."""

from __future__ import annotations

import contextlib
import json
import os
import secrets
import subprocess
import sys
import time
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any

from obrin.core.catalogue.offering import PRACTICE_CLOUD, Offered
from obrin.core.design.offering_file import format_offering
from obrin.core.errors import OutsideError
from obrin.core.settled.links import SettledCircuit
from obrin.core.settled.model import Settled
from obrin.core.settled.sites import SettledGateway
from obrin.live.files import private_folder, write_whole
from obrin.live.practice.cloud.names import agreed, cloud_name
from obrin.live.practice.internet.internet import Dedicated
from obrin.live.practice.record import (
    RUNNING,
    WORLD,
    PracticeError,
    World,
    ask_to_end,
    living,
    proves,
    read_record,
    read_world,
)
from obrin.live.secrets.file import PASSPHRASE

TOKEN_VARIABLE = "OBRIN_PRACTICE_TOKEN"
AGENT_USER = "practice"
START_TIMEOUT = 60.0
STOP_TIMEOUT = 10.0
MOST_PROCESSES = 8
"""Processes for gateways; with more gateways, several share one."""
AGREED = "agreed"
OFFERING = "offering{}.yaml"
"""One for each cloud."""


def line_name(gateway: str, uplink: str) -> str:
    return f"{gateway}/{uplink}"


def start_world(
    settled: Settled,
    folder: Path,
    *,
    speed: float = 600.0,
    capture: Path | None = None,
    offering: Offered = PRACTICE_CLOUD,
    snmp: bool = False,
) -> World:
    """Start all processes and wait until each answers; with `snmp`, an agent for each gateway.

    Raises PracticeError and OutsideError.
    """
    need_startable(folder)
    _make_room(folder)
    world = World(
        secrets.token_urlsafe(24),
        speed,
        str(capture) if capture else None,
        starter=os.getpid(),
        begun=time.time(),
    )
    starter = Starter(folder, world)
    try:
        _start_all(settled, starter, capture, offering, snmp=snmp)
    except BaseException:
        stop_world(folder)
        raise
    world.state = RUNNING
    world.write(folder)
    return world


def need_startable(folder: Path) -> None:
    """Raises PracticeError where one runs."""
    if read_world(folder) is not None:
        raise PracticeError("a practice world runs here already. Stop it with 'practice stop'")


def _make_room(folder: Path) -> None:
    private_folder(folder.parent)
    try:
        folder.mkdir(exist_ok=True)
        for old in (*folder.glob("*.json"), *folder.glob("*.log")):
            old.unlink(missing_ok=True)
    except OSError as error:
        raise OutsideError(f"cannot write {folder}: {error.strerror}. Check the folder") from error


def _start_all(
    settled: Settled, starter: Starter, capture: Path | None, offering: Offered, *, snmp: bool
) -> None:
    starter.launch("internet", "internet", _internet_arguments(settled, capture))
    cables: dict[str, int] = starter.wait("internet")["cables"]
    _launch_cloud(settled, starter, cables, offering)
    more = ["--snmp"] if snmp else []
    if capture is not None:
        more += ["--keylog", str(_key_folder(capture))]
    processes = launch_gateways(settled, settled.sites, starter, cables, more)
    starter.wait("cloud")
    take_in(starter, processes)


def agent_url(port: int) -> str:
    """Where the SNMP agent of a gateway answers."""
    return f"snmp://{AGENT_USER}@127.0.0.1:{port}"


def take_in(starter: Starter, processes: Mapping[str, Sequence[str]]) -> None:
    """Wait for processes, and note where their gateways answer."""
    world = starter.world
    for process, names in processes.items():
        ready = starter.wait(process)
        for name in names:
            world.gateways[name] = f"http://127.0.0.1:{ready['port']}/gateways/{name}"
        for name, port in ready["agents"].items():
            world.agents[name] = agent_url(port)


def _key_folder(capture: Path) -> Path:
    """Say where the keys of a capture go, without those of an older one."""
    folder = capture.with_name(capture.name + ".keys")
    for name in ("esp_sa", "ikev2_decryption_table"):
        (folder / name).unlink(missing_ok=True)
    return folder.absolute()


def _launch_cloud(
    settled: Settled, starter: Starter, cables: dict[str, int], offering: Offered
) -> None:
    starter.launch(
        "cloud",
        "cloud",
        [
            "--cable",
            f"cloud={cables['cloud']}",
            "--speed",
            str(starter.world.speed),
            *_write_offerings(settled, starter.folder, offering),
            "--agreed",
            str(_write_agreed(settled, starter.folder)),
            *(
                f"--line-cable={c.label}={cloud_name(c.label)}={cables[_ends(c)[1]]}"
                for c in settled.circuits.values()
            ),
        ],
    )


def launch_gateways(
    settled: Settled,
    sites: Iterable[str],
    starter: Starter,
    cables: Mapping[str, int],
    more: list[str],
) -> dict[str, list[str]]:
    """A process for each group of sites. Returns the gateways of each, by the process's name."""
    there = (settled.sites[name] for name in sites)
    wanted = [site for site in there if any(map(settled.legs_at, site.gateways))]
    groups = [wanted[start::MOST_PROCESSES] for start in range(min(MOST_PROCESSES, len(wanted)))]
    processes = {}
    for number, held in enumerate(groups, 1):
        arguments = list(more)
        group = [settled.gateways[name] for site in held for name in site.gateways]
        for gateway in group:
            follow = settled.sites[gateway.site].hosts_follow
            arguments += ["--gateway", f"{gateway.name}={gateway.site}={follow}"]
            for uplink in gateway.uplinks:
                name = line_name(gateway.name, uplink)
                arguments += ["--cable", f"{name}={cables[name]}"]
        here = {gateway.name for gateway in group}
        arguments += [
            f"--line-cable={c.label}={c.gateway}={cables[_ends(c)[0]]}"
            for c in settled.circuits.values()
            if c.gateway in here
        ]
        process = f"gateway-{group[0].name}" if len(group) == 1 else f"gateways-{number}"
        while process in starter.world.processes:
            process += "-more"
        processes[process] = [gateway.name for gateway in group]
        starter.launch("gateways", process, arguments)
    return processes


def _write_offerings(settled: Settled, folder: Path, offering: Offered) -> list[str]:
    """What each cloud offers, as arguments for the process of the practice cloud."""
    arguments = []
    for cloud in settled.clouds:
        file = folder / OFFERING.format(f"-{cloud}")
        write_whole(file, format_offering(offering.of(cloud)), 0o644)
        arguments += ["--offering", f"{cloud}={file}"]
    return arguments


def _ends(circuit: SettledCircuit) -> tuple[str, str]:
    """The cables of a circuit, the site's first."""
    return Dedicated(circuit.label).ends


def _write_agreed(settled: Settled, folder: Path) -> Path:
    file = folder / AGREED
    write_whole(file, json.dumps(sorted(agreed(settled))), 0o644)
    return file


def _internet_arguments(settled: Settled, capture: Path | None) -> list[str]:
    arguments = []
    for gateway in settled.gateways.values():
        for text in line_texts(gateway).values():
            arguments += ["--line", text]
    for circuit in settled.circuits.values():
        arguments += ["--circuit", f"{circuit.label}={circuit.mtu}"]
    if capture is not None:
        arguments += ["--capture", str(capture.absolute())]
    return arguments


def line_texts(gateway: SettledGateway) -> dict[str, str]:
    """The uplinks of a gateway by name, as the practice internet is given them."""
    return {
        uplink.name: f"{line_name(gateway.name, uplink.name)}={uplink.address}={uplink.own}="
        f"{'forwards' if uplink.forwards else ''}={uplink.mtu}"
        for uplink in gateway.uplinks.values()
    }


class Starter:
    """Writes each process into the record before it starts it, and its port once it answers."""

    def __init__(self, folder: Path, world: World) -> None:
        self.folder = folder
        self.world = world
        self._processes: dict[str, subprocess.Popen[bytes]] = {}

    def launch(self, role: str, name: str, arguments: list[str]) -> None:
        self.world.processes.append(name)
        self.world.write(self.folder)
        command = [
            sys.executable,
            "-m",
            "obrin.live.practice.run",
            role,
            "--name",
            name,
            "--folder",
            str(self.folder.absolute()),
            *arguments,
        ]
        passed = {n: value for n, value in os.environ.items() if n != PASSPHRASE}
        with (self.folder / f"{name}.log").open("wb") as log:
            self._processes[name] = subprocess.Popen(
                command,
                stdin=subprocess.DEVNULL,
                stdout=log,
                stderr=log,
                start_new_session=True,
                env={**passed, TOKEN_VARIABLE: self.world.token},
            )

    def wait(self, name: str) -> dict[str, Any]:
        """What the process wrote once it was ready."""
        path = self.folder / f"{name}.json"
        until = time.monotonic() + START_TIMEOUT
        while time.monotonic() < until:
            if path.exists():
                found: dict[str, Any] = json.loads(path.read_text(encoding="utf-8"))
                self.world.ports[name] = found["port"]
                self.world.write(self.folder)
                return found
            if self._processes[name].poll() is not None:
                break
            time.sleep(0.02)
        log = (self.folder / f"{name}.log").read_text(encoding="utf-8", errors="replace")
        last = log.strip().splitlines()[-1:] or ["it said nothing"]
        raise OutsideError(f"the practice {name} did not start: {last[0]}")


def stop_world(folder: Path) -> bool:
    """End every process of the world whose record is here; True if one ran.

    Each is asked over its own endpoint, after it proved to be of this world; one that does not
    answer sees that the record is gone. Raises PracticeError when some go on all the same.
    """
    world = read_record(folder)
    if world is None:
        with contextlib.suppress(OSError):
            (folder / WORLD).unlink(missing_ok=True)
        return False
    ours = [world.ports[name] for name, alive in living(world, folder).items() if alive]
    try:
        (folder / WORLD).unlink(missing_ok=True)
    except OSError as error:
        raise OutsideError(f"cannot remove {folder / WORLD}: {error.strerror}") from error
    for port in ours:
        ask_to_end(world, port)
    until = time.monotonic() + STOP_TIMEOUT
    left = list(ours)
    while left and time.monotonic() < until:
        left = [port for port in left if proves(world, folder, port)]
        time.sleep(0.02)
    if left:
        raise PracticeError(
            f"{len(left)} processes of the practice world do not end. They stop by themselves when "
            "they see that its record is gone; try again in a moment"
        )
    return bool(ours)
