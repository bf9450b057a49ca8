"""A sheet as blocks: headings, paragraphs and tables; rendered as Markdown and as CSV."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Heading:
    level: int
    text: str


@dataclass(frozen=True, slots=True)
class Paragraph:
    text: str


class Table:
    """Rows below a head, all of the same length; the first `keys` columns name the row. `name` is
    the first part of its values' names, where that is not the heading. `column_legs` and
    `row_legs` are labels of the tunnels and circuits to which columns behind the keys, or rows,
    belong. `listed` is whether each row is entered as a whole, as a rule of a filter is; `entered`
    whether it is entered at all."""

    __slots__ = ("column_legs", "entered", "head", "keys", "listed", "name", "row_legs", "rows")

    def __init__(
        self,
        head: Iterable[str],
        rows: Iterable[Iterable[str]],
        *,
        keys: int = 1,
        name: str = "",
        column_legs: Iterable[str] = (),
        row_legs: Iterable[str] = (),
        listed: bool = False,
        entered: bool = True,
    ) -> None:
        self.head = tuple(head)
        self.rows = tuple(tuple(row) for row in rows)
        self.keys, self.name = keys, name
        self.listed, self.entered = listed, entered
        self.column_legs, self.row_legs = tuple(column_legs), tuple(row_legs)

    def having(self, rows: Iterable[Iterable[str]]) -> Table:
        """The same list with these rows, each once."""
        once = dict.fromkeys(map(tuple, rows))
        return Table(self.head, once, keys=self.keys, name=self.name, listed=self.listed)

    def leg(self, row: int, column: int) -> str:
        """The tunnel or circuit that a value belongs to; empty for what belongs to none."""
        legs = (self.column_legs, column), (self.row_legs, row)
        return next((held[number] for held, number in legs if held), "")


Block = Heading | Paragraph | Table


def markdown(blocks: Iterable[Block]) -> str:
    """Blocks with a blank line between them."""
    return "\n\n".join("\n".join(_lines(block)) for block in blocks) + "\n"


def _lines(block: Block) -> Iterator[str]:
    if isinstance(block, Heading):
        yield f"{'#' * block.level} {block.text}"
    elif isinstance(block, Paragraph):
        yield block.text
    else:
        yield from _aligned(block)


def _aligned(table: Table) -> Iterator[str]:
    """Aligned so that it reads well as plain text too."""
    cells: list[Sequence[str]] = [
        [cell.replace("|", "\\|") for cell in row] for row in (table.head, *table.rows)
    ]
    widths = [max(map(len, column)) for column in zip(*cells, strict=True)]
    cells.insert(1, ["-" * width for width in widths])
    for row in cells:
        padded = (cell.ljust(width) for cell, width in zip(row, widths, strict=True))
        yield "| " + " | ".join(padded) + " |"


@dataclass(frozen=True, slots=True)
class Value:
    """One value of a sheet. Its `name` is its own and stays from run to run; `part`, `row` and
    `column` say where it stands for who reads. `leg` is the tunnel or circuit that it belongs to,
    empty where it belongs to none."""

    name: str
    part: str
    row: str
    column: str
    text: str
    leg: str = ""


HEAD = ("name", "part", "row", "column", "value")


def values_of(blocks: Iterable[Block]) -> Iterator[Value]:
    """Every value in a table. A row that is all name is there, or it is not."""
    part = ""
    for block in blocks:
        if isinstance(block, Heading):
            part = block.text
        elif isinstance(block, Table):
            first = block.name or _slug(part)
            for number, row in enumerate(block.rows):
                named = [*map(_slug, row[: block.keys])]
                parts = " ".join(row[: block.keys])
                columns = list(zip(block.head[block.keys :], row[block.keys :], strict=True))
                for place, (column, text) in enumerate(columns or [("", "present")]):
                    several = len(columns) > 1 or block.column_legs
                    last = [_slug(column)] if several else []
                    name, leg = ".".join((first, *named, *last)), block.leg(number, place)
                    yield Value(name, part, parts, column, text, leg)


def _slug(text: str) -> str:
    """Lower case, without what gives trouble in a name; chapter numbers go."""
    return _UNFIT.sub("-", _NUMBERED.sub("", text.lower())).strip("-")


_UNFIT, _NUMBERED = re.compile(r"[^a-z0-9./:@]+"), re.compile(r"^\d+\. ")


def changed_values(before: str, now: str) -> list[str]:
    """What is another in one table of values than in an older one, in words; `before` may be
    damaged, and then nothing is said."""
    try:
        old, new = (
            {row[0]: row[-1] for row in csv.reader(io.StringIO(text), strict=True) if row}
            for text in (before, now)
        )
    except csv.Error:
        return []
    parts = [f"{name}: {new[name]}" for name in new if name not in old]
    parts += [f"{n}: {new[n]} instead of {old[n]}" for n in new if n in old and old[n] != new[n]]
    return [*parts, *(f"{name}: gone" for name in old if name not in new)]


def values_csv(blocks: Iterable[Block]) -> str:
    """Every value of a sheet, for spreadsheets and scripts."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(HEAD)
    writer.writerows((v.name, v.part, v.row, v.column, v.text) for v in values_of(blocks))
    return out.getvalue()
