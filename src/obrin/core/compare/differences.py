"""Values as they were entered beside those that were meant: which differ, how, and what was done.

Mistakes are recognised by what else the entered value is: another unit of the same time, the value
of another field, of another tunnel, of the row above, the same network with another mask, a letter
that is missing.
"""

from __future__ import annotations

import difflib
import itertools
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from types import MappingProxyType

from obrin.core.compare.reading import (
    ADDRESSES,
    ALGORITHM,
    BLANK,
    KINDS,
    NUMBER,
    SECONDS,
    SWITCH,
    TEXT,
    Held,
    Reading,
    read,
)
from obrin.core.handover.sheet.blocks import Value
from obrin.core.ipsec.shared_keys import print_difference
from obrin.core.quantity import plain

_TIMES = (
    (60.0, "minutes", "seconds"),
    (1 / 60, "seconds", "minutes"),
    (3600.0, "hours", "seconds"),
    (1 / 3600, "seconds", "hours"),
    (1000.0, "seconds", "milliseconds"),
    (1 / 1000, "milliseconds", "seconds"),
    (86400.0, "days", "seconds"),
    (24.0, "days", "hours"),
)
"""What is meant over what was entered, with the unit that it was entered in and the one that the
field has."""
ENDS = (
    ("local-address", "remote-address"),
    ("local-identity", "remote-identity"),
    ("local-traffic-selector", "remote-traffic-selector"),
    ("inside-address", "remote-inside-address"),
    ("bgp-source-address", "bgp-peer-address"),
    ("announce-to-it", "accept-from-it"),
    ("from", "to"),
    ("from-port", "to-port"),
    ("here-it-is", "the-remote-end-knows-it-as"),
    ("out:-source", "in:-destination"),
)
"""Rows and columns that are this end's and the other's."""
SECRET_ROW = "secret:-entry-in-keys.json"


@dataclass(frozen=True, slots=True)
class Difference:
    """`what` says how it differs and what was probably done. `place` is where it stands for who
    reads, `line` of what was read, where it has one."""

    name: str
    place: str
    meant: str
    entered: str
    what: str
    line: int = 0


class Sheet:
    """The values that are meant, with what each says."""

    def __init__(self, values: Sequence[Value]) -> None:
        self.values = {value.name: value for value in values}
        self.readings = {name: read(name, value.text) for name, value in self.values.items()}
        self._by_sign: dict[object, list[str]] = {}
        for name, reading in self.readings.items():
            if reading.telling:
                self._by_sign.setdefault(reading.sign, []).append(name)

    def where(self, name: str) -> str:
        """Place of the value on the sheet, for the reader."""
        value = self.values[name]
        return f"{value.row}, {value.column}" if value.column not in ("", "Enter") else value.row

    def turned(self, name: str) -> str:
        """The same of the other end, where the sheet has it; else empty."""
        for one, two in (*ENDS, *(pair[::-1] for pair in ENDS)):
            found = f".{name}.".replace(f".{one}.", f".{two}.")[1:-1]
            if found != name and found in self.values:
                return found
        return ""

    def beside(self, name: str) -> Iterator[str]:
        """The same row in other columns."""
        mine = self.values[name]
        for other, value in self.values.items():
            if other != name and (value.part, value.row) == (mine.part, mine.row):
                yield other

    def next_to(self, name: str) -> Iterator[tuple[str, str]]:
        """Values in the rows above and below, in the same column."""
        mine = self.values[name]
        column = [
            other
            for other, value in self.values.items()
            if (value.part, value.column) == (mine.part, mine.column)
        ]
        at = column.index(name)
        if at > 0:
            yield "above", column[at - 1]
        if at + 1 < len(column):
            yield "below", column[at + 1]

    def having(self, reading: Reading) -> list[str]:
        """Names of all values that read so."""
        return self._by_sign.get(reading.sign, [])


