"""A small SQLite file of ours; its errors are raised in our words."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path

from obrin.core.errors import OutsideError


class Database:
    """`name` is what it is called, `cure` what to do when it cannot be used. What is `durable` is
    on the disk before anybody goes on. Raises OutsideError."""

    def __init__(
        self, path: Path, schemas: Iterable[str], *, name: str, cure: str, durable: bool = False
    ) -> None:
        self._called, self._cure = f"{name} {path}".strip(), cure
        with self._trouble():
            self._database = sqlite3.connect(path, timeout=10, check_same_thread=False)
            self._database.execute("PRAGMA journal_mode=WAL")
            if durable:
                self._database.execute("PRAGMA synchronous=FULL")
            for schema in schemas:
                self._database.execute(schema)
            self._database.commit()

    @contextmanager
    def _trouble(self) -> Iterator[None]:
        """A damaged file, a full disk, a folder that cannot be written."""
        try:
            yield
        except sqlite3.Error as error:
            raise OutsideError(f"{self._called} cannot be used: {error}. {self._cure}") from error

    def close(self) -> None:
        self._database.close()
