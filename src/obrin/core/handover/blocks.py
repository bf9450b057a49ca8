"""A sheet as blocks: headings, paragraphs and tables; rendered as Markdown and as CSV."""

from __future__ import annotations

import csv
import io
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
    """Rows below a head, all of the same length; the first column names the row."""

    __slots__ = ("head", "rows")

    def __init__(self, head: Iterable[str], rows: Iterable[Iterable[str]]) -> None:
        self.head = tuple(head)
        self.rows = tuple(tuple(row) for row in rows)


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


def values_csv(blocks: Iterable[Block]) -> str:
    """Every value in a table: part, row, column, value; for spreadsheets and scripts."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(("part", "row", "column", "value"))
    part = ""
    for block in blocks:
        if isinstance(block, Heading):
            part = block.text
        elif isinstance(block, Table):
            for row in block.rows:
                for column, value in zip(block.head[1:], row[1:], strict=True):
                    writer.writerow((part, row[0], column, value))
    return out.getvalue()
