"""What changes in tables between two states or two designs."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from types import MappingProxyType

from obrin.core.routing.tables import IN_USE, SHARES, Row

Noticed = Mapping[str, str]
"""What detects the failure of each tunnel or circuit, and when."""
_NOBODY: Noticed = MappingProxyType({})


@dataclass(frozen=True, slots=True)
class Change:
    """One prefix of one table: by which ways before and after; empty for none. `how` says what else
    is different about it: where it comes from, how it is preferred, what notices its death."""

    table: str
    prefix: str
    before: tuple[str, ...]
    after: tuple[str, ...]
    how: tuple[str, ...] = ()

    @property
    def what(self) -> str:
        if not self.before:
            return "new"
        if not self.after:
            return "lost"
        return "moves" if self.before != self.after else "differs"


def changes(
    before: Iterable[Row],
    after: Iterable[Row],
    noticed: Noticed = _NOBODY,
    noticed_after: Noticed = _NOBODY,
) -> list[Change]:
    """List only what differs, by table and prefix."""
    one, two = _used(before), _used(after)
    found = []
    for table, prefix in sorted({*one, *two}):
        was, now = one.get((table, prefix), ()), two.get((table, prefix), ())
        how = tuple(dict.fromkeys(_how(was, now, noticed, noticed_after)))
        change = Change(table, str(prefix), _ways(was), _ways(now), how)
        if change.before != change.after or how:
            found.append(change)
    return found


def _used(rows: Iterable[Row]) -> dict[tuple[str, object], tuple[Row, ...]]:
    found: dict[tuple[str, object], tuple[Row, ...]] = {}
    for row in rows:
        if row.state in (IN_USE, SHARES):
            key = row.table, row.prefix
            found[key] = (*found.get(key, ()), row)
    return found


def _ways(rows: tuple[Row, ...]) -> tuple[str, ...]:
    return tuple(row.via for row in rows)


def _how(
    was: tuple[Row, ...], now: tuple[Row, ...], noticed: Noticed, noticed_after: Noticed
) -> Iterator[str]:
    """Differences of tunnels and circuits that exist before and after."""
    by_way = {row.via: row for row in was}
    for row in now:
        old = by_way.get(row.via)
        if old is None:
            continue
        if old.kind != row.kind:
            yield f"{row.kind} instead of {old.kind}"
        elif old.local_pref != row.local_pref:
            yield f"preference {row.local_pref} instead of {old.local_pref}"
        elif old.as_path != row.as_path:
            yield f"AS path {_path(row)} instead of {_path(old)}"
        before, after = noticed.get(row.via, ""), noticed_after.get(row.via, "")
        if before != after and row.kind in ("static", "bgp"):
            yield f"its death noticed by {after or 'nothing'} instead of {before or 'nothing'}"


def _path(row: Row) -> str:
    return " ".join(map(str, row.as_path)) or "empty"