def differences(
    sheet: Sheet,
    entered: Mapping[str, str],
    lines: Mapping[str, int] = MappingProxyType({}),
    prints: Mapping[str, str] = MappingProxyType({}),
) -> list[Difference]:
    """Compare all values on the sheet with those entered, in its order. What is entered and not on
    the sheet is left out.
    `prints` are fingerprints of keys, by tunnel: a secret that is entered is one."""
    found: list[Difference] = []
    said = {
        name: sheet.readings[name] if text == sheet.values[name].text else read(name, text)
        for name, text in entered.items()
        if name in sheet.values
    }
    for name, value in sheet.values.items():
        if name not in entered:
            continue
        if SECRET_ROW in name:
            found += _secret(sheet, name, entered[name].strip(), lines.get(name, 0), prints)
            continue
        if said[name] == sheet.readings[name] or _same_words(value.text, entered[name]):
            continue
        found.append(
            Difference(
                name=name,
                place=sheet.where(name),
                meant=value.text,
                entered=entered[name].strip(),
                what=_what(sheet, said, name),
                line=lines.get(name, 0),
            )
        )
    return found


def _secret(
    sheet: Sheet, name: str, entered: str, line: int, prints: Mapping[str, str]
) -> Iterator[Difference]:
    """Compare fingerprints only; what is something else is neither judged nor shown."""
    tunnel = sheet.values[name].column
    right = prints.get(tunnel)
    if right is None or entered == sheet.values[name].text:
        return
    others = {other: shown for other, shown in prints.items() if other != tunnel}
    what = print_difference(right, entered, others)
    if what:
        yield Difference(name, sheet.where(name), "(not shown)", "(not shown)", what, line)


def _same_words(one: str, other: str) -> bool:
    return " ".join(one.split()) == " ".join(other.split())


class _Case:
    """A value that is another than the one that is meant, and all else that is `said`."""

    def __init__(self, sheet: Sheet, said: Mapping[str, Reading], name: str) -> None:
        self.sheet, self.name = sheet, name
        self.meant, self.entered = sheet.readings[name], said[name]
        self._said = said
        both = _held(self.meant), _held(self.entered)
        self.lacking, self.more = sorted(both[0] - both[1]), sorted(both[1] - both[0])
        self.of_addresses = self.meant.kind == self.entered.kind == ADDRESSES

    def belongs_to(self, other: str) -> bool:
        """Whether what was entered is the right value of another field."""
        return self.sheet.readings[other].sign == self.entered.sign

    def has_mine(self, other: str) -> bool:
        """Whether the right value was entered there."""
        return self._said.get(other) == self.meant


def _what(sheet: Sheet, said: Mapping[str, Reading], name: str) -> str:
    """The first explanation that fits."""
    case = _Case(sheet, said, name)
    if case.entered.kind == BLANK:
        return "nothing is entered"
    return next(filter(None, (explain(case) for explain in _EXPLAIN)), "it is another value")


def _unit(case: _Case) -> str:
    kinds = {case.meant.kind, case.entered.kind}
    if kinds - {SECONDS, NUMBER} or SECONDS not in kinds:
        return ""
    one, two = case.meant.value, case.entered.value
    if not isinstance(one, float) or not isinstance(two, float) or not two:
        return ""
    for factor, in_unit, of_unit in _TIMES:
        if abs(one / two - factor) < 1e-9 * factor:
            return f"that is the number in {in_unit}, and the field takes {of_unit}: {plain(two)} s"
    return ""


def _turned(case: _Case) -> str:
    other = case.sheet.turned(case.name)
    if not other or not case.belongs_to(other):
        return ""
    where = case.sheet.where(other)
    if case.has_mine(other):
        return f"it and '{where}' are exchanged: this end and the other"
    return f"that is what belongs in '{where}', of the other end"


def _beside(case: _Case) -> str:
    for other in filter(case.belongs_to, case.sheet.beside(case.name)):
        column = case.sheet.values[other].column
        if case.has_mine(other):
            return f"exchanged with that of {column}"
        if case.entered.telling:
            return f"that is the value of {column}"
    return ""


