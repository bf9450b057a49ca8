"""The file that says how exports become a design: which tables there are, and a design with holes.

    read:
      sites: {file: sites.xlsx, columns: {name: {from: Site code, as: name}, address: WAN IP}}
      lans: {file: lans.csv, belongs: {site: sites.name}, columns: {site: {from: Site, as: name}}}
      nets: {file: cloud.json, rows: "$.networks[*]", columns: {name: $.id, space: "$.ranges[*]"}}
      parts: {within: nets, rows: "$.subnets[*]", columns: {name: $.name, prefix: $.range}}
    design:
      sites:
        "{sites.name}": {networks: {"{lans.name}": "{lans.prefix}"}}

A column is a header of the table, or a query (JSONPath, RFC 9535) into its row of a JSON file. With
`fill: down` an empty cell has what stands above it, as merged cells do. The header is the first
line that has all columns, or line `header-row`.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError, field_validator, model_validator

from obrin.core.design.document import problems_of
from obrin.core.design.positions import Locator
from obrin.core.design.reader import read_values
from obrin.core.errors import AddressError, DesignError, Problem
from obrin.core.gather.compose import Cell, Entry, Source
from obrin.core.gather.ranges import as_name, blocks_of

_NAME = r"^[A-Za-z0-9_-]{1,40}$"
_SEPARATORS = str.maketrans(";\n\t", ",,,")


class ColumnSpec(BaseModel):
    """The source of a column, and what is made of it."""

    model_config = ConfigDict(extra="forbid")

    origin: str | list[str] = Field(alias="from")
    kind: Literal["text", "name", "prefix", "list", "prefixes"] = Field("text", alias="as")
    words: dict[str, str] = Field(default_factory=dict)
    usual: str = Field("", alias="default")
    fill: Literal["down"] | None = None

    @field_validator("origin")
    @classmethod
    def _two(cls, value: str | list[str]) -> str | list[str]:
        if isinstance(value, list) and len(value) != 2:
            raise ValueError("several columns are an address and its mask: give two")
        return value

    @property
    def origins(self) -> list[str]:
        return [self.origin] if isinstance(self.origin, str) else self.origin


class TableSpec(BaseModel):
    """One table: a file of its own, or what lies within the rows of another."""

    model_config = ConfigDict(extra="forbid")

    file: str | None = None
    sheet: str | None = None
    header_row: int | None = Field(None, alias="header-row", ge=1, le=1000)
    rows: str | None = None
    within: str | None = None
    belongs: dict[str, str] = Field(default_factory=dict)
    columns: dict[str, ColumnSpec] = Field(default_factory=dict)

    @field_validator("columns", mode="before")
    @classmethod
    def _short(cls, value: Any) -> Any:
        """A column that is nothing but a text is where it comes from."""
        if not isinstance(value, dict):
            return value
        return {n: {"from": c} if isinstance(c, str | list) else c for n, c in value.items()}

    @model_validator(mode="after")
    def _one_place(self) -> TableSpec:
        if (self.file is None) == (self.within is None):
            raise ValueError("a table has a 'file', or lies 'within' another")
        if self.within is not None and self.rows is None:
            raise ValueError("say with 'rows' where in each row of the other table it lies")
        for tie in self.belongs.values():
            if len(tie.split(".")) != 2:
                raise ValueError(f"'{tie}' names no column of another table: write TABLE.COLUMN")
        return self


class MappingFile(BaseModel):
    """The whole file; the design with holes is kept as it is written."""

    model_config = ConfigDict(extra="forbid")

    read: dict[str, TableSpec] = Field(min_length=1)
    design: dict[str, Any]


@dataclass(frozen=True, slots=True)
class Mapped:
    """A mapping as it was read, with its text for messages."""

    spec: MappingFile
    text: str
    source: str
    locator: Locator

    def problem(self, table: str, what: str, fix: str) -> Problem:
        """One of a table of it."""
        return Problem(self.locator.where(("read", table)), what, fix)


def read_mapping(text: str, source: str) -> Mapped:
    """Raises DesignError with everything that is wrong with it."""
    values = read_values(text, source)
    locator = Locator(text, source)
    try:
        spec = MappingFile.model_validate(values)
    except ValidationError as error:
        raise DesignError(problems_of(error, values, locator.where, MappingFile)) from None
    found = Mapped(spec, text, source, locator)
    problems = list(_dangling(found))
    if problems:
        raise DesignError(problems)
    return found


def _dangling(mapping: Mapped) -> Iterator[Problem]:
    tables = mapping.spec.read
    for name, table in tables.items():
        others = [tie.split(".")[0] for tie in table.belongs.values()]
        for other in (*others, *([table.within] if table.within else [])):
            if other not in tables or other == name:
                fix = f"Tables are: {', '.join(tables)}"
                yield mapping.problem(name, f"there is no other table '{other}'", fix)
        seen = {name}
        while table.within in tables:
            if table.within in seen:
                yield mapping.problem(
                    name, "tables lie within each other in a circle", "Give a file"
                )
                break
            seen.add(table.within)
            table = tables[table.within]


@dataclass(frozen=True, slots=True)
class RawRow:
    """A row as it stands in its file; `data` is a mapping by header, or a part of a JSON file."""

    where: str
    data: Any
    within: RawRow | None = None


Look = Callable[[RawRow, str], Sequence[str]]
"""The values that a column's text names in a row: one, or none where it is empty; or several."""


