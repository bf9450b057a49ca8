"""The record of a practice world: what runs, where it answers, and how it proves that it is ours.

The record is written before the first process and removed before the last one is gone. Every
process watches it: without the record, or when the start that it belongs to was killed, it ends by
itself. Nobody is ever ended by a process number.

Copying a project's folder copies its record. So a process proves itself with the world's secret
*and* the folder that it was started in (`proof_of`): in a copy, none of the processes is ours.
"""

from __future__ import annotations

import hmac
import http.client
import json
import os
import secrets
import time
from dataclasses import asdict, dataclass, field, fields
from pathlib import Path
from typing import Any

from obrin.core.errors import ObrinError
from obrin.core.json_text import parse_json
from obrin.live.files import lives, write_whole

WORLD = "world.json"
STARTING, RUNNING = "starting", "running"
LONGEST_START = 180.0
"""Seconds after which a start that is not finished is taken for killed."""
PROOF_TIMEOUT = 5.0


class PracticeError(ObrinError):
    """The practice world is not in the state that a command needs."""


@dataclass(slots=True)
class World:
    """The addresses at which everything answers: `ports` by process, `gateways` and their SNMP
    `agents` by name as URLs.

    `starter` is the process that writes the record while the state is `starting`; `begun` is in
    seconds since 1970.
    """

    token: str
    speed: float
    capture: str | None = None
    state: str = STARTING
    starter: int = 0
    begun: float = 0.0
    ports: dict[str, int] = field(default_factory=dict)
    gateways: dict[str, str] = field(default_factory=dict)
    agents: dict[str, str] = field(default_factory=dict)
    processes: list[str] = field(default_factory=list)

    @property
    def internet(self) -> str:
        return f"http://127.0.0.1:{self.ports['internet']}"

    @property
    def cloud(self) -> str:
        return f"http://127.0.0.1:{self.ports['cloud']}"

    def trouble_door(self, gateway: str) -> str:
        """The URL of a gateway's fault endpoint. Raises KeyError."""
        return self.gateways[gateway].replace("/gateways/", "/troubles/") + "/"

    def write(self, folder: Path) -> None:
        write_whole(folder / WORLD, json.dumps(asdict(self)))


def read_record(folder: Path) -> World | None:
    """What stands in the record, whether anything runs or not; None for none, or a damaged one."""
    try:
        data = parse_json((folder / WORLD).read_text(encoding="utf-8"))
        return _checked(data)
    except (OSError, AttributeError, ValueError, TypeError, RecursionError):
        return None


def _checked(data: Any) -> World:
    """Raises ValueError and TypeError for a record that cannot be one."""
    names = {f.name for f in fields(World)}
    world = World(**{name: value for name, value in data.items() if name in names})
    right = (
        isinstance(world.token, str)
        and isinstance(world.ports, dict)
        and all(type(p) is int and 0 < p < 65536 for p in world.ports.values())
        and isinstance(world.gateways, dict)
        and all(str(url).startswith("http://127.0.0.1:") for url in world.gateways.values())
        and isinstance(world.agents, dict)
        and all(str(url).startswith("snmp://") for url in world.agents.values())
        and isinstance(world.processes, list)
        and type(world.starter) is int
        and isinstance(world.begun, (int, float))
    )
    if not right:
        raise ValueError("the record of the practice world is damaged")
    if world.state == RUNNING and not {"internet", "cloud"} <= world.ports.keys():
        raise ValueError("the record of the practice world lacks its ports")
    return world


def proof_of(token: str, folder: Path, nonce: str) -> str:
    """What only a process of this world, started in this folder, can answer to a nonce."""
    text = f"{nonce}\n{os.path.realpath(folder)}"
    return hmac.new(token.encode(), text.encode(), "sha256").hexdigest()


def proves(world: World, folder: Path, port: int) -> bool:
    """Whether what listens at a port is of this world. The token itself is not sent."""
    nonce = secrets.token_hex(16)
    answer = _ask(port, "GET", f"/v1/proof/{nonce}", {})
    return hmac.compare_digest(answer, proof_of(world.token, folder, nonce).encode())


def ask_to_end(world: World, port: int) -> None:
    """Ask a process of this world to end. One that does not answer has ended, or will end when it
    sees that the record is gone."""
    _ask(port, "DELETE", "/v1/process", {"Authorization": f"Bearer {world.token}"})


def _ask(port: int, method: str, path: str, headers: dict[str, str]) -> bytes:
    """The beginning of what a process answers; nothing when it does not."""
    connection = http.client.HTTPConnection("127.0.0.1", port, timeout=PROOF_TIMEOUT)
    try:
        connection.request(method, path, headers=headers)
        return connection.getresponse().read(4096)
    except (OSError, http.client.HTTPException):
        return b""
    finally:
        connection.close()


def living(world: World, folder: Path) -> dict[str, bool]:
    """Whether each process answers and proves that it belongs to this world, by its name."""
    return {
        name: name in world.ports and proves(world, folder, world.ports[name])
        for name in world.processes
    }


def read_world(folder: Path) -> World | None:
    """The world that runs here, or None."""
    world = read_record(folder)
    if world is None or not any(proves(world, folder, p) for p in world.ports.values()):
        return None
    return world


def need_world(folder: Path) -> World:
    """Raises PracticeError when none runs."""
    world = read_world(folder)
    if world is None or world.state != RUNNING:
        raise PracticeError("no practice world runs here. Start one with 'obrin practice start'")
    return world


def still_wanted(folder: Path, token: str) -> bool:
    """Whether a process of the world with this token should go on."""
    world = read_record(folder)
    if world is None or not hmac.compare_digest(world.token.encode(), token.encode()):
        return False
    if world.state == RUNNING:
        return True
    return time.time() < world.begun + LONGEST_START and lives(world.starter)
