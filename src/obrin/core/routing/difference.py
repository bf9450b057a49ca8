"""What changes in tables between two states or two designs."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from obrin.core.routing.tables import IN_USE, SHARES, Row


@dataclass(frozen=True, slots=True)
class Change:
    """One prefix of one table: by which ways before and after; empty for none."""

    table: str
    prefix: str
    before: tuple[str, ...]
    after: tuple[str, ...]

    @property
    def what(self) -> str:
        if not self.before:
            return "new"
        return "moves" if self.after else "lost"


def changes(before: Iterable[Row], after: Iterable[Row]) -> list[Change]:
    """Only what differs, by table and prefix."""
    one, two = _ways(before), _ways(after)
    return [
        Change(table, str(prefix), one.get((table, prefix), ()), two.get((table, prefix), ()))
        for table, prefix in sorted({*one, *two})
        if one.get((table, prefix)) != two.get((table, prefix))
    ]


def _ways(rows: Iterable[Row]) -> dict[tuple[str, object], tuple[str, ...]]:
    found: dict[tuple[str, object], tuple[str, ...]] = {}
    for row in rows:
        if row.state in (IN_USE, SHARES):
            key = row.table, row.prefix
            found[key] = (*found.get(key, ()), row.via)
    return found
