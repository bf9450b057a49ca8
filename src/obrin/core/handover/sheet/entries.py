"""The single things that a person enters from a sheet: values, and whole rows of lists."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from obrin.core.handover.sheet.blocks import Block, Heading, Table

NOT_APPLYING = "does not apply"
_NOTHING = ("", "none", NOT_APPLYING)
_IMPLIED = {"Session": "its own", "Child SAs": "one", "Address families": "IPv4 unicast"}
"""Rows that a sheet has only where some tunnel has another value than this one."""
_NUMBER = re.compile(r"^\d+\. ")


@dataclass(frozen=True, slots=True)
class Entry:
    """One value with its name in `row`, or one row of a list with its columns in `head`.

    `part` is the heading of the sheet without its number, `leg` the tunnel or circuit that it
    belongs to, empty where it belongs to none, and `column` what its column is called. `cells` are
    the value alone, or the row; the first `keys` of a row say which one it is.
    """

    part: str
    row: str
    cells: tuple[str, ...]
    leg: str = ""
    column: str = ""
    head: tuple[str, ...] = ()
    keys: int = 0

    @property
    def key(self) -> tuple[object, ...]:
        """The same for the same thing with another value."""
        if self.head:
            return (self.part, self.head, *self.cells[: self.keys])
        return self.part, self.leg, self.row

    @property
    def text(self) -> str:
        return ", ".join(self.cells[self.keys :] or ("present",))


def entries_of(blocks: Iterable[Block]) -> Iterator[Entry]:
    """All that is entered, in the order of the sheet."""
    part = ""
    for block in blocks:
        if isinstance(block, Heading):
            part = _NUMBER.sub("", block.text)
        elif isinstance(block, Table) and block.entered:
            yield from _rows(block, part) if block.listed else _values(block, part)


def row_entry(table: Table, part: str, cells: tuple[str, ...], leg: str = "") -> Entry:
    """One row of a list."""
    name = " ".join(cells[: table.keys])
    return Entry(part, name, cells, leg, head=table.head, keys=table.keys)


def _rows(table: Table, part: str) -> Iterator[Entry]:
    for number, row in enumerate(table.rows):
        yield row_entry(table, part, row, table.leg(number, 0))


def _values(table: Table, part: str) -> Iterator[Entry]:
    """A column that is not of a tunnel stands before the name of its values."""
    for row in table.rows:
        for number, (column, text) in enumerate(zip(table.head[1:], row[1:], strict=True)):
            leg = table.leg(0, number) if table.column_legs else ""
            name = row[0] if leg or len(table.head) == 2 else f"{column}: {row[0]}"
            if text not in _NOTHING and _IMPLIED.get(name) != text:
                yield Entry(part, name, (text,), leg, column if leg else "")
