"""Ends the program, or lets the disk be full, at the n-th thing that it does to a file.

Boundaries are: a folder made, a file begun, half of it written, synced, renamed, removed, and a
commit of the journal. `arm` is called in the child that becomes the program.
"""

from __future__ import annotations

import errno
import os
import sqlite3
from collections.abc import Callable
from typing import Any

from obrin.live import files

KILLED = 137
VARIABLE = "TORTURE"
"""`kill:3`, `full:3` or `count:FILE`."""


class Boundary:
    def __init__(self, mode: str, number: int, tally: str) -> None:
        self._mode, self._number, self._tally = mode, number, tally
        self._count = 0

    def __call__(self) -> None:
        self._count += 1
        if self._tally:
            with open(self._tally, "w", encoding="ascii") as file:
                file.write(str(self._count))
        elif self._mode == "kill" and self._count == self._number:
            os._exit(KILLED)
        elif self._mode == "full" and self._count >= self._number:
            raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))


def arm(asked: str) -> None:
    mode, _, rest = asked.partition(":")
    step = Boundary(mode, 0 if mode == "count" else int(rest), rest if mode == "count" else "")

    def before(function: Callable[..., Any]) -> Callable[..., Any]:
        def stepped(*args: Any, **given: Any) -> Any:
            step()
            return function(*args, **given)

        return stepped

    real_create, real_unlink = files._create, os.unlink

    def create(path: Any, data: bytes, mode_: int, *, durable: bool) -> None:
        step()
        real_create(path, data[: len(data) // 2], mode_, durable=False)
        step()
        real_unlink(path)
        real_create(path, data, mode_, durable=durable)

    files._create = create
    os.mkdir = before(os.mkdir)
    os.replace = before(os.replace)
    os.unlink = before(os.unlink) if mode == "kill" else os.unlink
    os.fsync = before(os.fsync)

    class Journal(sqlite3.Connection):
        def commit(self) -> None:
            if mode == "full":
                try:
                    step()
                except OSError as error:
                    raise sqlite3.OperationalError("database or disk is full") from error
            else:
                step()
            super().commit()

    connect = sqlite3.connect
    sqlite3.connect = lambda *args, **given: connect(*args, factory=Journal, **given)
