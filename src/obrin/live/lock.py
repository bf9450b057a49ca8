"""One writer a project: a lock that the system takes back from whoever is killed.

The lock is on the project's folder itself, so that asking for it leaves nothing behind. Who holds
it stands in a note beside the keys, where there is such a folder.
"""

from __future__ import annotations

import contextlib
import fcntl
import json
import os
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from obrin.core.errors import ObrinError
from obrin.core.json_text import parse_json
from obrin.live.files import cannot, write_whole

NOTE = "busy.json"
PATIENCE = 5.0
"""Seconds to wait for a command that is just ending."""


class BusyError(ObrinError):
    """Another command is writing in this project; the text says which."""

    exit_code = 3


Tell = Callable[[str], None]


@contextmanager
def project_lock(folder: Path, own: Path, what: str, told: Tell | None = None) -> Iterator[None]:
    """Hold the lock of a project's folder while `what` writes; `own` is Obrin's folder in it.

    Raises BusyError when somebody else goes on writing; unless somebody is `told` so, once, and
    waits however long that takes.
    """
    try:
        descriptor = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    except OSError as error:
        raise cannot("read", folder, error) from error
    note = own / NOTE
    held = _Held(descriptor, own, note, what)
    try:
        held.take(PATIENCE, told)
        _HELD.append(held)
        yield
    finally:
        if held in _HELD:
            _HELD.remove(held)
        held.leave()
        os.close(descriptor)


@contextmanager
def apart() -> Iterator[None]:
    """Let go of the lock that this process holds while somebody is asked, who may take an hour, and
    take it again, however long that takes. What lies in the project may be another afterwards."""
    held = _HELD[-1] if _HELD else None
    if held is None:
        yield
        return
    held.leave()
    try:
        yield
    finally:
        held.take(PATIENCE, _silent)


class _Held:
    def __init__(self, descriptor: int, own: Path, note: Path, what: str) -> None:
        self._descriptor, self._own, self._note, self._what = descriptor, own, note, what

    def take(self, patience: float, told: Tell | None) -> None:
        """Raises BusyError."""
        _take(self._descriptor, self._note, patience, told)
        text = {"what": self._what, "process": os.getpid(), "since": round(time.time())}
        if self._own.is_dir() and not self._own.is_symlink() and os.access(self._own, os.W_OK):
            write_whole(self._note, json.dumps(text), 0o644)

    def leave(self) -> None:
        with contextlib.suppress(OSError):
            if _holder(self._note).get("process") == os.getpid():
                self._note.unlink(missing_ok=True)
            fcntl.flock(self._descriptor, fcntl.LOCK_UN)


_HELD: list[_Held] = []
"""What this process holds; a command holds one."""


def _silent(_: str) -> None:
    pass


def _take(descriptor: int, note: Path, patience: float, told: Tell | None) -> None:
    until = time.monotonic() + patience
    while True:
        try:
            fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
            return
        except OSError:
            if time.monotonic() > until:
                if told is None:
                    raise BusyError(f"{_busy(note)}. Wait until it is done, or end it") from None
                told(_busy(note))
                until = float("inf")
            time.sleep(0.05)


def _holder(note: Path) -> dict[str, object]:
    try:
        found = parse_json(note.read_text(encoding="utf-8"))
        return found if isinstance(found, dict) else {}
    except (OSError, ValueError, RecursionError):
        return {}


def _busy(note: Path) -> str:
    found, who = _holder(note), "another command"
    if isinstance(found.get("since"), int) and isinstance(found.get("process"), int):
        with contextlib.suppress(ValueError, OverflowError, OSError):
            since = time.strftime("%H:%M:%S", time.localtime(int(str(found["since"]))))
            name = str(found.get("what"))[:60]
            who = f"'obrin {name}' (process {found['process']}, since {since})"
    return f"{who} is writing in this project"
