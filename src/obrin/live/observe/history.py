"""The states of tunnels over time, kept where they change: SQLite beside the journal."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from pathlib import Path

from obrin.live.database import Database
from obrin.live.observe.tunnel import TunnelStatus

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


class History(Database):
    """Raises OutsideError for a file that cannot be used."""

    def __init__(self, path: Path, clock: Callable[[], float] = time.time) -> None:
        self._clock = clock
        super().__init__(path, (_SCHEMA,), name="", cure="Remove it, and history begins anew")

    def last(self) -> dict[str, Change]:
        """The latest of each tunnel."""
        with self._trouble():
            rows = self._database.execute(
                "SELECT max(rowid), at, tunnel, state, why FROM change GROUP BY tunnel"
            )
            return {row[2]: Change(*row[1:]) for row in rows}

    def note(self, tunnels: Iterable[TunnelStatus]) -> list[Change]:
        """Find the tunnels whose state has changed since the last call, and keep the changes."""
        before, now = self.last(), self._clock()
        found = []
        for tunnel in tunnels:
            state = tunnel.state
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
