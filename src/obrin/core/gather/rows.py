"""CSV and JSON text to rows with names, each with its number; the header is guessed.

A table may come with or without a header, with commas, semicolons or tabs. Without one, the column
in which most cells are prefixes is the range, and the others are named by `columns` or left.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from obrin.core.address.prefix import parse_address, parse_prefix
from obrin.core.csv_text import csv_rows
from obrin.core.errors import AddressError, DesignError, Problem
from obrin.core.json_text import JsonError, parse_json

SAMPLE = 200
"""Rows that are looked at to tell what a column holds."""
WORDS = {
    "prefix": (
        "prefix",
        "network",
        "subnet",
        "range",
        "cidr",
        "address",
        "block",
        "ip",
        "net",
        "ipv4",
        "ipv6",
        "network address",
        "ip address",
        "ip prefix",
        "ip range",
        "address range",
        "address space",
        "cidr block",
        "supernet",
        "ranges",
        "prefixes",
        "networks",
        "first",
        "start",
        "from",
        "first address",
        "start address",
    ),
    "mask": ("mask", "netmask", "subnet mask", "network mask", "length", "prefix length"),
    "last": ("last", "end", "to", "last address", "end address"),
    "name": ("name", "network name", "subnet name", "range name", "id", "label", "title"),
    "owner": (
        "owner",
        "partner",
        "customer",
        "supplier",
        "client",
        "company",
        "organisation",
        "organization",
        "team",
        "department",
        "responsible",
        "contact",
    ),
    "place": ("place", "site", "location", "city", "office", "building", "region", "where"),
    "note": (
        "note",
        "notes",
        "comment",
        "comments",
        "description",
        "remark",
        "remarks",
        "purpose",
        "usage",
        "use",
    ),
}


@dataclass(frozen=True, slots=True)
class Row:
    """`number` is the line in the file (CSV) or the place in the list (JSON), from 1."""

    number: int
    values: dict[str, str]


@dataclass(frozen=True, slots=True)
class Table:
    """`columns` gives which column of the file each name was taken from, `left` the other ones."""

    source: str
    rows: tuple[Row, ...]
    columns: dict[str, str]
    left: tuple[str, ...]

    def where(self, row: Row) -> str:
        return f"{self.source}:{row.number}:1"


def read_table(
    text: str, source: str, columns: Mapping[str, str], header: int | None = None
) -> Table:
    """`columns` maps names (see WORDS) to headers or column numbers; `header` is the line of the
    names, where it is not found by itself. Raises DesignError."""
    if not text.strip():
        raise DesignError(
            [Problem(source, "the file is empty", "Give a table with one range a row")]
        )
    if text.lstrip()[:1] in "[{":
        return _from_json(text, source, columns)
    return _from_csv(text, source, columns, header)


def _from_json(text: str, source: str, columns: Mapping[str, str]) -> Table:
    try:
        data: Any = parse_json(text)
    except JsonError as error:
        where = f"{source}{error.place}"
        raise DesignError([Problem(where, f"not JSON: {error.what}", "Correct the file")]) from None
    if isinstance(data, dict):
        lists = [value for value in data.values() if isinstance(value, list)]
        data = lists[0] if len(lists) == 1 else [data]
    if not isinstance(data, list) or not all(isinstance(e, dict | str) for e in data):
        fix = 'Give a list such as [{"prefix": "10.1.0.0/16", "owner": "…"}]'
        raise DesignError([Problem(source, "not a list of objects", fix)])
    entries = [{"prefix": e} if isinstance(e, str) else e for e in data]
    keys = list(dict.fromkeys(str(key) for entry in entries for key in entry))
    sample = [[_text(entry.get(key)) for key in keys] for entry in entries[:SAMPLE]]
    found = _match(keys, columns, source, sample)
    rows = tuple(
        Row(n, {name: _text(entry.get(key)) for name, key in found.items()})
        for n, entry in enumerate(entries, 1)
    )
    return Table(source, rows, found, _left(keys, found))


def _left(names: Sequence[str], found: Mapping[str, str]) -> tuple[str, ...]:
    return tuple(name for name in names if name not in found.values())


def _text(value: Any) -> str:
    return "" if value is None else str(value).strip()


def read_csv_rows(text: str, source: str) -> list[Row]:
    """A table with a header, every column under its own name. Raises DesignError."""
    if not text.strip():
        raise DesignError([Problem(source, "the file is empty", "Give a header and rows")])
    return named_rows(csv_lines(text, source), source)


Line = tuple[int, Sequence[str]]
"""Cells of a line, with its number."""
MOST_ABOVE = 20
"""Lines above a header that are looked at: titles, dates, groups of columns."""


def under_header(
    lines: Sequence[Line], source: str, wanted: Collection[str], number: int | None
) -> Sequence[Line]:
    """The header and what is under it: from line `number` on, or from the first line that has all
    `wanted` names; from the very first where none has. Raises DesignError."""
    if number is not None:
        found = [line for line in lines if line[0] >= number]
        if not found or found[0][0] != number:
            raise DesignError(
                [Problem(f"{source}:{number}:1", "there is no header in this line", "Name another")]
            )
        return found
    for place, (_, cells) in enumerate(lines[:MOST_ABOVE]):
        if wanted and set(wanted) <= set(cells):
            return lines[place:]
    return lines


def named_rows(lines: Sequence[Line], source: str) -> list[Row]:
    """Cells of lines, each with its number; the first has the names, and columns without one are
    left out where they are empty. Raises DesignError."""
    head, body = list(lines[0][1]), lines[1:]
    while head and head[-1] == "" and not any(cells[len(head) - 1 :][:1] for _, cells in body):
        head.pop()
    twice = next((name for name in head if head.count(name) > 1), None)
    if twice is not None or "" in head:
        what = f"the column '{twice}' stands twice" if twice else "a column has no name"
        raise DesignError([Problem(f"{source}:1:1", what, "Give every column a name of its own")])
    if not body:
        raise DesignError([Problem(source, "the table has a header and no rows", "Add a row")])
    return [
        Row(n, {name: cells[i] if i < len(cells) else "" for i, name in enumerate(head)})
        for n, cells in body
    ]


def csv_lines(text: str, source: str) -> list[tuple[int, list[str]]]:
    """Cells of each line that holds any, with its number. Raises DesignError."""
    lines: list[tuple[int, list[str]]] = []
    for number, cells in csv_rows(text, source):
        stripped = [cell.strip() for cell in cells]
        if any(stripped) and not stripped[0].startswith("#"):
            lines.append((number, stripped))
    if not lines:
        raise DesignError([Problem(source, "the file holds no rows", "Give one range a row")])
    return lines


def _from_csv(text: str, source: str, columns: Mapping[str, str], header: int | None) -> Table:
    lines = csv_lines(text, source)
    if header is not None or not any(_is_range(cell) for cell in lines[0][1]):
        under = under_header(lines, source, (), header or _header_of(lines))
        lines = [(number, list(cells)) for number, cells in under]
    head = lines[0][1]
    if any(_is_range(cell) for cell in head):
        names = [str(n) for n in range(1, max(len(c) for _, c in lines) + 1)]
        body = lines
        guessed = _guess(names, lines)
        found = {**guessed, **_match(names, columns, source, [])} if columns else guessed
    else:
        names, body = head, lines[1:]
        found = _match(names, columns, source, [cells for _, cells in body[:SAMPLE]])
    index = {name: names.index(column) for name, column in found.items()}
    rows = tuple(
        Row(n, {name: cells[i] if i < len(cells) else "" for name, i in index.items()})
        for n, cells in body
    )
    return Table(source, rows, found, _left(names, found))


def _header_of(lines: Sequence[tuple[int, list[str]]]) -> int | None:
    """The line of the names under titles: the last before the first range in which a cell is one of
    the words for a range; None where it is the first or none."""
    words, found = set(WORDS["prefix"]), None
    for number, cells in lines[:MOST_ABOVE]:
        if any(_is_range(cell) for cell in cells):
            break
        if any(_plain_word(cell) in words for cell in cells):
            found = number
    return found


def _plain_word(name: str) -> str:
    return name.lower().replace("_", " ").replace("-", " ")


def _is_range(cell: str) -> bool:
    try:
        if "/" in cell:
            parse_prefix(cell)
        else:
            parse_address(cell.partition("-")[0].strip())
    except AddressError:
        return False
    return True


def _guess(names: list[str], lines: list[tuple[int, list[str]]]) -> dict[str, str]:
    """Read a table without a header: ranges by their look, then a name and a note by their
    order."""
    sample = [cells for _, cells in lines[:SAMPLE]]
    score = {
        name: sum(_is_range(cells[i]) for cells in sample if i < len(cells))
        for i, name in enumerate(names)
    }
    best = max(names, key=score.__getitem__)
    others = [name for name in names if name != best]
    found = {"prefix": best}
    found.update(zip(("name", "note"), others, strict=False))
    return found


def _match(
    names: list[str], columns: Mapping[str, str], source: str, sample: Sequence[Sequence[str]]
) -> dict[str, str]:
    """Columns by option first, then by the words people use for them.

    Of several that may be the range, it is the one whose cells are: 'Network' is a name elsewhere.
    """
    found: dict[str, str] = {}
    lower = {_plain_word(name): name for name in reversed(names)}
    for wanted, column in columns.items():
        known = lower.get(_plain_word(column))
        number = int(column) if column.isdecimal() and len(column) < 6 else 0
        if known is None and 1 <= number <= len(names):
            known = names[number - 1]
        if known is None:
            fix = f"Columns are: {', '.join(names)}"
            raise DesignError([Problem(f"{source}:1:1", f"there is no column '{column}'", fix)])
        found[wanted] = known
    for wanted, words in WORDS.items():
        if wanted in found:
            continue
        free = [lower[w] for w in words if w in lower and lower[w] not in found.values()]
        if wanted == "prefix":
            free.sort(key=lambda name: -_ranges_in(names.index(name), sample))
        if free:
            found[wanted] = free[0]
        elif wanted == "name" and "network" in lower and lower["network"] not in found.values():
            found[wanted] = lower["network"]
    return found


def _ranges_in(column: int, sample: Sequence[Sequence[str]]) -> int:
    return sum(column < len(cells) and _is_range(cells[column]) for cells in sample)
