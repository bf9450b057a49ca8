"""How long a step waits for the next one, by the windows of their places.

What a step interrupts is interrupted until the next one is done. A step that interrupts something
is done as late as can be before the next (`schedule`), so what counts for choosing an order is the
shortest time between the two in any week.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta

from obrin.core.change.states import Between
from obrin.core.design.windows import WEEK, Window, next_room, rooms

STEP_TIME = timedelta(minutes=10)
"""From the report of a step to that of the next, where nobody waits for a window."""
_SOME_MONDAY = datetime(2026, 1, 5, tzinfo=UTC)


@dataclass(frozen=True)
class Gaps:
    """`each` is what a step takes, `begins` (aware) when the first may be done."""

    between: Between
    each: timedelta = STEP_TIME
    begins: datetime | None = None
    _factors: dict[tuple[str, str], float] = field(default_factory=dict, repr=False)
    _ends: dict[tuple[datetime, str], datetime] = field(default_factory=dict, repr=False)

    @property
    def start(self) -> datetime:
        """Say when the first step may be done; some day where nobody said."""
        return self.begins or _SOME_MONDAY

    @property
    def waits(self) -> bool:
        """Whether places have windows."""
        between = self.between
        return any(bool(s.standards.windows) for s in (between.after, between.before))

    def factor(self, place: str, following: str) -> float:
        """The shortest time between the ends of two steps, in steps; 1 where neither waits."""
        key = place, following
        if key not in self._factors:
            first, second = map(self.between.windows, key)
            self._factors[key] = shortest(first, second, self.each, self.start) / self.each
        return self._factors[key]

    def end(self, moment: datetime, place: str) -> datetime:
        """The slot of a step that may begin from then on: at once where no window has room."""
        key = moment, place
        if key not in self._ends:
            begin = next_room(self.between.windows(place), moment, self.each)
            self._ends[key] = (moment if begin is None else begin) + self.each
        return self._ends[key]


def shortest(
    first: Iterable[Window], second: Iterable[Window], each: timedelta, since: datetime
) -> timedelta:
    """Count from the end of a step in one of the first windows to the end of one in the second
    after it; `each` where one of them has none, or no room."""
    found = [
        max(begin - latest, each)
        for earliest, latest in rooms(first, since, WEEK, each)
        for begin in _begins(second, earliest + each, each)
    ]
    return min(found, default=each)


def _begins(windows: Iterable[Window], free: datetime, each: timedelta) -> Iterator[datetime]:
    """The earliest in each of the openings of a week."""
    for earliest, latest in rooms(windows, free, WEEK, each):
        if free <= latest:
            yield max(earliest, free)
