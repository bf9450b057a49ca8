"""The journal of a connect: journal first, act second, verify third. SQLite, one row a step.

A connect that was killed at any instant is taken up again from here: a step that was begun and
not verified is looked at before it is done again.
"""

from __future__ import annotations

import threading
import time
from pathlib import Path

from obrin.live.database import Database

_MADE = """
CREATE TABLE IF NOT EXISTS made (
    name TEXT NOT NULL,
    design TEXT NOT NULL,
    PRIMARY KEY (name, design)
)
"""
_SCHEMA = """
CREATE TABLE IF NOT EXISTS step (
    name TEXT PRIMARY KEY,
    state TEXT NOT NULL CHECK (state IN ('begun', 'done')),
    note TEXT NOT NULL DEFAULT '',
    updated REAL NOT NULL
)
"""


class Journal(Database):
    def __init__(self, path: Path) -> None:
        self._lock = threading.Lock()
        super().__init__(
            path,
            (_SCHEMA, _MADE),
            name="the journal",
            cure="Make room, or move it away and connect again: nothing is made twice",
            durable=True,
        )

    def begin(self, name: str) -> None:
        self._write(name, "begun", "")

    def done(self, name: str, note: str) -> None:
        self._write(name, "done", note)

    def _write(self, name: str, state: str, note: str) -> None:
        with self._lock, self._trouble():
            self._database.execute(
                "INSERT INTO step VALUES (?, ?, ?, ?) ON CONFLICT (name) DO UPDATE SET "
                "state = excluded.state, note = excluded.note, updated = excluded.updated",
                (name, state, note, time.time()),
            )
            self._database.commit()

    def note_made(self, name: str, design: str) -> None:
        """Record for which design a resource is built, before it is built."""
        with self._lock, self._trouble():
            self._database.execute("INSERT OR IGNORE INTO made VALUES (?, ?)", (name, design))
            self._database.commit()

    def made(self, design: str) -> set[str]:
        """What was built for a design and for no other."""
        with self._lock, self._trouble():
            rows = self._database.execute(
                "SELECT name FROM made GROUP BY name HAVING min(design) = ? AND max(design) = ?",
                (design, design),
            )
            return {row[0] for row in rows}

    def removed(self, name: str) -> None:
        """It is gone, for whatever design it was."""
        with self._lock, self._trouble():
            self._database.execute("DELETE FROM made WHERE name = ?", (name,))
            self._database.execute("DELETE FROM step WHERE name = ?", (name,))
            self._database.commit()

    def unfinished(self) -> list[str]:
        """Steps that were begun and not verified, in the order in which they began."""
        with self._lock, self._trouble():
            rows = self._database.execute(
                "SELECT name FROM step WHERE state = 'begun' ORDER BY updated"
            )
            return [row[0] for row in rows]
