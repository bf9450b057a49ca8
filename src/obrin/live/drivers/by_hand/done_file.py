"""What people have done so far, and what they typed in from there: a file beside the journal."""

from __future__ import annotations

import hashlib
import json
import threading
from collections.abc import Iterable
from pathlib import Path
from typing import Any

from obrin.core.errors import ObrinError
from obrin.core.json_text import parse_json
from obrin.live.drivers.by_hand.person import HandStep
from obrin.live.files import private_folder, read_file, write_whole
from obrin.live.project import Project

MOST_BYTES = 16 << 20


class HandRecord:
    """`done` is what was shown when a step was said to be done, as a digest, by its name; `facts`
    what was assigned, by place in the design. Written whole after each."""

    def __init__(self, path: Path) -> None:
        self._path, self._lock = path, threading.Lock()
        self._stamp = stamp_of(path)
        self._data = self._read()

    def _read(self) -> dict[str, dict[str, Any]]:
        """What is there now, since somebody at another terminal may have added to it."""
        data: dict[str, dict[str, Any]] = {"done": {}, "facts": {}}
        try:
            found = parse_json(read_file(self._path, MOST_BYTES))
        except FileNotFoundError:
            return data
        except (OSError, ValueError, RecursionError) as error:
            raise ObrinError(
                f"{self._path} cannot be read: {error}. Restore it, or remove it and say what is "
                "done"
            ) from None
        if isinstance(found, dict):
            data |= {n: f for n, f in found.items() if n in data and isinstance(f, dict)}
        return data

    def _now(self) -> dict[str, dict[str, Any]]:
        """Read anew where it was written since, here or at another terminal."""
        with self._lock:
            stamp = stamp_of(self._path)
            if stamp != self._stamp:
                self._stamp, self._data = stamp, self._read()
            return self._data

    @property
    def facts(self) -> dict[str, Any]:
        return dict(self._now()["facts"])

    def names(self) -> list[str]:
        """Names of the steps that are done, in the order in which they were done."""
        return list(self._now()["done"])

    def done(self, name: str) -> str | None:
        """The digest of what was shown; None where nobody has done it."""
        found = self._now()["done"].get(name)
        return found if isinstance(found, str) else None

    def note(self, name: str, digest: str, facts: dict[str, Any]) -> None:
        with self._lock:
            data = self._read()
            data["done"][name] = digest
            data["facts"] |= facts
            self._write(data)

    def forget(self, name: str) -> None:
        with self._lock:
            data = self._read()
            if data["done"].pop(name, None) is not None:
                self._write(data)

    def _write(self, data: dict[str, dict[str, Any]]) -> None:
        private_folder(self._path.parent)
        write_whole(self._path, json.dumps(data, indent=1) + "\n", 0o600, durable=True)
        self._data = data


def stamp_of(path: Path) -> tuple[int, int]:
    """Another one for every time that a file is written whole."""
    try:
        found = path.stat()
    except FileNotFoundError:
        return 0, 0
    return found.st_mtime_ns, found.st_ino


def record_of(project: Project) -> Path:
    """The path of a design's record."""
    return project.own_folder / f"by-hand-{project.design_path.stem}.json"


def mark_of(step: HandStep) -> str:
    """What is kept of a step that is done: a digest of its lines, and one of its key that takes its
    time, so that nobody tries keys on it."""
    mark = digest_of(step.lines)
    return f"{mark}:{_of_key(step)}" if step.secret else mark


def is_as_kept(mark: str, step: HandStep) -> bool:
    """Whether a step is what it was when it was done. Where either has no key, keys are not
    compared."""
    lines, _, key = mark.partition(":")
    same_key = not key or not step.secret or key == _of_key(step)
    return lines == digest_of(step.lines) and same_key


def _of_key(step: HandStep) -> str:
    salt = step.name.encode()
    return hashlib.scrypt(step.secret.encode(), salt=salt, n=1 << 12, r=8, p=1, dklen=8).hex()


def digest_of(lines: Iterable[tuple[str, str]]) -> str:
    """Hash the lines that a person is shown."""
    return hashlib.sha256(json.dumps([list(line) for line in lines]).encode()).hexdigest()[:16]