def _shifted(case: _Case) -> str:
    for side, other in case.sheet.next_to(case.name) if case.entered.telling else ():
        if case.belongs_to(other):
            row = f"the row {side}, '{case.sheet.values[other].row}'"
            what = "exchanged with" if case.has_mine(other) else "that is the value of"
            return f"{what} {row}"
    return ""


def _elsewhere(case: _Case) -> str:
    others = case.sheet.having(case.entered) if case.entered.telling else []
    exchanged = next(filter(case.has_mine, others), None)
    if exchanged is not None:
        return f"exchanged with '{case.sheet.where(exchanged)}'"
    return f"that is the value of '{case.sheet.where(others[0])}'" if others else ""


def _held(reading: Reading) -> frozenset[Held]:
    return reading.value if isinstance(reading.value, frozenset) else frozenset()


def _mask(case: _Case) -> str:
    for right, wrong in itertools.product(case.lacking, case.more) if case.of_addresses else ():
        if right.address == wrong.address:
            return f"the mask is /{wrong.length}, it is to be /{right.length}"
        same = right.address.bits == wrong.address.bits and right.length < right.address.bits
        if same and _network(right) == _network(Held(wrong.address, right.length)):
            return f"{wrong.address} lies in {_text(right)} and is not its first address"
    return ""


def _listed(case: _Case) -> str:
    if not case.of_addresses:
        return ""
    for right, wrong in itertools.product(case.lacking, case.more):
        if _slip(str(right.address), str(wrong.address)):
            return f"{wrong.address} instead of {right.address}: a slip of the keys"
    if not case.more:
        return f"it lacks {', '.join(map(_text, case.lacking))}"
    return "" if case.lacking else f"it has {', '.join(map(_text, case.more))} too much"


def _network(held: Held) -> int:
    return held.address.value >> (held.address.bits - held.length)


def _text(held: Held) -> str:
    whole = held.length == held.address.bits
    return str(held.address) if whole else f"{held.address}/{held.length}"


def _slip(right: str, wrong: str) -> bool:
    """One character more, fewer or other, or two exchanged."""
    if abs(len(right) - len(wrong)) > 1:
        return False
    if len(right) == len(wrong):
        apart = [n for n, pair in enumerate(zip(right, wrong, strict=True)) if len({*pair}) > 1]
        turned = len(apart) == 2 and sorted(right) == sorted(wrong)
        return len(apart) == 1 or turned
    longer, shorter = sorted((right, wrong), key=len, reverse=True)
    return any(longer[:n] + longer[n + 1 :] == shorter for n in range(len(longer)))


def _spelled(case: _Case) -> str:
    meant, entered = case.meant, case.entered
    if meant.kind == ALGORITHM:
        if entered.kind == ALGORITHM:
            return f"another algorithm: {entered.value} instead of {meant.value}"
        kind = next(k for row, k in KINDS.items() if f".{row}." in f"{case.name}.")
        return f"no {kind.name.lower()} algorithm has that name"
    if SWITCH in (meant.kind, entered.kind):
        return "it is turned off" if entered == Reading(SWITCH, False) else "it is turned on"
    one, two = str(meant.value), str(entered.value)
    if meant.kind == NUMBER and entered.kind == NUMBER:
        one, two = f"{meant.value:.0f}", f"{entered.value:.0f}"
    if _slip(one, two):
        return "a slip of the keys: one character"
    if TEXT in (meant.kind, entered.kind):
        near = difflib.SequenceMatcher(None, one, two).ratio()
        return "it is nearly the same: look at the letters" if near > 0.8 else ""
    return ""


_EXPLAIN = (_unit, _turned, _beside, _shifted, _mask, _elsewhere, _listed, _spelled)
"""Functions that explain a difference, tried in this order."""
