"""Reads Markdown as a person sees it: headings, paragraphs and tables."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass


@dataclass(frozen=True)
class Seen:
    """A table as it is printed. `headings` are those above it, the nearest last."""

    headings: tuple[str, ...]
    head: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]


@dataclass(frozen=True)
class Said:
    """A paragraph as it is printed."""

    headings: tuple[str, ...]
    text: str


def read(text: str) -> Iterator[Seen | Said]:
    headings: list[str] = []
    for block in re.split(r"\n\s*\n", text.strip()):
        lines = block.split("\n")
        if found := re.match(r"(#+) (.*)", block):
            level = len(found[1])
            headings = [*headings[: level - 1], found[2]]
        elif block.startswith("|"):
            cells = [_cells(line) for line in lines]
            yield Seen(tuple(headings), cells[0], tuple(cells[2:]))
        else:
            yield Said(tuple(headings), " ".join(lines))


def _cells(line: str) -> tuple[str, ...]:
    parts = re.split(r"(?<!\\)\|", line.strip())[1:-1]
    return tuple(part.strip().replace("\\|", "|") for part in parts)
