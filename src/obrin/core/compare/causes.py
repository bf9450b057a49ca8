"""What was probably done where another value was entered than the one that is meant.

Every cause is a kind, in a word, and a text with the values. Causes are tried in order, the most
specific first: what is nothing but a list that lacks an entry is that, though the rest may be the
value of another field as well. Where none fits, the cause is not known, and that is said.
"""

from __future__ import annotations

import difflib
import itertools
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

from obrin.core.address.prefix import PRIVATE_IPV4
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
)
from obrin.core.quantity import plain

if TYPE_CHECKING:
    from obrin.core.compare.differences import Difference, Sheet

NOTHING, UNIT, ENDS_EXCHANGED, OTHER_TUNNEL, SHIFTED, MASK, OTHER_FIELD, LACKS, TOO_MUCH = (
    "nothing entered",
    "unit",
    "ends exchanged",
    "other tunnel",
    "row",
    "mask",
    "other field",
    "lacks entries",
    "too many entries",
)
HOST, PRIVATE, DEFAULT, SWITCHED, OTHER_ALGORITHM, NO_ALGORITHM, SLIP, LETTERS, NOT_KNOWN = (
    "host bits",
    "private address",
    "default",
    "switched",
    "other algorithm",
    "no algorithm",
    "slip",
    "letters",
    "not known",
)
LEAST_SHIFTED = 3
"""So many rows, each with the value of the one above or below it, are shifted and not mixed up."""


@dataclass(frozen=True, slots=True)
class Cause:
    """`kind` is one of the words above."""

    kind: str
    text: str


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


class Case:
    """A value that is another than the one that is meant, and all else that is `said`. `default`
    is what the device takes where nothing is entered, in seconds; None where it is not known."""

    def __init__(
        self, sheet: Sheet, said: Mapping[str, Reading], name: str, default: float | None
    ) -> None:
        self.sheet, self.name, self.default = sheet, name, default
        self.meant, self.entered = sheet.readings[name], said[name]
        self._said = said
        both = _held(self.meant), _held(self.entered)
        self.lacking, self.more = sorted(both[0] - both[1]), sorted(both[1] - both[0])
        self.of_addresses = self.meant.kind == self.entered.kind == ADDRESSES

    def belongs_to(self, other: str) -> bool:
        """Whether what was entered is the right value of another field."""
        return self.sheet.readings[other].sign == self.entered.sign

    def is_host_of(self, other: str) -> bool:
        """Whether the one address that was entered is that of another field, whatever the masks."""
        mine, theirs = _held(self.entered), _held(self.sheet.readings[other])
        return len(mine) == len(theirs) == 1 and min(mine).address == min(theirs).address

    def has_mine(self, other: str) -> bool:
        """Whether the right value was entered there."""
        said = self._said.get(other)
        if said is None or said == self.meant:
            return said is not None
        mine, theirs = _held(self.meant), _held(said)
        return len(mine) == len(theirs) == 1 and min(mine).address == min(theirs).address


def cause_of(
    sheet: Sheet, said: Mapping[str, Reading], name: str, default: float | None = None
) -> Cause:
    """The first cause that fits."""
    case = Case(sheet, said, name, default)
    if case.entered.kind == BLANK:
        return Cause(NOTHING, "nothing is entered")
    found = (explain(case) for explain in _EXPLAIN)
    unknown = Cause(NOT_KNOWN, "it is another value; the cause is not known")
    return next((cause for cause in found if cause is not None), unknown)


def with_runs(sheet: Sheet, found: Sequence[Difference]) -> list[Difference]:
    """The same; where several rows in a column each have the value of the row next to them, in one
    direction, they are shifted."""
    by_name = {one.name: one for one in found}
    for side in ("above", "below"):
        for run in _runs(sheet, by_name, side):
            first, last = (sheet.values[name].row for name in (run[0], run[-1]))
            text = (
                f"shifted by one row: from '{first}' to '{last}' each has the value of the row "
                f"{side}"
            )
            for name in run:
                by_name[name] = replace(by_name[name], what=text, kind=SHIFTED)
    return [by_name[one.name] for one in found]


