"""What stands at one place in a state, in the words of its sheet: what belongs to tunnels and
circuits."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from functools import cached_property

from obrin.core.change.states import BOTH, NEW, OLD, Between, Done
from obrin.core.handover.ends.records import LegEnd, TunnelEnd, circuits_at, ends_at
from obrin.core.handover.sheet.entries import Entry, entries_of, row_entry
from obrin.core.handover.sheet.outside import (
    EXEMPT,
    EXEMPT_PART,
    FORWARDED,
    FORWARDED_PART,
    OUTSIDE,
    OUTSIDE_PART,
    exempt_rows,
    forwarded_rows,
    outside_rows,
)
from obrin.core.handover.sheet.routing import (
    HOST_ROUTE,
    OF_EACH_WAY,
    ORDER_WORDS,
    ROUTES_HEAD,
    ROUTING_PART,
)
from obrin.core.handover.sheet.sheet import IDENTIFIER, OWN_AS, OWN_PART, value_sheet
from obrin.core.settled.model import Settled

Entries = dict[object, Entry]
SUITE = "Suite"
"""The part under which the values of a tunnel's suite are listed."""


def by_key(entries: Iterable[Entry]) -> Entries:
    return {entry.key: entry for entry in entries}


@dataclass(frozen=True, eq=False)
class Side:
    """One of the two designs at a place."""

    settled: Settled
    place: str

    @property
    def there(self) -> bool:
        return self.place in self.settled.gateways or self.place in self.settled.clouds

    @cached_property
    def _ends(self) -> dict[str, LegEnd]:
        if not self.there:
            return {}
        found: dict[str, LegEnd] = {end.tunnel: end for end in ends_at(self.settled, self.place)}
        return found | {end.label: end for end in circuits_at(self.settled, self.place)}

    @cached_property
    def _entries(self) -> dict[str, list[Entry]]:
        found: dict[str, list[Entry]] = {}
        if self._ends:
            for entry in entries_of(value_sheet(self.settled, self.place)):
                found.setdefault(entry.leg or entry.part, []).append(entry)
        return found

    def leg(self, label: str) -> list[Entry]:
        """What belongs to a tunnel or circuit alone; nothing where it does not end here. A session
        over several tunnels is entered once, at the first."""
        found = self._entries.get(label, [])
        end = self._ends.get(label)
        if end is not None and _is_later_way(end):
            return [e for e in found if e.part != ROUTING_PART or e.row in OF_EACH_WAY]
        return found

    def suite(self, label: str) -> tuple[str, list[Entry]]:
        """The name of a tunnel's suite and its values; nothing for a circuit."""
        end = self._ends.get(label)
        if not isinstance(end, TunnelEnd):
            return "", []
        return end.suite.name, self.suite_called(end.suite.name)

    def suite_called(self, name: str) -> list[Entry]:
        """The values of a suite by its name; nothing for one that no tunnel here has."""
        return self._entries.get(f"{SUITE} {name}", [])

    def shared(self, label: str) -> list[Entry]:
        """Rows that other tunnels may have, too."""
        end = self._ends.get(label)
        return [] if end is None else list(self._rows(end))

    def _rows(self, end: LegEnd) -> Iterator[Entry]:
        if isinstance(end, TunnelEnd):
            for row in outside_rows(end):
                yield row_entry(OUTSIDE, OUTSIDE_PART, row)
            for row in forwarded_rows(self.settled, self.place, end):
                yield row_entry(FORWARDED, FORWARDED_PART, row)
        if not _is_later_way(end):
            for row in exempt_rows(end):
                yield row_entry(EXEMPT, EXEMPT_PART, row)


def _is_later_way(end: LegEnd) -> bool:
    """Whether its session goes over several tunnels, and another is the first."""
    label = end.tunnel if isinstance(end, TunnelEnd) else ""
    return bool(label and end.sessions) and end.sessions[0].ways[0] != label


def _link(label: str) -> str:
    """The link that a tunnel is of, by its label."""
    return label.rpartition("/")[0]


