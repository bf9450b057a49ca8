"""Keep what was made of texts lately, so that the next command need not make it again.

The problem. A design of two thousand sites takes a second to read, and each command reads it anew.

The idea. What was made is kept in the user's own cache folder under a digest of everything that it
depends on: the texts, this program's own files, and the versions that it runs on. There is nothing
to invalidate, since another input has another name. What was used longest ago makes room.

The invariant. A hit is what would have been made. What lies there becomes objects of the program
(pickle), so it is read only from a folder and a file that nobody but this user could have written.
Without such a folder nothing is kept, and everything is as before. `OBRIN_CACHE` names another
folder, or says `off`.

The cost. One digest of the texts and one look at each file of the program.

Proven: commands print the same warm and cold, and what others could have written is not read
(`tests/live/test_warm.py`).
"""

from __future__ import annotations

import contextlib
import functools
import hashlib
import os
import pickle
import stat
import sys
from pathlib import Path
from typing import Any

import pydantic

import obrin
from obrin.core.collecting import not_collecting

FOLDER, OFF = "OBRIN_CACHE", "off"
MOST_FILES = 64
MOST_BYTES = 512 << 20
"""Largest size of the cache; what was used longest ago is removed first."""


def get(kind: str, *texts: str) -> Any:
    """Return None where nothing is kept for these."""
    path = _path(kind, texts)
    if path is None:
        return None
    try:
        with path.open("rb") as file:
            if not _ours(os.fstat(file.fileno())):
                return None
            with not_collecting():
                found = pickle.load(file)
        os.utime(path)
    except FileNotFoundError:
        return None
    except Exception:
        # Whatever an old or half file does, it is only made anew.
        with contextlib.suppress(OSError):
            path.unlink()
        return None
    return found


def keep(kind: str, made: object, *texts: str) -> None:
    """What cannot be kept is not."""
    path = _path(kind, texts)
    if path is None:
        return
    beside = path.with_name(f"{path.name}.{os.getpid()}.new")
    try:
        data = pickle.dumps(made, protocol=pickle.HIGHEST_PROTOCOL)
        descriptor = os.open(beside, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        with os.fdopen(descriptor, "wb") as file:
            file.write(data)
        os.replace(beside, path)
        _make_room(path.parent)
    except (OSError, pickle.PicklingError, TypeError, AttributeError, RecursionError):
        with contextlib.suppress(OSError):
            beside.unlink()


def _make_room(folder: Path) -> None:
    files = [(entry.stat(), entry.path) for entry in os.scandir(folder)]
    files.sort(key=lambda file: -file[0].st_mtime_ns)
    held = 0
    for number, (found, path) in enumerate(files):
        held += found.st_size
        if number >= MOST_FILES or held > MOST_BYTES:
            with contextlib.suppress(OSError):
                os.unlink(path)


def _path(kind: str, texts: tuple[str, ...]) -> Path | None:
    folder = _folder()
    if folder is None:
        return None
    digest = hashlib.sha256(_program())
    for text in texts:
        data = text.encode("utf-8", "surrogatepass")
        digest.update(len(data).to_bytes(8, "big") + data)
    return folder / f"{kind}-{digest.hexdigest()[:40]}"


@functools.cache
def _folder() -> Path | None:
    """Made where it is not there; None where somebody else could write in it."""
    given = os.environ.get(FOLDER)
    if given == OFF:
        return None
    try:
        usual = Path(os.environ.get("XDG_CACHE_HOME", ""))
        if not usual.is_absolute():  # to be ignored, by the XDG Base Directory Specification
            usual = Path.home() / ".cache"
        folder = Path(given) if given else usual / "obrin"
        folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        return folder if _ours(folder.lstat()) else None
    except (OSError, RuntimeError):
        return None


def _ours(found: os.stat_result) -> bool:
    """Whether nobody else can have written it."""
    kinds = stat.S_ISDIR(found.st_mode) or stat.S_ISREG(found.st_mode)
    return kinds and found.st_uid == os.getuid() and not found.st_mode & 0o022


@functools.cache
def _program() -> bytes:
    """Another one for every version of this program, of what it stands on, and of its files."""
    parts: list[object] = [sys.version, sys.implementation.cache_tag, pydantic.VERSION]
    root = Path(obrin.__file__).parent / "core"
    folders = [str(root)]
    while folders:
        for entry in sorted(os.scandir(folders.pop()), key=lambda entry: entry.path):
            if entry.name.endswith(".py"):
                found = entry.stat()
                parts.append((entry.path, found.st_mtime_ns, found.st_size))
            elif entry.is_dir() and entry.name != "__pycache__":
                folders.append(entry.path)
    return repr(parts).encode()
