"""Compare two trees of data, leaf by leaf, in words; secrets are named and never shown."""

from __future__ import annotations

import enum
from collections.abc import Iterator
from typing import Any, NamedTuple

_NAMES = ("name", "tunnel", "id", "remote-address", "ip", "destination-prefix", "index")
_MOST = 60


class Absent(enum.Enum):
    """What one side does not have."""

    ABSENT = "absent"


ABSENT = Absent.ABSENT


class Leaf(NamedTuple):
    """One value that differs; `place` is the way to it, ABSENT what one side does not have."""

    place: str
    meant: Any
    found: Any


def differences(meant: Any, found: Any, *, secret: bool = False) -> Iterator[str]:
    """`place: what it says instead of what is meant`, for every leaf, those on one side too."""
    for leaf in leaves(meant, found):
        if leaf.found is ABSENT:
            said = "it is missing"
        elif leaf.meant is ABSENT:
            said = "the design does not have it"
        else:
            shown = f"{_shown(leaf.found)} instead of {_shown(leaf.meant)}"
            said = "another value" if secret else shown
        yield f"{leaf.place}: {said}"


def leaves(meant: Any, found: Any, place: str = "") -> Iterator[Leaf]:
    """Every value that differs. Lists are compared entry by entry, by the entries' names where they
    have any."""
    if isinstance(meant, dict) and isinstance(found, dict):
        for name in dict.fromkeys([*meant, *found]):
            below = f"{place}/{name}" if place else str(name)
            yield from leaves(meant.get(name, ABSENT), found.get(name, ABSENT), below)
    elif isinstance(meant, list) and isinstance(found, list):
        first, second = _named(meant), _named(found)
        for key in dict.fromkeys([*first, *second]):
            one, other = first.get(key, ABSENT), second.get(key, ABSENT)
            yield from leaves(one, other, f"{place}[{key}]")
    elif meant != found:
        yield Leaf(place, meant, found)


def _named(entries: list[Any]) -> dict[str, Any]:
    """Entries by name, where all have different ones; else by number."""
    for name in _NAMES:
        keys = [str(e[name]) for e in entries if isinstance(e, dict) and name in e]
        if len(set(keys)) == len(entries):
            return dict(zip(keys, entries, strict=True))
    return {str(number): entry for number, entry in enumerate(entries, 1)}


def _shown(value: Any) -> str:
    text = str(value)
    return text if len(text) <= _MOST else text[: _MOST - 3] + "..."
