"""A design composed of a design with holes and the rows of tables: `{column}`, or `{table.column}`.

A key with a hole stands once for each row of the hole's table, and so does an item of a list.
Inside, the holes of that table are filled from that row, and rows of other tables are those that
belong to it: by columns that say the same, or because they lie within it. A value that is nothing
but a hole takes what the row has, a list or a number too; an empty cell leaves the key out, as a
blank.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from obrin.core.design.positions import Locator
from obrin.core.design.reader import Location
from obrin.core.errors import DesignError, Problem

HOLE = re.compile(r"\{(?:([A-Za-z0-9_-]+)\.)?([A-Za-z0-9 _-]+)\}")
_NUMBER = re.compile(r"(0|[1-9][0-9]{0,9})\Z")
Cell = str | int | list[str]
ONLY = ""
"""The name of a table that has none, since there is no other."""
MOST_ROWS = 1_000_000


@dataclass(frozen=True, slots=True, eq=False)
class Entry:
    """A row: where it stands, and the row of another table that it lies within, if any."""

    where: str
    values: Mapping[str, Cell]
    within: Entry | None = None


@dataclass(frozen=True, slots=True)
class Source:
    """A table. `belongs` are its columns that must say what a column of another table says;
    `parent` is the table whose rows its own lie within."""

    name: str
    columns: frozenset[str]
    rows: Sequence[Entry]
    belongs: Mapping[str, tuple[str, str]] = field(default_factory=dict)
    parent: str | None = None


@dataclass(slots=True)
class Composed:
    """`bad` are rows that could not be used, `left` rows that nothing was made of, with why.
    `counts` are the rows of each table: all of them, those taken, bad ones and those left; the last
    three add up to the first. `blanks` are values that an empty cell left out."""

    values: dict[str, Any] = field(default_factory=dict)
    bad: list[Problem] = field(default_factory=list)
    left: list[Problem] = field(default_factory=list)
    counts: dict[str, tuple[int, int, int, int]] = field(default_factory=dict)
    blanks: dict[Location, str] = field(default_factory=dict)
    places: dict[Location, tuple[Location, Entry | None]] = field(default_factory=dict)
    locator: Locator | None = None

    def where(self, location: Location) -> str:
        """The row, where it gave the value, and the line of the design with holes."""
        steps = tuple(location)
        while steps and steps not in self.places:
            steps = steps[:-1]
        written, row = self.places.get(steps, ((), None))
        place = (
            "" if self.locator is None else self.locator.where((*written, *location[len(steps) :]))
        )
        return place if row is None else f"{row.where}, filled in at {place}"


def compose(text: str, values: Any, source: str, tables: Sequence[Source]) -> Composed:
    """`values` is what `text` holds. Raises DesignError where it is not a mapping, or has a hole
    that no column fills."""
    if not isinstance(values, dict):
        raise DesignError([Problem(source, "the template is not a design", "See 'obrin schema'")])
    return _Composing(text, source, tables).all(values)


class _Blank:
    """What an empty cell makes of a value."""


_BLANK = _Blank()
Scope = dict[str, Entry]


class _Composing:
    def __init__(self, text: str, source: str, tables: Sequence[Source]) -> None:
        self._tables = {table.name: table for table in tables}
        self._source, self._locator = source, Locator(text, source)
        self._made = Composed(locator=self._locator)
        self._first: dict[Location, Entry] = {}
        self._refused: set[str] = set()
        self._taken: set[int] = set()
        self._indexes: dict[tuple[str, tuple[str, ...]], dict[tuple[object, ...], list[Entry]]] = {}

    def all(self, values: dict[str, Any]) -> Composed:
        unknown = list(dict.fromkeys(self._unknown(values, ())))
        if unknown:
            raise DesignError(unknown)
        made = self._value(values, (), (), {})
        self._made.values = made if isinstance(made, dict) else {}
        for table in self._tables.values():
            self._count(table)
        return self._made

    def _count(self, table: Source) -> None:
        """Account for every row of a table."""
        untaken = [row for row in table.rows if id(row) not in self._taken]
        left = [row for row in untaken if row.where not in self._refused]
        self._made.left += [self._why_left(table, row) for row in left]
        count, bad = len(table.rows), len(untaken) - len(left)
        self._made.counts[table.name] = count, count - len(untaken), bad, len(left)

    def _why_left(self, table: Source, row: Entry) -> Problem:
        for own, (there, column) in table.belongs.items():
            value = _plain(row.values.get(own, ""))
            if value == "":
                fix = "Fill the cell; where cells are merged, say 'fill: down' for the column"
                return Problem(row.where, f"column {own} is empty, so it belongs to nothing", fix)
            others = self._tables[there].rows if there in self._tables else ()
            if all(_plain(other.values.get(column, "")) != value for other in others):
                what = f"no row of {there} has {column} '{value}', so it belongs to nothing"
                return Problem(row.where, what, f"Add it to {there}, or take this row out")
        if row.within is not None and id(row.within) not in self._taken:
            what = "nothing was made of the row that it lies within"
            return Problem(row.where, what, f"See to the row at {row.within.where}")
        what = "nothing of the design has a hole that it fills"
        return Problem(row.where, what, "Take the table out of 'read', or name it in 'design'")

    def _unknown(self, value: Any, place: Location) -> Iterator[Problem]:
        """Holes that nothing fills."""
        if isinstance(value, str):
            for table, column in map(_parts, HOLE.finditer(value)):
                held = self._tables.get(table)
                if held is None or column not in held.columns:
                    yield self._no_column(table, column, place)
        elif isinstance(value, dict):
            for key, part in value.items():
                yield from self._unknown(str(key), (*place, key))
                yield from self._unknown(part, (*place, key))
        elif isinstance(value, list):
            for index, part in enumerate(value):
                yield from self._unknown(part, (*place, index))

    def _no_column(self, table: str, column: str, place: Location) -> Problem:
        name = f"{table}.{column}" if table else column
        listed = (
            f"{t.name}.{c}" if t.name else c for t in self._tables.values() for c in t.columns
        )
        fix = f"Columns are: {', '.join(sorted(listed))}"
        return Problem(self._locator.where(place), f"there is no column for {{{name}}}", fix)

    def _value(self, value: Any, written: Location, made: Location, scope: Scope) -> Any:
        if isinstance(value, dict):
            return dict(self._members(value, written, made, scope))
        if isinstance(value, list):
            return list(self._items(value, written, made, scope))
        if isinstance(value, str) and HOLE.search(value):
            return self._filled(value, written, made, scope)
        return value

    def _members(
        self, value: dict[str, Any], written: Location, made: Location, scope: Scope
    ) -> Iterator[tuple[str, Any]]:
        taken: set[str] = set()
        for key, part in value.items():
            wanted = _tables_in(str(key)) or (_tables_in(part) if isinstance(part, str) else [])
            for inner in self._scopes(wanted, scope):
                row = _last(wanted, scope, inner)
                name = _text(str(key), inner)
                place = (*made, name)
                if name == "" or name in taken:
                    self._refuse(name, str(key), place, row)
                    continue
                self._note(place, (*written, key), row)
                found = self._value(part, (*written, key), place, inner)
                self._taken |= {id(entry) for entry in inner.values()}
                if found is not _BLANK:
                    taken.add(name)
                    self._first[place] = row or _last(list(inner), {}, inner) or _NOBODY
                    yield name, found

    def _refuse(self, name: str, key: str, place: Location, row: Entry | None) -> None:
        if row is None:
            return
        if name == "":
            what, fix = f"no value for {key}", "Fill the cell"
        else:
            first = self._first.get(place, _NOBODY).where
            what, fix = f"'{name}' stands at {first} already", "Give every row names of its own"
        if row.where not in self._refused:
            self._refused.add(row.where)
            self._made.bad.append(Problem(row.where, what, fix))

    def _items(
        self, value: list[Any], written: Location, made: Location, scope: Scope
    ) -> Iterator[Any]:
        place = 0
        for index, part in enumerate(value):
            wanted = list(dict.fromkeys(_all_tables(part)))
            for inner in self._scopes(wanted, scope):
                here = (*made, place)
                self._note(here, (*written, index), _last(wanted, scope, inner))
                found = self._value(part, (*written, index), here, inner)
                self._taken |= {id(entry) for entry in inner.values()}
                if found is not _BLANK:
                    place += 1
                    yield found

    def _filled(self, value: str, written: Location, made: Location, scope: Scope) -> Any:
        alone = HOLE.fullmatch(value)
        tables = _tables_in(value)
        row = scope[tables[-1]]
        self._note(made, written, row)
        for table, column in map(_parts, HOLE.finditer(value)):
            if scope[table].values.get(column, "") in ("", []):
                self._made.blanks[made] = f"{scope[table].where}, column {column}"
                return _BLANK
        if alone is None:
            return _text(value, scope)
        table, column = _parts(alone)
        found = scope[table].values[column]
        return int(found) if isinstance(found, str) and _NUMBER.match(found) else found

    def _note(self, made: Location, written: Location, row: Entry | None) -> None:
        self._made.places[made] = written, row

    def _scopes(self, wanted: Sequence[str], scope: Scope) -> Iterator[Scope]:
        """Every way to choose rows for the tables that have none yet."""
        missing = [name for name in wanted if name not in scope]
        if not missing:
            yield scope
            return
        for row in self._rows(missing[0], scope):
            yield from self._scopes(missing[1:], {**scope, missing[0]: row})

    def _rows(self, name: str, scope: Scope) -> Sequence[Entry]:
        """Rows that belong to the rows in scope."""
        table = self._tables[name]
        if table.parent is not None and table.parent in scope:
            parent = scope[table.parent]
            return self._index(table, (), lambda row: (id(row.within),)).get((id(parent),), [])
        tied = [(own, other) for own, other in table.belongs.items() if other[0] in scope]
        if not tied:
            return table.rows
        owns = tuple(own for own, _ in tied)
        key = tuple(_plain(scope[there].values.get(column, "")) for _, (there, column) in tied)
        index = self._index(
            table, owns, lambda row: tuple(_plain(row.values.get(o, "")) for o in owns)
        )
        return index.get(key, [])

    def _index(
        self, table: Source, columns: tuple[str, ...], key: Callable[[Entry], tuple[object, ...]]
    ) -> dict[tuple[object, ...], list[Entry]]:
        found = self._indexes.get((table.name, columns))
        if found is None:
            found = self._indexes[table.name, columns] = {}
            for row in table.rows:
                found.setdefault(key(row), []).append(row)
        return found


_NOBODY = Entry("the template", {})


def _parts(match: re.Match[str]) -> tuple[str, str]:
    return match[1] or ONLY, match[2]


def _tables_in(text: str) -> list[str]:
    return list(dict.fromkeys(_parts(match)[0] for match in HOLE.finditer(text)))


def _all_tables(value: Any) -> Iterator[str]:
    """Return those of holes anywhere below a value; what stands below keys with holes has rows
    of its own."""
    if isinstance(value, str):
        yield from _tables_in(value)
    elif isinstance(value, dict):
        keyed = {table for key in value for table in _tables_in(str(key))}
        for part in value.values():
            yield from (table for table in _all_tables(part) if table not in keyed)
    elif isinstance(value, list):
        for part in value:
            yield from _all_tables(part)


def _last(wanted: Sequence[str], before: Scope, now: Scope) -> Entry | None:
    """The row that was chosen now, or else the one that fills the hole."""
    fresh = [name for name in wanted if name not in before] or list(wanted)
    return now.get(fresh[-1]) if fresh else None


def _text(text: str, scope: Scope) -> str:
    return HOLE.sub(lambda m: _plain(scope[_parts(m)[0]].values.get(_parts(m)[1], "")), text)


def _plain(value: Cell) -> str:
    return ", ".join(value) if isinstance(value, list) else str(value)
