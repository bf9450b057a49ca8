"""Typing what a runbook says, line by line, into the screens of devices."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, field

from tests.typist.paper import Said, Seen, read
from tests.typist.screen import ROWS, SUITE, Screen, part_of


class CannotBeTyped(Exception):
    """The line does not fit what is on the screen."""


@dataclass
class Told:
    """One step of a runbook: its number, what it is about, where, and the tables below it."""

    number: int
    about: str
    place: str
    tables: list[Seen] = field(default_factory=list)
    said: list[str] = field(default_factory=list)


def steps_of(runbook: str) -> Iterator[Told]:
    step: Told | None = None
    for block in read(runbook):
        found = (
            re.match(r"(?:Step|Back from step) (\d+): (.*) at (\S+)$", block.headings[1])
            if len(block.headings) > 1
            else None
        )
        if found is None:
            continue
        if step is None or step.number != int(found[1]):
            if step is not None:
                yield step
            step = Told(int(found[1]), found[2], found[3])
        if isinstance(block, Said):
            step.said.append(block.text)
        else:
            step.tables.append(block)
    if step is not None:
        yield step


def type_step(screen: Screen, step: Told) -> None:
    """Type all lines of a step in their order. Raises CannotBeTyped."""
    renamed = {
        row[1]
        for table in step.tables
        if table.head[:2] == ("Do", "For")
        for row in table.rows
        if row[0] == "change" and row[2] == "Suite"
    }
    for table in step.tables:
        if table.head[0] != "Do":
            continue
        if table.head[1] == "For":
            _values(screen, part_of(table.headings[-1]), table.rows)
        elif table.head[1] == "Value":
            own = tuple((do, "", *rest) for do, *rest in table.rows)
            _values(screen, part_of(table.headings[-1]), own)
        elif table.head[1] in ROWS:
            _rows(screen.rows.setdefault(table.head[1], []), table.rows)
        else:
            raise CannotBeTyped(f"no such list: {table.head}")
    said = {
        row[1]
        for t in step.tables
        if t.head[:2] == ("Do", "For")
        for row in t.rows
        if t.headings[-1] == SUITE
    }
    for key in [key for key in screen.values if key[0] == SUITE and key[1] in renamed - said]:
        del screen.values[key]
    _suites(screen)
    screen.rows = {name: rows for name, rows in screen.rows.items() if rows}


def _values(screen: Screen, part: str, rows: tuple[tuple[str, ...], ...]) -> None:
    for do, column, name, old, new in rows:
        key = part, column, name
        now = screen.values.get(key)
        if do == "remove" and name == "all of it":
            gone = [k for k in screen.values if k[1] == column]
            if not gone:
                raise CannotBeTyped(f"there is nothing of {column}")
            for other in gone:
                del screen.values[other]
            continue
        if do not in ("add", "change", "remove") or (now or "") != old:
            raise CannotBeTyped(f"{do} {key}: it should be '{old}', and is '{now}'")
        if do == "remove":
            del screen.values[key]
        else:
            screen.values[key] = new


def _rows(held: list[tuple[str, ...]], rows: tuple[tuple[str, ...], ...]) -> None:
    turned: tuple[str, ...] | None = None
    for do, *cells in rows:
        row = tuple(cells)
        if do == "to":
            if turned is None:
                raise CannotBeTyped(f"to {row}, from nothing")
            held[held.index(turned)] = row
            turned = None
            continue
        if do == "add":
            if row in held:
                raise CannotBeTyped(f"add {row}: it is there already")
            last = [i for i, other in enumerate(held) if other[0] == "everything-else"]
            held.insert(last[0] if last else len(held), row)
        elif row not in held:
            raise CannotBeTyped(f"{do} {row}: it is not there")
        elif do == "remove":
            held.remove(row)
        elif do in ("change", "rename"):
            turned = row
        else:
            raise CannotBeTyped(f"what is '{do}'?")


def _suites(screen: Screen) -> None:
    """A tunnel whose suite is only named has what others under that name have."""
    named = {
        label: screen.values.get(("Tunnels", label, "Suite")) for label in screen.columns("Tunnels")
    }
    for label, name in named.items():
        if screen.of(SUITE, label):
            continue
        others = [o for o, called in named.items() if called == name and screen.of(SUITE, o)]
        if not others:
            raise CannotBeTyped(f"suite {name} of {label}: nothing says what it is")
        values = [screen.of(SUITE, other) for other in others]
        if any(held != values[0] for held in values):
            raise CannotBeTyped(f"suite {name} of {label}: there are two of that name")
        for row, text in values[0].items():
            screen.values[SUITE, label, row] = text
