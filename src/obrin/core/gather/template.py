"""A design for many sites from one table and a template: an ordinary design with holes.

Every entry of the template that holds `{column}` stands once for each row, with the row's values in
the holes. Every cell that a hole needs has to have a value.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

from obrin.core.design.reader import read_values
from obrin.core.errors import Problem
from obrin.core.gather.compose import HOLE, ONLY, Composed, Entry, Source, compose
from obrin.core.gather.rows import Row


def holes_of(values: Any) -> set[str]:
    """Columns that all holes below a value name."""
    if isinstance(values, str):
        return {match[2] for match in HOLE.finditer(values)}
    if isinstance(values, dict):
        return {h for pair in values.items() for part in pair for h in holes_of(part)}
    if isinstance(values, list):
        return {h for part in values for h in holes_of(part)}
    return set()


def fill_template(text: str, source: str, rows: list[Row], table_source: str) -> Composed:
    """Rows that cannot be used are left out whole. Raises DesignError when the template is not a
    mapping or names unknown columns."""
    values = read_values(text, source)
    entries = [Entry(f"{table_source}:{row.number}:1", row.values) for row in rows]
    columns = frozenset(rows[0].values) if rows else frozenset[str]()
    lacking = list(_lacking(sorted(holes_of(values) & columns), entries))
    refused = {problem.where for problem in lacking}
    made = compose(text, values, source, [_table(columns, entries, refused)])
    if made.bad:
        lacking += made.bad
        refused = {problem.where for problem in lacking}
        made = compose(text, values, source, [_table(columns, entries, refused)])
    made.bad = lacking
    return made


def _table(columns: frozenset[str], entries: Sequence[Entry], refused: set[str]) -> Source:
    return Source(ONLY, columns, [row for row in entries if row.where not in refused])


def _lacking(needed: Sequence[str], entries: Sequence[Entry]) -> Iterator[Problem]:
    """Rows with an empty cell that a hole needs."""
    for row in entries:
        empty = [name for name in needed if not row.values.get(name)]
        if empty:
            yield Problem(row.where, f"no value for {', '.join(empty)}", "Fill the cell")
