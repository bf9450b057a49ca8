"""Rows to ranges that others use: prefixes, address and mask, first and last address."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

from obrin.core.address.prefix import Prefix, netmask_length, parse_address, parse_prefix
from obrin.core.address.space import range_blocks
from obrin.core.errors import AddressError, DesignError, Problem
from obrin.core.gather.rows import Row, Table

_NOT_A_NAME = re.compile(r"[^a-z0-9]+")


@dataclass(frozen=True, slots=True)
class KnownRange:
    """One entry for `elsewhere`."""

    name: str
    prefix: Prefix
    owner: str = ""
    place: str = ""
    note: str = ""


@dataclass(frozen=True, slots=True)
class Gathered:
    """`bad` are rows that could not be read; they keep nothing of the good ones."""

    ranges: tuple[KnownRange, ...]
    bad: tuple[Problem, ...]


def gather_ranges(table: Table, taken: frozenset[str]) -> Gathered:
    """`taken` are names in use. Names are made where rows have none, and made different.

    Raises DesignError when there is no column with ranges.
    """
    if "prefix" not in table.columns:
        fix = "Name it with --column prefix=HEADER"
        raise DesignError([Problem(f"{table.source}:1:1", "no column holds ranges", fix)])
    found: list[KnownRange] = []
    bad: list[Problem] = []
    names = set(taken)
    seen: dict[Prefix, int] = {}
    given: dict[str, int] = {}
    for row in table.rows:
        try:
            value = row.values.get
            blocks = list(blocks_of(value("prefix", ""), value("last", ""), value("mask", "")))
        except AddressError as error:
            what, _, fix = str(error).partition("; ")
            bad.append(
                Problem(table.where(row), what, (fix[:1].upper() + fix[1:]) or "Correct the row")
            )
            continue
        if any(block.length == 0 for block in blocks):
            what = f"{value('prefix', '')} is every address there is: that is not a range in use"
            fix = "Write the range that is meant, or take the row out"
            bad.append(Problem(table.where(row), what, fix))
            continue
        name = row.values.get("name", "")
        if name and name in given:
            what = f"the name '{name}' stands in row {given[name]} already"
            bad.append(Problem(table.where(row), what, "Give every range a name of its own"))
            continue
        again = next((b for b in blocks if b in seen), None)
        if again is not None:
            what = f"{again} stands in row {seen[again]} already"
            bad.append(Problem(table.where(row), what, "Take one of the two rows out"))
            continue
        given.setdefault(name, row.number)
        for block in blocks:
            seen[block] = row.number
            found.append(_known(row, block, names))
    return Gathered(tuple(found), tuple(bad))


def as_name(words: str) -> str:
    """What people call a range, as a name of a design."""
    return _NOT_A_NAME.sub("-", words.lower()).strip("-")[:56].strip("-") or "range"


def _known(row: Row, block: Prefix, names: set[str]) -> KnownRange:
    value = row.values.get
    base = as_name(value("name") or value("owner") or value("place") or "range")
    name, number = base, 1
    while name in names:
        number += 1
        name = f"{base}-{number}"
    names.add(name)
    return KnownRange(name, block, value("owner", ""), value("place", ""), value("note", ""))


def blocks_of(text: str, last: str, mask: str) -> Iterator[Prefix]:
    """The prefixes of a range, however it is written; `last` and `mask` may be empty. Raises
    AddressError."""
    if not text:
        raise AddressError("the row has no range; fill the cell or take the row out")
    if "-" in text and not last:
        text, _, last = (part.strip() for part in text.partition("-"))
    if last:
        yield from _span(text, last)
    elif "/" in text:
        address, _, tail = text.partition("/")
        yield parse_prefix(f"{address}/{_mask_length(tail)}" if "." in tail else text)
    elif mask:
        digits = mask.removeprefix("/")
        yield parse_prefix(f"{text}/{_mask_length(digits) if '.' in digits else digits}")
    else:
        bits, value = parse_address(text)
        yield Prefix(bits, value, bits)


def _span(first: str, last: str) -> Iterator[Prefix]:
    (bits, low), (other, high) = parse_address(first), parse_address(last)
    if bits != other:
        raise AddressError(f"{first} and {last} are of different families; give one family a row")
    if low > high:
        raise AddressError(f"{first} is after {last}; swap the two")
    yield from range_blocks(bits, low, high)


def _mask_length(mask: str) -> int:
    """255.255.252.0 to 22. Raises AddressError."""
    length = netmask_length(parse_address(mask))
    if length is None:
        raise AddressError(f"'{mask}' is not a mask: its ones are not all in front; correct it")
    return length
