"""Compare what stands at an end with what is wanted there, value by value."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from obrin.core.handover.differences import ABSENT, leaves
from obrin.core.quantity import plain

MOST = 80
"""Characters shown of an entry that is missing."""
_STEP = re.compile(r"(?:[^/\[]|\[[^\]]*\])+")
"""One step on the way to a value: a name, and which entry of a list."""


@dataclass(frozen=True, slots=True)
class Differing:
    """`part` names the value. `there` and `wanted` are in words."""

    part: str
    there: str
    wanted: str

    @property
    def words(self) -> str:
        return f"{self.part} is {self.there} there, and {self.wanted} in the design"


def of_data(held: Any, wanted: Any) -> tuple[Differing, ...]:
    """Compare data of standard modules. They are complete, so what one side alone has differs,
    too."""
    return tuple(
        Differing(_way(leaf.place), _part(leaf.found), _part(leaf.meant))
        for leaf in leaves(wanted, held)
    )


def _way(place: str) -> str:
    """Name it from the first named thing on, or all of the way; without the names of modules."""
    parts = _STEP.findall(place)
    named = next((n for n, part in enumerate(parts[:-1]) if part.endswith("]")), 0)
    return "/".join(part.partition(":")[2] or part for part in parts[named:])


def _part(value: object) -> str:
    if value is ABSENT:
        return "missing"
    text = _said(value)
    return text if len(text) <= MOST else text[: MOST - 3] + "..."


def differing(held: Mapping[str, Any], wanted: Mapping[str, Any]) -> tuple[Differing, ...]:
    """Compare what an end shows with what it should hold. It never shows secrets."""
    pairs = ((name, held[name], value) for name, value in wanted.items() if name in held)
    return tuple(found for name, one, other in pairs for found in _of(_words(name), one, other))


def _of(part: str, held: object, wanted: object) -> Iterator[Differing]:
    """5 and 5.0 are one value; what is not said is what is usual."""
    if held == wanted or (held in _UNSAID and wanted in _UNSAID):
        return
    if isinstance(held, dict) and isinstance(wanted, dict):
        for name, value in wanted.items():
            yield from _of(f"{part}: {_words(name)}", held.get(name), value)
        return
    if isinstance(held, list) and isinstance(wanted, list):
        yield from _of_lists(part, held, wanted)
        return
    yield Differing(part, _said(held), _said(wanted))


def _of_lists(part: str, held: Sequence[Any], wanted: Sequence[Any]) -> Iterator[Differing]:
    """Compare lists entry by entry where all entries have names, else as wholes."""
    there, here = _by_name(held), _by_name(wanted)
    if there is None or here is None:
        pairs = list(zip(held, wanted, strict=False))
        if len(held) != len(wanted) or any(list(_of(part, *pair)) for pair in pairs):
            yield Differing(part, _said(held), _said(wanted))
        return
    for name in dict.fromkeys((*there, *here)):
        if name not in there:
            yield Differing(f"{part}: {name}", "missing", _said(here[name]))
        elif name not in here:
            yield Differing(f"{part}: {name}", _said(there[name]), "missing")
        else:
            yield from _of(f"{part}: {name}", there[name], here[name])
    if there.keys() == here.keys() and list(there) != list(here):
        yield Differing(part, "in another order", "in that of the design")


def _by_name(items: Sequence[Any]) -> dict[str, Any] | None:
    if not items or not all(isinstance(item, dict) and "name" in item for item in items):
        return {} if not items else None
    found = {str(item["name"]): item for item in items}
    return found if len(found) == len(items) else None


def _words(name: str) -> str:
    return name.replace("_", " ")


def _said(value: object) -> str:
    if isinstance(value, bool):
        return "on" if value else "off"
    if value in _UNSAID:
        return "none"
    if isinstance(value, dict):
        inside = ((key, held) for key, held in value.items() if key != "name")
        return ", ".join(f"{_words(str(key))} {_said(held)}" for key, held in inside)
    if isinstance(value, list):
        return ", ".join(map(_said, value))
    return plain(value) if isinstance(value, float) else str(value)


_UNSAID: tuple[object, ...] = (None, [], "", {})
