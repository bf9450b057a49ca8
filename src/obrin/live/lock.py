"""One writer a project: a lock that the system takes back from whoever is killed.

The lock is on a file in Obrin's own folder, which nobody else can enter: whoever can only read the
project cannot hold it and keep its owner from writing. Where that folder is not there yet it is
made, and goes again with the lock if nothing else was put there. Who holds the lock stands in a
note beside.
"""

from __future__ import annotations

import contextlib
import errno
import fcntl
import json
import os
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from obrin.core.errors import ObrinError, OutsideError
from obrin.core.json_text import parse_json
from obrin.live.files import IGNORE, LOCK, cannot, private_folder, take_folder_away, write_whole

NOTE = "busy.json"
PATIENCE = 5.0
"""Seconds to wait for a command that is just ending."""


class BusyError(ObrinError):
    """Another command is writing in this project; the text says which."""

    exit_code = 3


Tell = Callable[[str], None]


@contextmanager
def project_lock(folder: Path, own: Path, what: str, tell: Tell | None = None) -> Iterator[None]:
    """Hold the lock of a project's folder while `what` writes; `own` is Obrin's folder in it.

    Raises BusyError when somebody else goes on writing; unless there is somebody to `tell` so,
    once, and waits however long that takes.
    """
    if not folder.is_dir():
        raise cannot("read", folder, NotADirectoryError(errno.ENOTDIR, "it is not a folder"))
    held = _Held(own, what)
    try:
        held.take(PATIENCE, tell)
        _HELD.append(held)
        yield
    finally:
        if held in _HELD:
            _HELD.remove(held)
        held.leave()


@contextmanager
def apart() -> Iterator[None]:
    """Let go of the lock that this process holds while somebody is asked, who may take an hour,
    and take it again, however long that takes. What lies in the project may be another
    afterwards."""
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
    def __init__(self, own: Path, what: str) -> None:
        self._own, self._note, self._what = own, own / NOTE, what
        self._descriptor = -1

    def take(self, patience: float, tell: Tell | None) -> None:
        """Raises BusyError, OutsideError."""
        self._descriptor = _take(self._own, self._note, patience, tell)
        text = {"what": self._what, "process": os.getpid(), "since": round(time.time())}
        with contextlib.suppress(OutsideError):  # a full disk has its own message later
            write_whole(self._note, json.dumps(text), 0o644)

    def leave(self) -> None:
        if self._descriptor < 0:
            return
        with contextlib.suppress(OSError):
            if _holder(self._note).get("process") == os.getpid():
                self._note.unlink(missing_ok=True)
            if {entry.name for entry in os.scandir(self._own)} <= {LOCK, IGNORE}:
                take_folder_away(self._own)
        os.close(self._descriptor)
        self._descriptor = -1


_HELD: list[_Held] = []
"""What this process holds; a command holds one."""


def _silent(_: str) -> None:
    pass


def _take(own: Path, note: Path, patience: float, tell: Tell | None) -> int:
    """The descriptor of the lock file, when it is ours."""
    until = time.monotonic() + patience
    while True:
        descriptor = _tried(own)
        if descriptor is not None:
            return descriptor
        if time.monotonic() > until:
            if tell is None:
                raise BusyError(f"{_busy(note)}. Wait until it is done, or end it")
            tell(_busy(note))
            until = float("inf")
        time.sleep(0.05)


def _tried(own: Path) -> int | None:
    """Return None where somebody else holds it, or took the file away while it was opened."""
    path = own / LOCK
    try:
        private_folder(own)
        descriptor = os.open(path, os.O_RDWR | os.O_CREAT | os.O_NOFOLLOW | os.O_CLOEXEC, 0o600)
    except FileNotFoundError:
        return None
    except OutsideError:
        if not own.exists():
            return None
        raise
    except OSError as error:
        raise cannot("write", path, error) from error
    try:
        fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
        if os.path.samestat(os.fstat(descriptor), os.stat(path)):
            return descriptor
    except OSError:
        pass
    os.close(descriptor)
    return None


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