class Standing:
    """What of tunnels and circuits stands at a place, while its steps are done one by one."""

    def __init__(self, between: Between, place: str, sides: tuple[Side, Side]) -> None:
        self._between, self._place, self._sides = between, place, sides
        self._of: dict[str, Side] = {}
        self._changed: set[str] = set()
        self._rows: Counter[Entry] = Counter()
        self._suites: Counter[tuple[str, Side]] = Counter()
        self._ways: dict[str, dict[str, Entry]] = {}
        old, new = between.old[place].legs, between.new[place].legs
        self._turns = {label: turn for turn, label in enumerate(dict.fromkeys((*new, *old)))}
        self._along: dict[str, list[str]] = {}
        for label, record in old.items():
            same = new.get(label) == record
            if not same:
                self._changed.add(label)
            elif sides[0].leg(label) != sides[1].leg(label):
                same = False
                self._along.setdefault(_link(label), []).append(label)
            self._put(label, sides[1] if same else sides[0])
        self._changed |= {label for label in new if label not in old}
        self._said = self._speaker(frozenset())

    def _put(self, label: str, side: Side | None) -> None:
        """The end follows that design from now on; with None it is gone."""
        held = self._of.pop(label, None)
        for count, other in ((-1, held), (1, side)):
            if other is None:
                continue
            for entry in other.shared(label):
                self._rows[entry] += count
            self._suites[self._suite_of(label, other)] += count
            for entry in filter(_is_way, other.leg(label)):
                ways = self._ways.setdefault(_target(entry), {})
                if count < 0:
                    ways.pop(label, None)
                else:
                    ways[label] = entry
        if side is not None and side.leg(label):
            self._of[label] = side

    def _suite_of(self, label: str, side: Side) -> tuple[str, Side]:
        """Which suite it is: one whose values are the same in both designs is one."""
        name, values = side.suite(label)
        new = self._sides[1]
        return name, new if new.suite_called(name) in ([], values) else self._sides[0]

    def change(self, label: str) -> tuple[Entries, Entries]:
        """What stands there of a tunnel or circuit, and of what others have, too, before its end
        is changed and after it. Others of its link, whose sheet alone differs, go along."""
        new = self._sides[1]
        moves = [(each, self._of.get(each)) for each in (label, *self._along.pop(_link(label), ()))]
        old_entries = [e for each, old in moves if old is not None for e in old.leg(each)]
        new_entries = [e for each, _ in moves for e in new.leg(each)]
        targets = {_target(e) for e in (*old_entries, *new_entries) if _is_way(e)}
        rows = [e for each, old in moves if old is not None for e in old.shared(each)]
        rows += (e for each, _ in moves for e in new.shared(each))
        values = [self._suite_values(each, old, new) for each, old in moves if new.leg(each)]
        suites = [one for one, _ in values], [two for _, two in values]
        before, after = ({k: e for part in held for k, e in part.items()} for held in suites)
        before |= self._standing(old_entries, targets, rows)
        for each, _ in moves:
            self._put(each, new if new.leg(each) else None)
        after |= self._standing(new_entries, targets, rows)
        for each, old in moves:
            if old is not None and not new.leg(each):
                before |= self._last_suite(each, old)
        return before, after

    def _standing(self, own: list[Entry], targets: set[str], rows: list[Entry]) -> Entries:
        found = by_key(entry for entry in own if not _is_way(entry))
        return found | self._numbered(targets) | by_key(e for e in rows if self._rows[e] > 0)

    def _suite_values(self, label: str, old: Side | None, new: Side) -> tuple[Entries, Entries]:
        """The values of its suite. Of one that it did not have, they are left out where another
        tunnel there has them all under this name, and none has others."""
        name, values = new.suite(label)
        was = ("", []) if old is None else old.suite(label)
        if not values or was == (name, values):
            return {}, {}
        # Who goes back needs the old values, too, unless another tunnel keeps them.
        kept = old is None or self._is_the_one(label, old, 1)
        if was[0] != name and kept and self._is_the_one(label, new, 0):
            return {}, {}
        one, two = (
            by_key(replace(entry, leg=label, column=label, part=SUITE) for entry in entries)
            for entries in (was[1], values)
        )
        return one, two

    def _last_suite(self, label: str, side: Side) -> Entries:
        """The values of the suite of a tunnel that is gone, unless another has them: who enters it
        again needs them."""
        if self._is_the_one(label, side, 0):
            return {}
        values = side.suite(label)[1]
        return by_key(replace(entry, leg=label, column=label, part=SUITE) for entry in values)

    def _is_the_one(self, label: str, side: Side, more_than: int) -> bool:
        """Whether so many tunnels there have the suite of this one under its name, and none has
        another suite of that name."""
        mine = self._suite_of(label, side)
        called = {suite for suite, count in self._suites.items() if suite[0] == mine[0] and count}
        return called == {mine} and self._suites[mine] > more_than

    def _numbered(self, targets: Iterable[str]) -> Entries:
        """Static routes to these destinations. While ways of both designs lead there, no two have
        one order: the one that comes later in the new design is numbered behind."""
        found: Entries = {}
        for target in targets:
            ways = list(self._ways.get(target, {}).items())
            sides = {self._of.get(label) for label, _ in ways if label in self._changed}
            if len(sides) > 1:
                ways.sort(key=lambda way: (_order(way[1]), self._turns[way[0]]))
                last, moved = 0, []
                for label, entry in ways:
                    last = max(_order(entry), last + 1)
                    moved.append((label, _with_order(entry, last)))
                ways = moved
            found |= by_key(entry for _, entry in ways)
        return found

    def _speaker(self, done: Done) -> Entries:
        between, place = self._between, self._place
        if any(place in side.settled.clouds for side in self._sides):
            return {}  # a cloud's gateway has its number whatever tunnels there are
        old, new = between.old[place], between.new[place]
        phase = between.phase(place, done)
        grounds = {OLD: (old.ground,), NEW: (new.ground,), BOTH: (new.ground, old.ground)}[phase]
        speaks = any(ground.internal for ground in grounds) or any(
            (new if side is self._sides[1] else old).legs[label].neighbours
            for label, side in self._of.items()
        )
        speaker = next((g.speaker for g in grounds if g.speaker is not None), None)
        if speaker is None or not speaks:
            return {}
        values = (OWN_AS, str(speaker[0])), (IDENTIFIER, str(speaker[1]))
        return by_key(Entry(OWN_PART, name, (text,)) for name, text in values)

    def speaker(self, done: Done) -> tuple[Entries, Entries]:
        """The AS number and identifier as they were said last, and as they are now."""
        last, self._said = self._said, self._speaker(done)
        return last, self._said


# Ways: rows of static routes, and host routes to BGP peers, each with an order.


def _is_way(entry: Entry) -> bool:
    return entry.head == ROUTES_HEAD or entry.row == HOST_ROUTE


def _target(entry: Entry) -> str:
    return entry.cells[0] if entry.head else entry.cells[0].partition(ORDER_WORDS)[0]


def _order(entry: Entry) -> int:
    if entry.head:
        return int(entry.cells[2])
    return int(entry.cells[0].partition(ORDER_WORDS)[2] or 1)


def _with_order(entry: Entry, order: int) -> Entry:
    if entry.head:
        return replace(entry, cells=(*entry.cells[:2], str(order), *entry.cells[3:]))
    return replace(entry, cells=(f"{_target(entry)}{ORDER_WORDS}{order}",))
