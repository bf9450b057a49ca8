"""The screen of a device as plain fields, and typing into them what a line says."""

from __future__ import annotations

import re
from dataclasses import dataclass, field

from tests.typist.paper import Said, Seen, read

Field = tuple[str, str, str]
"""The part of the screen, the tunnel or column, and the name of the value."""

ROWS = {
    "Rule", "Destination", "Allow", "At", "Network", "Neighbour", "Table", "Member", "Translator",
    "Destination left alone",
}  # fmt: skip
"""First columns of tables whose rows are entered one by one: the others have a value in each cell."""
SUITE = "Suite"
EACH = ("Session", "Static host route to it, into the tunnel")
BLANK = ("", "none", "does not apply")
USUAL = {"Session": "its own", "Child SAs": "one", "Address families": "IPv4 unicast"}
NOT_ENTERED = {"Accepted finding", "Belongs to another owner"}


@dataclass
class Screen:
    """`rows` are those of lists, by the list's first column; `notes` are sentences that say what
    to enter without a table."""

    values: dict[Field, str] = field(default_factory=dict)
    rows: dict[str, list[tuple[str, ...]]] = field(default_factory=dict)
    notes: list[str] = field(default_factory=list)

    def of(self, part: str, column: str) -> dict[str, str]:
        return {n: text for (p, c, n), text in self.values.items() if (p, c) == (part, column)}

    def columns(self, part: str) -> list[str]:
        return list(dict.fromkeys(c for p, c, _ in self.values if p == part))

    def copy(self) -> Screen:
        rows = {name: list(rows) for name, rows in self.rows.items()}
        return Screen(dict(self.values), rows, list(self.notes))


def part_of(heading: str) -> str:
    """A heading without its number."""
    return re.sub(r"^\d+\. ", "", heading)


def typed(sheet: str) -> Screen:
    """The screen of a device into which all of a sheet was typed; each tunnel has the values of its
    suite."""
    screen = as_printed(sheet)
    for label in screen.columns("Tunnels"):
        _copy_suite(screen, f"Suite {screen.values['Tunnels', label, 'Suite']}", label)
    for key in list(screen.values):
        again = key[0] == "Routing" and key[2] not in EACH and _is_entered_elsewhere(screen, key[1])
        if key[0].startswith("Suite ") or again:
            del screen.values[key]
    return screen


def _is_entered_elsewhere(screen: Screen, label: str) -> bool:
    """Whether a session goes over several tunnels, and this is not the first."""
    said = screen.values.get(("Routing", label, "Session"), "")
    found = re.match(r"one over (\S+) .*: enter it once", said)
    return found is not None and found[1] != label


def _copy_suite(screen: Screen, part: str, label: str) -> None:
    for column in screen.columns(part):
        for name, text in screen.of(part, column).items():
            if text not in BLANK:
                screen.values[SUITE, label, f"{column}: {name}"] = text


def as_printed(sheet: str) -> Screen:
    """Every value under the part and in the column in which it stands."""
    screen = Screen()
    for block in read(sheet):
        if isinstance(block, Said):
            screen.notes.append(block.text)
        elif block.head[0] in NOT_ENTERED:
            continue
        elif block.head[0] in ROWS:
            screen.rows.setdefault(block.head[0], []).extend(block.rows)
        else:
            _cells_of(screen, block)
    return screen


def _cells_of(screen: Screen, table: Seen) -> None:
    part = part_of(table.headings[-1])
    for name, *cells in table.rows:
        for column, text in zip(table.head[1:], cells, strict=True):
            if text not in BLANK and USUAL.get(name) != text:
                screen.values[part, "" if column == "Enter" else column, name] = text
