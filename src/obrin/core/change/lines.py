"""What people enter in each step of a change: the difference of what stands at a place before the
step and after it.

The problem. A difference of two sheets does not say in which step a value is entered, and mistakes
what stays for what goes: values that several tunnels use, rules that both designs have, an order
that only matters while old and new ways stand side by side.

The idea. What stands at a place in a state is what the driver gives the device there
(`Between.parts`), in the words of the sheet: the values of each tunnel by the design that its end
follows, the rules of the filter, and what stands whatever tunnels there are. The steps of a place
are gone through once; a step touches one tunnel, or what is not a tunnel's.

The invariant. Who types the lines of all steps has a fresh sheet of the new design on the screen,
and after each step the configuration that the model expects (`tests/core/test_typed_changes.py`).

The cost. Each sheet once, and each value of a tunnel that changes once.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass

from obrin.core.change.standing import Side, Standing
from obrin.core.change.states import LEG, Between, Done, Step
from obrin.core.change.underneath import underneath
from obrin.core.handover.sheet.entries import Entry
from obrin.core.handover.sheet.sheet import FILTER_HEAD

ADDED, CHANGED, REMOVED, RENAMED = "add", "change", "remove", "rename"


@dataclass(frozen=True, slots=True)
class Line:
    """One thing that its owner adds, changes, removes or renames. `leg` is the tunnel or circuit
    that a value belongs to; `head` are the columns of a list, whose rows are entered as a whole.
    `parts` are the values of a tunnel that comes or goes whole."""

    what: str
    part: str
    row: str
    old: str
    new: str
    leg: str = ""
    head: tuple[str, ...] = ()
    before: tuple[str, ...] = ()
    after: tuple[str, ...] = ()
    parts: tuple[Line, ...] = ()

    @property
    def value(self) -> str:
        """What is entered, or taken away."""
        if self.what in (CHANGED, RENAMED):
            return f"{self.new} (now {self.old})"
        return self.new if self.what == ADDED else self.old

    @property
    def called(self) -> str:
        """The value, with the tunnel or circuit that it belongs to."""
        return f"{self.row}, {self.leg}" if self.leg else self.row


class Lines:
    """Lines of every step; `order` are all steps of the change."""

    def __init__(self, between: Between, order: Sequence[Step]) -> None:
        self._between = between
        self._steps: dict[str, list[Step]] = {}
        for step in order:
            self._steps.setdefault(step.place, []).append(step)
        self._held: dict[str, dict[Step, list[Line]]] = {}

    def of(self, step: Step) -> list[Line]:
        if step.place not in self._held:
            self._held[step.place] = self._walked(step.place)
        return self._held[step.place].get(step, [])

    def _walked(self, place: str) -> dict[Step, list[Line]]:
        between = self._between
        sides = Side(between.before, place), Side(between.after, place)
        standing = Standing(between, place, sides)
        found: dict[Step, list[Line]] = {}
        done: Done = frozenset()
        ground = underneath(between, place, done, sides)
        for step in self._steps.get(place, ()):
            done |= {step}
            if step.kind == LEG:
                lines = list(_of_leg(standing, step.leg))
            else:
                then = underneath(between, place, done, sides)
                lines = [*_differences(ground, then)]
                ground = then
            found[step] = [*_differences(*standing.speaker(done)), *lines]
        return found


def _of_leg(standing: Standing, leg: str) -> Iterator[Line]:
    """A tunnel or circuit that comes or goes, does so with all that is its own."""
    old, new = standing.change(leg)
    gone, come = (
        {key: e for key, e in held.items() if e.leg == leg and not e.head} for held in (old, new)
    )
    if gone and not come:
        one = next(iter(gone.values()))
        parts = tuple(_line(REMOVED, entry, None) for entry in gone.values())
        text = f"{len(gone)} values"
        yield Line(REMOVED, one.part, ALL, text, "", one.column, parts=parts)
        old = {key: e for key, e in old.items() if key not in gone}
    if come and not gone:
        parts = tuple(_line(ADDED, None, entry) for entry in come.values())
        yield Line(ADDED, parts[0].part, ALL, "", f"{len(come)} values", parts[0].leg, parts=parts)
        new = {key: e for key, e in new.items() if key not in come}
    yield from _differences(old, new)


ALL = "all of it"
Entries = Mapping[object, Entry]


def inverse(lines: Sequence[Line]) -> list[Line]:
    """What takes the same lines back, the last first."""
    return [
        Line(
            _BACK[line.what],
            line.part,
            line.row if line.what != RENAMED else line.new,
            line.new,
            line.old,
            line.leg,
            line.head,
            line.after,
            line.before,
            tuple(inverse(line.parts)[::-1]),
        )
        for line in reversed(lines)
    ]


_BACK = {ADDED: REMOVED, REMOVED: ADDED, CHANGED: CHANGED, RENAMED: RENAMED}


def _differences(old: Entries, new: Entries) -> Iterator[Line]:
    """What goes of a list whose rows stay under other names, then all in the order of the new
    sheet, then what else only the old one has."""
    kept = {_content(e) for e in new.values() if _is_named(e)}
    gone = [e for e in old.values() if _is_named(e) and _content(e) not in kept]
    yield from (_line(REMOVED, entry, None) for entry in gone)
    was_called = {_content(e): e for e in old.values() if _is_named(e)}
    for key, entry in new.items():
        was = was_called.get(_content(entry)) if _is_named(entry) else old.get(key)
        if was is None:
            yield _line(ADDED, None, entry)
        elif was.cells != entry.cells:
            yield _line(RENAMED if _is_named(entry) else CHANGED, was, entry)
    left = (e for key, e in old.items() if key not in new and not _is_named(e))
    yield from (_line(REMOVED, entry, None) for entry in left)


def _is_named(entry: Entry) -> bool:
    """Whether it is a row whose first cell only names it: a rule of a filter."""
    return entry.head[:1] == FILTER_HEAD[:1]


def _content(entry: Entry) -> tuple[str, ...]:
    return entry.cells[1:]


def _line(what: str, old: Entry | None, new: Entry | None) -> Line:
    one = new or old
    assert one is not None
    if what == RENAMED and old is not None and new is not None:
        texts = old.row, new.row
    else:
        texts = "" if old is None else old.text, "" if new is None else new.text
    return Line(
        what,
        one.part,
        one.row,
        *texts,
        one.column if not one.head else "",
        one.head,
        () if old is None else old.cells,
        () if new is None else new.cells,
    )


def one_by_one(lines: Iterable[Line]) -> Iterator[Line]:
    """The same lines, with every value of a tunnel that comes; one that goes is taken away
    whole."""
    for line in lines:
        yield from line.parts if line.what == ADDED and line.parts else (line,)


def by_part(lines: Iterable[Line]) -> dict[tuple[str, tuple[str, ...]], list[Line]]:
    """Lines that stand in one table, by their part of the sheet and the columns of a list."""
    found: dict[tuple[str, tuple[str, ...]], list[Line]] = {}
    for line in one_by_one(lines):
        found.setdefault((line.part, line.head), []).append(line)
    return found
