"""A design for many sites from one table and a template: an ordinary design with holes.

In the template, every entry of `sites`, `links` and `expectations` that holds `{column}` stands
once for each row, with the row's values in the holes. A hole that no column fills is a mistake.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from obrin.core.design.positions import Locator
from obrin.core.design.reader import read_values
from obrin.core.errors import DesignError, Problem
from obrin.core.gather.origin import HOLE, Origin, fill
from obrin.core.gather.rows import Row

_NUMBER = re.compile(r"[0-9]{1,10}\Z")


@dataclass(frozen=True, slots=True)
class Filled:
    """The values of the whole design, rows that could not be used, and where each value is from."""

    values: dict[str, Any]
    bad: tuple[Problem, ...]
    origin: Origin


def holes_of(values: Any) -> set[str]:
    """Names of all holes below a value."""
    if isinstance(values, str):
        return set(HOLE.findall(values))
    if isinstance(values, dict):
        return {h for pair in values.items() for part in pair for h in holes_of(part)}
    if isinstance(values, list):
        return {h for part in values for h in holes_of(part)}
    return set()


def fill_template(text: str, source: str, rows: list[Row], table_source: str) -> Filled:
    """Raises DesignError when the template is not a mapping or names unknown columns."""
    values = read_values(text, source)
    if not isinstance(values, dict):
        raise DesignError([Problem(source, "the template is not a design", "See 'obrin schema'")])
    known = set(rows[0].values) if rows else set()
    unknown = sorted(holes_of(values) - known)
    if unknown:
        fix = f"Columns of {table_source} are: {', '.join(sorted(known))}"
        raise DesignError(
            [Problem(source, f"there is no column for {{{name}}}", fix) for name in unknown]
        )
    bad = list(_bad_rows(values, rows, table_source))
    good = [row for row in rows if f"{table_source}:{row.number}:1" not in {b.where for b in bad}]
    origin = Origin(values, Locator(text, source), table_source)
    made = {key: _section(key, part, good, origin) for key, part in values.items()}
    return Filled(made, tuple(bad), origin)


def _bad_rows(values: dict[str, Any], rows: list[Row], source: str) -> Iterator[Problem]:
    """Empty cells that a hole needs, and keys that come twice."""
    needed = sorted(holes_of(values))
    keys = [k for part in values.values() if isinstance(part, dict) for k in part if holes_of(k)]
    seen: dict[str, int] = {}
    for row in rows:
        where = f"{source}:{row.number}:1"
        empty = [name for name in needed if not row.values.get(name)]
        if empty:
            yield Problem(where, f"no value for {', '.join(empty)}", "Fill the cell")
            continue
        made = [fill(key, row.values) for key in keys]
        twice = next((m for m in made if m in seen), None)
        if twice is not None:
            what = f"'{twice}' stands in row {seen[twice]} already"
            yield Problem(where, what, "Give every row names of its own")
            continue
        seen.update((m, row.number) for m in made)


def _section(section: str, part: Any, rows: list[Row], origin: Origin) -> Any:
    if isinstance(part, dict):
        made: dict[str, Any] = {}
        for key, value in part.items():
            if holes_of(key) or holes_of(value):
                for row in rows:
                    name = fill(key, row.values)
                    made[name] = _filled(value, row.values)
                    origin.note((section, name), key, row)
            else:
                made[key] = value
        return made
    if isinstance(part, list):
        listed: list[Any] = []
        for index, value in enumerate(part):
            if not holes_of(value):
                origin.note((section, len(listed)), index)
                listed.append(value)
                continue
            for row in rows:
                origin.note((section, len(listed)), index, row)
                listed.append(_filled(value, row.values))
        return listed
    return part


def _filled(value: Any, row: Mapping[str, str]) -> Any:
    if isinstance(value, str):
        made = fill(value, row)
        # A hole alone may stand for a number.
        return int(made) if HOLE.fullmatch(value) and _NUMBER.match(made) else made
    if isinstance(value, dict):
        return {fill(key, row): _filled(part, row) for key, part in value.items()}
    if isinstance(value, list):
        return [_filled(part, row) for part in value]
    return value
