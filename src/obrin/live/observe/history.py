"""The states of tunnels over time, kept where they change: SQLite beside the journal."""

from __future__ import annotations

import sqlite3
import time
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from obrin.core.errors import OutsideError
from obrin.live.observe.status import TunnelStatus

UP, REST, UNKNOWN, DOWN, ODD = "up", "at rest", "not asked", "DOWN", "up, ends disagree"
_SCHEMA = """
CREATE TABLE IF NOT EXISTS change (
    at REAL NOT NULL,
    tunnel TEXT NOT NULL,
    state TEXT NOT NULL,
    why TEXT NOT NULL DEFAULT ''
)
"""
KEPT = 100_000
"""Changes; older ones go."""


@dataclass(frozen=True, slots=True)
class Change:
    """`at` in seconds since 1970; `why` is the first thing that `status` says of it."""

    at: float
    tunnel: str
    state: str
    why: str = ""


def state_of_tunnel(tunnel: TunnelStatus) -> str:
    """In a word."""
    if tunnel.up:
        return ODD if tunnel.disagreements else UP
    if tunnel.rests:
        return REST
    return UNKNOWN if tunnel.unknown else DOWN


class History:
    """Raises OutsideError for a file that cannot be used."""

    def __init__(self, path: Path, clock: Callable[[], float] = time.time) -> None:
        self._path, self._clock = path, clock
        with self._trouble():
            self._database = sqlite3.connect(path, timeout=10)
            self._database.execute("PRAGMA journal_mode=WAL")
            self._database.execute(_SCHEMA)
            self._database.commit()

    @contextmanager
    def _trouble(self) -> Iterator[None]:
        try:
            yield
        except sqlite3.Error as error:
            raise OutsideError(
                f"{self._path} cannot be used: {error}. Remove it, and history begins anew"
            ) from error

    def close(self) -> None:
        self._database.close()

    def last(self) -> dict[str, Change]:
        """The latest of each tunnel."""
        with self._trouble():
            rows = self._database.execute(
                "SELECT max(rowid), at, tunnel, state, why FROM change GROUP BY tunnel"
            )
            return {row[2]: Change(*row[1:]) for row in rows}

    def note(self, tunnels: Iterable[TunnelStatus]) -> list[Change]:
        """Those that are another since; they are kept."""
        before, now = self.last(), self._clock()
        found = []
        for tunnel in tunnels:
            state = state_of_tunnel(tunnel)
            if tunnel.tunnel not in before or before[tunnel.tunnel].state != state:
                why = next(iter((*tunnel.disagreements, *tunnel.notes)), "")
                found.append(Change(now, tunnel.tunnel, state, why))
        with self._trouble():
            self._database.executemany(
                "INSERT INTO change VALUES (?, ?, ?, ?)",
                [(c.at, c.tunnel, c.state, c.why) for c in found],
            )
            self._database.execute(
                "DELETE FROM change WHERE rowid <= (SELECT max(rowid) FROM change) - ?", (KEPT,)
            )
            self._database.commit()
        return found

    def changes(self, count: int) -> list[Change]:
        """The latest, the newest last."""
        with self._trouble():
            rows = self._database.execute(
                "SELECT at, tunnel, state, why FROM change ORDER BY rowid DESC LIMIT ?", (count,)
            )
            return [Change(*row) for row in rows][::-1]