def source_of(
    name: str,
    spec: TableSpec,
    rows: Sequence[RawRow],
    names: Iterable[str],
    look: Look,
    entries: dict[int, Entry],
) -> tuple[Source, list[Problem]]:
    """A table with its columns made. `names` are columns that go by their own name. `entries`
    keeps each row's, so that rows within it find theirs."""
    columns = {n: ColumnSpec.model_validate({"from": n}) for n in names} | spec.columns
    bad: list[Problem] = []
    made: list[Entry] = []
    above: dict[str, list[Sequence[str]]] = {}
    for row in rows:
        values: dict[str, Cell] = {}
        for column, wanted in columns.items():
            found = [look(row, text) for text in wanted.origins]
            if wanted.fill and not any(found):
                found = above.get(column, found)
            above[column] = found
            try:
                values[column] = _cell(wanted, found)
            except AddressError as error:
                what, _, fix = str(error).partition("; ")
                fix = (fix[:1].upper() + fix[1:]) or "Correct the cell"
                bad.append(Problem(row.where, f"{column}: {what}", fix))
                values[column] = ""
        parent = None if row.within is None else entries.get(id(row.within))
        entry = Entry(row.where, values, parent)
        entries[id(row)] = entry
        made.append(entry)
    ties = {own: (tie.split(".")[0], tie.split(".")[1]) for own, tie in spec.belongs.items()}
    return Source(name, frozenset(columns), made, ties, spec.within), bad


def _cell(spec: ColumnSpec, found: Sequence[Sequence[str]]) -> Cell:
    """Raises AddressError for what is to be a prefix and is none."""
    texts = [spec.words.get(text, text) for text in found[0] if text] or (
        [spec.usual] if spec.usual else []
    )
    if spec.kind in ("list", "prefixes"):
        parts = [p.strip() for text in texts for p in text.translate(_SEPARATORS).split(",")]
        listed = [part for part in parts if part]
        return [_prefix(part, "") for part in listed] if spec.kind == "prefixes" else listed
    text = texts[0] if texts else ""
    if spec.kind == "name":
        return as_name(text) if text else ""
    if spec.kind == "prefix" and text:
        return _prefix(text, found[1][0] if len(found) > 1 and found[1] else "")
    return text


def _prefix(text: str, mask: str) -> str:
    blocks = [str(block) for block in blocks_of(text, "", mask)]
    if len(blocks) != 1:
        raise AddressError(f"{text} is not a single prefix; write {', '.join(blocks[:4])} apart")
    return blocks[0]