def _runs(sheet: Sheet, found: Mapping[str, Difference], side: str) -> Iterator[list[str]]:
    """Names of rows under each other that have the value of the row on one side."""
    columns: dict[tuple[str, str], list[str]] = {}
    for name, value in sheet.values.items():
        columns.setdefault((value.part, value.column), []).append(name)
    for names in columns.values():
        run: list[str] = []
        for name in (*names, ""):
            if name and _from_side(sheet, found, names, name, side):
                run.append(name)
                continue
            if len(run) >= LEAST_SHIFTED:
                yield run
            run = []


def _from_side(
    sheet: Sheet, found: Mapping[str, Difference], names: Sequence[str], name: str, side: str
) -> bool:
    at = names.index(name) + (-1 if side == "above" else 1)
    if name not in found or not 0 <= at < len(names):
        return False
    entered, other = found[name].entered, sheet.values[names[at]].text
    return " ".join(entered.split()) == " ".join(other.split())


def _unit(case: Case) -> Cause | None:
    kinds = {case.meant.kind, case.entered.kind}
    if kinds - {SECONDS, NUMBER} or SECONDS not in kinds:
        return None
    one, two = case.meant.value, case.entered.value
    if not isinstance(one, float) or not isinstance(two, float) or not two:
        return None
    for factor, in_unit, of_unit in _TIMES:
        if abs(one / two - factor) < 1e-9 * factor:
            text = f"that is the number in {in_unit}, and the field takes {of_unit}: {plain(two)} s"
            return Cause(UNIT, text)
    return None


def _default(case: Case) -> Cause | None:
    if case.default is None or case.entered.value != case.default:
        return None
    text = f"{plain(case.default)} s is what the device takes by itself: the field was left alone"
    return Cause(DEFAULT, text)


def _parts(case: Case) -> Cause | None:
    """A list that lacks entries and has no others, or has others beside its own."""
    if case.name.startswith("translation."):  # what stands there is one network for another
        return None
    several = len(_held(case.meant)) > 1 and len(_held(case.entered)) > 0
    if not case.of_addresses or not several or bool(case.more) == bool(case.lacking):
        return None
    if case.more:
        return Cause(TOO_MUCH, f"it has {', '.join(map(_text, case.more))} too much")
    return Cause(LACKS, f"it lacks {', '.join(map(_text, case.lacking))}")


def _turned(case: Case) -> Cause | None:
    other = case.sheet.turned(case.name)
    if not other or not (case.belongs_to(other) or case.is_host_of(other)):
        return None
    where = case.sheet.where(other)
    if case.has_mine(other):
        return Cause(ENDS_EXCHANGED, f"it and '{where}' are exchanged: this end and the other")
    return Cause(ENDS_EXCHANGED, f"that is what belongs in '{where}', of the other end")


def _private(case: Case) -> Cause | None:
    """A private address where a public one is meant, or the other way round."""
    mine, theirs = _held(case.meant), _held(case.entered)
    if not len(mine) == len(theirs) == 1 or not {*mine, *theirs} <= _hosts(mine, theirs):
        return None
    addresses = [min(held).address for held in (mine, theirs)]
    private = [any(prefix.holds(one) for prefix in PRIVATE_IPV4) for one in addresses]
    if private == [False, True]:
        return Cause(
            PRIVATE,
            "a private address instead of the public one: the other end sees the public address of "
            "the translator, or knows this one as its identity",
        )
    if private == [True, False]:
        return Cause(PRIVATE, "a public address instead of the private one that is meant")
    return None


def _hosts(*sets: frozenset[Held]) -> frozenset[Held]:
    return frozenset(h for held in sets for h in held if h.length == h.address.bits)


def _beside(case: Case) -> Cause | None:
    for other in filter(case.belongs_to, case.sheet.beside(case.name)):
        column = case.sheet.values[other].column
        if case.has_mine(other):
            return Cause(OTHER_TUNNEL, f"exchanged with that of {column}")
        if case.entered.telling:
            return Cause(OTHER_TUNNEL, f"that is the value of {column}")
    return None


def _shifted(case: Case) -> Cause | None:
    for side, other in case.sheet.next_to(case.name) if case.entered.telling else ():
        if case.belongs_to(other):
            row = f"the row {side}, '{case.sheet.values[other].row}'"
            what = "exchanged with" if case.has_mine(other) else "that is the value of"
            return Cause(SHIFTED, f"{what} {row}")
    return None


