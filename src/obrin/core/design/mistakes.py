"""A mistake in a design whose position is still a path of keys."""

from __future__ import annotations

import difflib
from collections.abc import Iterable
from dataclasses import dataclass

from obrin.core.design.reader import Location


@dataclass(frozen=True, slots=True)
class Mistake:
    """A problem whose position is still a path of keys."""

    location: Location
    what: str
    fix: str


def unknown(kind: str, name: str, known: Iterable[str], location: Location) -> Mistake:
    """A name that means nothing, with the nearest one that does."""
    names = sorted(known)
    near = difflib.get_close_matches(name, names, n=1)
    fix = f"Did you mean '{near[0]}'?" if near else f"Known: {', '.join(names[:12]) or 'none'}"
    return Mistake(location, f"there is no {kind} '{name}'", fix)
