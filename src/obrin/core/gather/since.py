"""What exports say now, against what they said when they were last gathered, and the design."""

from __future__ import annotations

import copy
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from obrin.core.design.reader import Location

NEW, CHANGED, GONE = "new", "changed", "gone"
OPEN, TAKEN, EDITED = "to be taken", "is so already", "edited by hand"


class _Absent:
    def __repr__(self) -> str:
        return "nothing"


ABSENT = _Absent()


@dataclass(frozen=True, slots=True)
class Change:
    """`place` is the topmost key that is new, gone or differs. `standing` is how the design has
    it: as it was, as it is now, or otherwise, which is somebody's own doing."""

    place: Location
    was: Any
    now: Any
    standing: str

    @property
    def what(self) -> str:
        if self.was is ABSENT:
            return NEW
        return GONE if self.now is ABSENT else CHANGED


def changes(before: Any, now: Any, design: Any) -> list[Change]:
    """List changes in the order of what is found now; `before` is empty where nothing was ever
    gathered."""
    return list(_changes((), before, now, design))


def _changes(place: Location, before: Any, now: Any, design: Any) -> Iterator[Change]:
    if before == now:
        return
    if isinstance(before, dict) and isinstance(now, dict):
        inside = design if isinstance(design, dict) else {}
        for key in dict.fromkeys((*now, *before)):
            parts = (held.get(key, ABSENT) for held in (before, now, inside))
            yield from _changes((*place, key), *parts)
        return
    standing = TAKEN if design == now else OPEN if design == before else EDITED
    if standing == EDITED and isinstance(now, dict) and isinstance(design, dict):
        yield from _changes(place, before if isinstance(before, dict) else {}, now, design)
        return
    yield Change(place, before, now, standing)


def with_changes(design: Any, wanted: Sequence[Change]) -> Any:
    """A copy of the design's values with these changes in it."""
    made = copy.deepcopy(design)
    apply(made, wanted)
    return made


def apply(design: Any, wanted: Sequence[Change]) -> None:
    """Into mappings of any kind; what it lies in is made where it is not there."""
    for change in wanted:
        here = design
        for step in change.place[:-1]:
            if not isinstance(here.get(step), dict):
                here[step] = {}
            here = here[step]
        if change.now is ABSENT:
            here.pop(change.place[-1], None)
        else:
            here[change.place[-1]] = copy.deepcopy(change.now)
