"""Many names in few words, for people: who has two thousand gateways wants to read none of them."""

from __future__ import annotations

import difflib
from collections.abc import Iterable

from obrin.core.errors import ObrinError

MOST, NEAREST = 12, 5


def some(items: Iterable[object], most: int = MOST) -> str:
    """The first few, and how many more there are."""
    texts = [str(item) for item in items]
    more = f" and {len(texts) - most:,} more" if len(texts) > most else ""
    return ", ".join(texts[:most]) + more


def those_near(asked: str, names: Iterable[str]) -> str:
    """What could have been meant: all that there are, or of many those that are most like it."""
    known = list(dict.fromkeys(names))
    if len(known) > MOST:
        near = difflib.get_close_matches(asked, known, NEAREST, 0.5)
        known = [*near, *(name for name in known if name not in near)]
        return some(known, NEAREST)
    return ", ".join(known)


def unknown(kind: str, name: str, names: Iterable[str]) -> ObrinError:
    """Make the error for a name that the design does not have."""
    near = those_near(name, names)
    there = f"There are: {near}" if near else "There are none"
    return ObrinError(f"there is no {kind} '{name}'. {there}")