def _elsewhere(case: Case) -> Cause | None:
    others = case.sheet.having(case.entered) if case.entered.telling else []
    exchanged = next(filter(case.has_mine, others), None)
    if exchanged is not None:
        return Cause(OTHER_FIELD, f"exchanged with '{case.sheet.where(exchanged)}'")
    if not others:
        return None
    return Cause(OTHER_FIELD, f"that is the value of '{case.sheet.where(others[0])}'")


def _held(reading: Reading) -> frozenset[Held]:
    return reading.value if isinstance(reading.value, frozenset) else frozenset()


def _mask(case: Case) -> Cause | None:
    for right, wrong in itertools.product(case.lacking, case.more) if case.of_addresses else ():
        if right.address == wrong.address:
            return Cause(MASK, f"the mask is /{wrong.length}, it is to be /{right.length}")
        same = right.address.bits == wrong.address.bits and right.length < right.address.bits
        if same and _network(right) == _network(Held(wrong.address, right.length)):
            text = f"{wrong.address} lies in {_text(right)} and is not its first address"
            if right.address.value & ((1 << (right.address.bits - right.length)) - 1):
                text = f"{wrong.address} is another address of the block that {_text(right)} is in"
            return Cause(HOST, text)
    return None


def _listed(case: Case) -> Cause | None:
    if not case.of_addresses:
        return None
    for right, wrong in itertools.product(case.lacking, case.more):
        if slipped(str(right.address), str(wrong.address)):
            text = f"{wrong.address} instead of {right.address}: a slip of the keys"
            return Cause(SLIP, text)
    if not case.more:
        return Cause(LACKS, f"it lacks {', '.join(map(_text, case.lacking))}")
    if case.lacking:
        return None
    return Cause(TOO_MUCH, f"it has {', '.join(map(_text, case.more))} too much")


def _network(held: Held) -> int:
    return held.address.value >> (held.address.bits - held.length)


def _text(held: Held) -> str:
    whole = held.length == held.address.bits
    return str(held.address) if whole else f"{held.address}/{held.length}"


def slipped(right: str, wrong: str) -> bool:
    """One character more, fewer or other, or two exchanged."""
    if abs(len(right) - len(wrong)) > 1:
        return False
    if len(right) == len(wrong):
        apart = [n for n, pair in enumerate(zip(right, wrong, strict=True)) if len({*pair}) > 1]
        turned = len(apart) == 2 and sorted(right) == sorted(wrong)
        return len(apart) == 1 or turned
    longer, shorter = sorted((right, wrong), key=len, reverse=True)
    return any(longer[:n] + longer[n + 1 :] == shorter for n in range(len(longer)))


def _switched(case: Case) -> Cause | None:
    if SWITCH not in (case.meant.kind, case.entered.kind):
        return None
    off = case.entered == Reading(SWITCH, False)
    return Cause(SWITCHED, "it is turned off" if off else "it is turned on")


def _algorithm(case: Case) -> Cause | None:
    meant, entered = case.meant, case.entered
    if meant.kind != ALGORITHM:
        return None
    if entered.kind == ALGORITHM:
        text = f"another algorithm: {entered.value} instead of {meant.value}"
        return Cause(OTHER_ALGORITHM, text)
    kind = next(k for row, k in KINDS.items() if f".{row}." in f"{case.name}.")
    return Cause(NO_ALGORITHM, f"not a {kind.name.lower()} algorithm that is known here")


def _spelled(case: Case) -> Cause | None:
    meant, entered = case.meant, case.entered
    one, two = str(meant.value), str(entered.value)
    if meant.kind == NUMBER and entered.kind == NUMBER:
        one, two = f"{meant.value:.0f}", f"{entered.value:.0f}"
    if slipped(one, two):
        return Cause(SLIP, "a slip of the keys: one character")
    if TEXT in (meant.kind, entered.kind):
        near = difflib.SequenceMatcher(None, one, two).ratio()
        if near > 0.8:
            return Cause(LETTERS, "it is nearly the same: look at the letters")
    return None


_EXPLAIN: tuple[Callable[[Case], Cause | None], ...] = (
    _unit,
    _default,
    _parts,
    _turned,
    _beside,
    _switched,
    _shifted,
    _mask,
    _private,
    _elsewhere,
    _listed,
    _algorithm,
    _spelled,
)
"""Functions that explain a difference, tried in this order."""
