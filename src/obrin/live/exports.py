"""Exports of other systems as tables, by a mapping of the user's own."""

from __future__ import annotations

import functools
import json
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import Any

from obrin.core.errors import DesignError, OutsideError, Problem
from obrin.core.gather.compose import HOLE, Composed, Entry, Source, compose
from obrin.core.gather.mapping import Mapped, RawRow, TableSpec, read_mapping, source_of
from obrin.core.gather.rows import csv_lines, named_rows, under_header
from obrin.core.json_text import JsonError, parse_json
from obrin.live.files import read_file
from obrin.live.project import read_text
from obrin.live.workbooks import read_workbook

MOST_BYTES = 256 << 20
EVERY = "$[*]"


def gathered(path: Path) -> Composed:
    """What the exports that a mapping names say, as a design. Raises DesignError for a mapping or
    a file that cannot be used; rows that cannot be are listed in what comes back."""
    mapping = read_mapping(read_text(path), str(path))
    tables, bad = _Reading(mapping, path.parent).tables()
    made = compose(mapping.text, {"design": mapping.spec.design}, mapping.source, tables)
    inner = made.values.get("design", {})
    return Composed(
        values=inner,
        bad=[*bad, *made.bad],
        left=made.left,
        counts=made.counts,
        blanks={place[1:]: what for place, what in made.blanks.items()},
        places={
            place[1:]: found for place, found in made.places.items() if place[:1] == ("design",)
        },
        locator=made.locator,
    )


class _Reading:
    def __init__(self, mapping: Mapped, folder: Path) -> None:
        self._mapping, self._folder = mapping, folder
        self._rows: dict[str, list[RawRow]] = {}
        self._entries: dict[int, Entry] = {}

    def tables(self) -> tuple[list[Source], list[Problem]]:
        """Read the tables; those that others lie within come first."""
        specs, made, bad = self._mapping.spec.read, dict[str, Source](), list[Problem]()

        def read(name: str) -> None:
            spec = specs[name]
            if name in made:
                return
            if spec.within is not None:
                read(spec.within)
            rows, names, look = self._read(name, spec)
            self._rows[name] = rows
            made[name], wrong = source_of(name, spec, rows, names, look, self._entries)
            bad.extend(wrong)

        for name in specs:
            read(name)
        return list(made.values()), bad

    def _read(self, name: str, spec: TableSpec) -> tuple[list[RawRow], list[str], Look]:
        """The rows of a table, its columns that go by their own name, and how to look into one."""
        for text in (text for column in spec.columns.values() for text in column.origins):
            if text.startswith("$"):
                self._query(name, text)
        if spec.within is not None:
            outer = self._rows[spec.within]
            inner = [
                RawRow(f"{row.where}{where}", data, row)
                for row in outer
                for where, data in self._select(name, str(spec.rows), row.data)
            ]
            return inner, _scalars(inner), self._look
        path = self._folder / str(spec.file)
        if path.suffix.lower() == ".json":
            found = self._select(name, spec.rows or EVERY, _json(path))
            rows = [RawRow(f"{path}{where}", data) for where, data in found]
            return rows, _scalars(rows), self._look
        if spec.rows is not None:
            fix = "Leave 'rows' out: every line of a table is one"
            raise DesignError([self._mapping.problem(name, f"{path.name} is not a JSON file", fix)])
        return self._of_table(name, path, spec)

    def _of_table(
        self, name: str, path: Path, spec: TableSpec
    ) -> tuple[list[RawRow], list[str], Look]:
        if path.suffix.lower() == ".xlsx":
            cells = read_workbook(path, _bytes(path), spec.sheet)
            lines = [(n, [c.strip() for c in row]) for n, row in enumerate(cells, 1) if any(row)]
            if not lines:
                raise DesignError(
                    [Problem(str(path), "the sheet is empty", "Give a header and rows")]
                )
        else:
            lines = csv_lines(read_text(path), str(path))
        wanted = {text for column in spec.columns.values() for text in column.origins}
        rows = named_rows(under_header(lines, str(path), wanted, spec.header_row), str(path))
        heads = list(rows[0].values)
        lacking = wanted - set(heads)
        if lacking:
            what = f"{path.name} has no column '{min(lacking)}'"
            fix = f"Columns are: {', '.join(heads)}"
            raise DesignError([self._mapping.problem(name, what, fix)])
        raw = [RawRow(f"{path}:{row.number}:1", row.values) for row in rows]
        usable = [head for head in heads if HOLE.fullmatch("{" + head + "}") and "." not in head]
        return raw, usable, lambda row, text: [row.data[text]] if row.data.get(text) else []

    def _select(self, name: str, query: str, data: Any) -> Iterator[tuple[str, Any]]:
        """Say where each part stands that a query finds, and what it is."""
        for node in self._query(name, query).find(data):
            yield str(node.path()).removeprefix("$"), node.value

    def _query(self, name: str, text: str) -> Any:
        try:
            return _compiled(text)
        except ValueError as error:
            what = f"'{text}' is not a JSONPath: {error}"
            fix = "Write it as RFC 9535 has it, such as $.sites[*]"
            raise DesignError([self._mapping.problem(name, what, fix)]) from None

    def _look(self, row: RawRow, text: str) -> list[str]:
        """A query where it begins with $, or else the member with that name."""
        if text.startswith("$"):
            found = [node.value for node in _compiled(text).find(row.data)]
        else:
            found = [row.data.get(text)] if isinstance(row.data, dict) else []
        return [_text(value) for value in found if value is not None and value != ""]


Look = Callable[[RawRow, str], Sequence[str]]


@functools.cache
def _compiled(text: str) -> Any:
    """Raises ValueError."""
    import jsonpath_rfc9535

    try:
        return jsonpath_rfc9535.compile(text)
    except jsonpath_rfc9535.JSONPathError as error:
        raise ValueError(str(error)) from None


def _text(value: Any) -> str:
    if isinstance(value, bool):
        return "true" if value else "false"
    return value.strip() if isinstance(value, str) else json.dumps(value)


def _scalars(rows: Sequence[RawRow]) -> list[str]:
    """Members that go by their own name."""
    found = {
        str(key)
        for row in rows
        if isinstance(row.data, dict)
        for key, value in row.data.items()
        if not isinstance(value, list | dict)
    }
    return sorted(key for key in found if HOLE.fullmatch("{" + key + "}") and "." not in key)


def _bytes(path: Path) -> bytes:
    try:
        return read_file(path, MOST_BYTES)
    except FileNotFoundError:
        raise DesignError([Problem(str(path), "there is no such file", "Check the path")]) from None
    except OutsideError as error:
        raise DesignError([Problem(str(path), str(error), "Check the path")]) from None


def _json(path: Path) -> Any:
    try:
        return parse_json(_bytes(path))
    except JsonError as error:
        where = f"{path}{error.place}"
        raise DesignError([Problem(where, f"not JSON: {error.what}", "Mend the file")]) from None
