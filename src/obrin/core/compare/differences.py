"""Values as they were entered beside those that were meant: which differ, how, and what was done.

What was probably done is in `causes`.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from types import MappingProxyType

from obrin.core.compare.causes import cause_of, with_runs
from obrin.core.compare.reading import Reading, read
from obrin.core.handover.sheet.blocks import Value
from obrin.core.ipsec.shared_keys import print_difference

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
    """`what` says how it differs and what was probably done, `kind` the same in a word (see
    `causes`). `place` is where it stands for who reads, `line` of what was read, where it has
    one."""

    name: str
    place: str
    meant: str
    entered: str
    what: str
    line: int = 0
    kind: str = ""


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
    defaults: Mapping[str, float] = MappingProxyType({}),
) -> list[Difference]:
    """Compare all values on the sheet with those entered, in its order. What is entered and not
    on the sheet is left out. `prints` are fingerprints of keys, by tunnel: a secret that is
    entered is one. `defaults` are what the device takes where nothing is entered, in seconds, by
    name."""
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
        cause = cause_of(sheet, said, name, defaults.get(name))
        found.append(
            Difference(
                name=name,
                place=sheet.where(name),
                meant=value.text,
                entered=entered[name].strip(),
                what=cause.text,
                line=lines.get(name, 0),
                kind=cause.kind,
            )
        )
    return with_runs(sheet, found)


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
        hidden = "(not shown)"
        yield Difference(name, sheet.where(name), hidden, hidden, what, line, kind="key")


def _same_words(one: str, other: str) -> bool:
    return " ".join(one.split()) == " ".join(other.split())
