"""What was entered somewhere, from a file: a filled sheet (CSV, XLSX), names and values, YANG data
as JSON, or any text with a template of the user's own."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from obrin.core.csv_text import csv_rows
from obrin.core.errors import DesignError, Problem
from obrin.core.handover.sheet.blocks import HEAD, Value
from obrin.core.json_text import JsonError, parse_json
from obrin.live.files import read_file
from obrin.live.text_tables import rows_by
from obrin.live.workbooks import cell_text, read_workbook

MOST_BYTES = 32 << 20
ENTERED = "entered"
Row = Sequence[str]
Known = list[Value] | None
"""The values of the sheet, where there is one."""


@dataclass(frozen=True, slots=True)
class EnteredFile:
    """`values` by the names of the sheet, with the `lines` where they stand; `unknown` are rows
    that are nothing of the sheet's. `data` is YANG data instead."""

    values: dict[str, str] = field(default_factory=dict)
    lines: dict[str, int] = field(default_factory=dict)
    unknown: tuple[str, ...] = ()
    data: dict[str, Any] | None = None


def read_entered(
    path: Path, sheet: Iterable[Value] | None, template: Path | None = None
) -> EnteredFile:
    """Read values of a file; without a sheet they have the names that the file gives them.

    Raises DesignError for a file that cannot be read, with its place; OutsideError, OSError.
    """
    known = None if sheet is None else list(sheet)
    raw = read_file(path, MOST_BYTES)
    if template is not None:
        return _matched(_parsed(path, raw, template), known, str(path))
    if path.suffix.lower() == ".xlsx":
        return _matched(read_workbook(path, raw), known, str(path))
    text = _text(path, raw)
    if path.suffix.lower() == ".json":
        return _json(path, text, known)
    rows = [cells for _, cells in csv_rows(text, str(path), ",;\t", strict=False)]
    return _matched(rows, known, str(path))


def _text(path: Path, raw: bytes) -> str:
    try:
        return raw.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        what = f"not UTF-8 text (byte {error.start})"
        raise DesignError([Problem(str(path), what, "Save it as UTF-8")]) from None


def _json(path: Path, text: str, known: Known) -> EnteredFile:
    try:
        found = parse_json(text)
    except JsonError as error:
        what = f"not JSON: {error.what}"
        fix = "Mend it, or save it anew"
        raise DesignError([Problem(f"{path}{error.place}", what, fix)]) from None
    if isinstance(found, dict) and any(":" in key.partition(".")[0] for key in found):
        return EnteredFile(data=found.get("ietf-restconf:data", found))
    if isinstance(found, dict):
        rows = [(str(name), cell_text(value)) for name, value in found.items()]
        return _matched(rows, known, str(path))
    what = "neither names with values nor YANG data"
    raise DesignError([Problem(str(path), what, "Write an object of names and values")])


def _parsed(path: Path, raw: bytes, template: Path) -> list[Row]:
    """Rows by a template of the user's own; a template has `name` and `value`, or columns that are
    called as values of the sheet are."""
    header, found = rows_by(template, _text(path, raw))
    head = [name.lower() for name in header]
    if set(head) >= {"name", "value"}:
        at = head.index("name"), head.index("value")
        return [(str(row[at[0]]), str(row[at[1]])) for row in found]
    names = [name.replace("__", ".").replace("_", "-") for name in head]
    return [
        (name, str(cell)) for row in found for name, cell in zip(names, row, strict=True) if cell
    ]


def _names(known: Sequence[Value]) -> tuple[dict[str, str], dict[tuple[str, str, str], str]]:
    """Names of values by what they may be called, and by where they stand."""
    by_row: dict[str, list[str]] = {}
    for value in known:
        by_row.setdefault(value.row.lower(), []).append(value.name)
    names = {value.name: value.name for value in known}
    names |= {row: found[0] for row, found in by_row.items() if len(found) == 1}
    return names, {(v.part, v.row, v.column): v.name for v in known}


def _matched(rows: Sequence[Row], known: Known, where: str) -> EnteredFile:
    """Rows to values of the sheet: by name, by where they stand, or by what the row is called
    where only one is."""
    head = [cell.strip().lower() for cell in rows[0]] if rows else []
    columns = {name: head.index(name) for name in (*HEAD, ENTERED) if name in head}
    value_column = columns.get(ENTERED, columns.get("value"))
    body = list(enumerate(rows, 1))
    if value_column is None:
        columns, value_column = {"name": 0}, 1
    else:
        body = body[1:]
    names, by_place = _names(known or [])
    values, lines, unknown = dict[str, str](), dict[str, int](), list[str]()
    for number, row in body:
        if not any(cell.strip() for cell in row):
            continue
        cells = {c: row[at].strip() for c, at in columns.items() if at < len(row)}
        place = cells.get("part", ""), cells.get("row", ""), cells.get("column", "")
        called = cells.get("name", "")
        name = names.get(called) or names.get(called.lower()) or by_place.get(place)
        if known is None:
            name = called or None
        if name is None:
            unknown.append(f"{where}:{number}: {cells.get('name') or ' '.join(place).strip()}")
        else:
            values[name], lines[name] = (
                (row[value_column] if value_column < len(row) else ""),
                number,
            )
    return EnteredFile(values, lines, tuple(unknown))
