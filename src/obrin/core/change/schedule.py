"""When each step of a change is done: one after the other, each in a window of its place.

A step that interrupts nothing is done as early as can be. From one that does until nothing is
interrupted any more, the steps are taken together: of all times at which they can be done, those
at which least is lost (flows times seconds), and of these the earliest.
"""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from obrin.core.change.plan import Plan, Planned
from obrin.core.change.states import Flow
from obrin.core.design.windows import WEEK, Window, next_room
from obrin.core.errors import ObrinError

MOST_APART = 12
"""A step's times are looked for next to the windows of steps so far from it in the order."""


Ways = dict[datetime, tuple[float, datetime]]
"""By when a step begins: the least loss until it is done, and when the one before begins then."""


@dataclass(frozen=True, slots=True)
class Slot:
    """A step begins and is reported done, in UTC."""

    begin: datetime
    end: datetime

    @property
    def words(self) -> str:
        return f"{self.begin:%a %Y-%m-%d %H:%M} to {self.end:%H:%M} UTC"


@dataclass(frozen=True, slots=True)
class Turn:
    """A step for the calendar: its place, the windows of that, and how many flows are not as wished
    once it is done."""

    place: str
    windows: tuple[Window, ...]
    wrong: int


@dataclass(frozen=True, slots=True)
class Schedule:
    """`slots` of the steps that are left after so many are `done`, in order, from `start` on;
    `waits` is whether any of them has a window to wait for."""

    start: datetime
    done: int
    slots: tuple[Slot, ...]
    waits: bool

    def slot(self, planned: Planned) -> Slot | None:
        """None for a step that is done."""
        return None if planned.number <= self.done else self.slots[planned.number - self.done - 1]

    def lost(self, plan: Plan) -> dict[Flow, float]:
        """For how many seconds each flow is lost: from the end of a step to that of the next. What
        the last one leaves lost is lost for the time of one."""
        found: dict[Flow, float] = {}
        for planned in plan.ahead(self.done):
            slot = self.slot(planned)
            free = self.start if slot is None else slot.end
            if planned.number < len(plan.steps):
                seconds = (self.slots[planned.number - self.done].end - free).total_seconds()
            else:
                seconds = 0.0 if slot is None else (slot.end - slot.begin).total_seconds()
            for flow, _ in planned.lost:
                found[flow] = found.get(flow, 0.0) + seconds
        return found


def schedule(plan: Plan, start: datetime, each: timedelta, done: int = 0) -> Schedule:
    """From `start` (aware) on, where a step takes so long and the first few are done. Raises
    ObrinError for a place whose windows are too short for one."""
    turns = [Turn(p.step.place, p.windows, p.wrong) for p in plan.steps[done:]]
    wrong = plan.steps[done - 1].wrong if done else 0
    slots = tuple(slots_of(turns, start, each, wrong))
    return Schedule(start, done, slots, any(turn.windows for turn in turns))


def slots_of(
    turns: Sequence[Turn], start: datetime, each: timedelta, wrong: int = 0
) -> Iterator[Slot]:
    """Of each step in order; `wrong` flows are not as wished before the first. Raises ObrinError
    likewise."""
    together = list[Turn]()
    for number, turn in enumerate(turns, 1):
        together.append(turn)
        if not turn.wrong or number == len(turns):
            begins = _together(together, start, each, wrong)
            yield from (Slot(begin, begin + each) for begin in begins)
            start, wrong, together = begins[-1] + each, 0, []


def _together(
    turns: Sequence[Turn], start: datetime, each: timedelta, wrong: int
) -> list[datetime]:
    """When each begins, for the least loss from `start` until the last is done: by dynamic
    programming over the times that can matter, which are next to one at which a window of theirs
    opens or closes."""
    early = list(_early(turns, start, each))
    if len(turns) == 1 or not any(turn.windows for turn in turns):
        return early
    horizon = early[-1] + timedelta(days=WEEK)
    rooms = [list(_rooms(turn, start, horizon, each)) for turn in turns]
    edges = {edge for held in rooms for room in held for edge in room}
    apart = range(-min(len(turns), MOST_APART), min(len(turns), MOST_APART) + 1)
    near = sorted({edge + number * each for edge in edges for number in apart})
    before: Ways = {start - each: (0.0, start - each)}
    ways = list[Ways]()
    for turn, held, first in zip(turns, rooms, early, strict=True):
        times = {at for least, most in held for at in _within(near, max(first, least), most)}
        before = _next(before, sorted({first, *times}), each, wrong)
        ways.append(before)
        wrong = turn.wrong
    found = [min(before, key=lambda begin: (before[begin][0], begin))]
    for way in reversed(ways[1:]):
        found.append(way[found[-1]][1])
    return found[::-1]


def _early(turns: Iterable[Turn], start: datetime, each: timedelta) -> Iterator[datetime]:
    """When each can begin at the earliest."""
    for turn in turns:
        begin = next_room(turn.windows, start, each)
        if begin is None:
            texts = ", ".join(map(str, turn.windows))
            raise ObrinError(
                f"no window of {turn.place} is long enough for a step: {texts}. Give "
                "longer 'windows', or a shorter --step-time"
            )
        yield begin
        start = begin + each


def _rooms(
    turn: Turn, start: datetime, horizon: datetime, each: timedelta
) -> Iterator[tuple[datetime, datetime]]:
    """From when to when a step can begin, in each of its windows."""
    if not turn.windows:
        yield start, horizon
    for window in turn.windows:
        for opens, closes in window.around(start, (horizon - start).days + 1):
            if closes - opens >= each:
                yield opens, closes - each


def _within(times: Sequence[datetime], least: datetime, most: datetime) -> Sequence[datetime]:
    return times[bisect_left(times, least) : bisect_right(times, most)]


def _next(before: Ways, times: Sequence[datetime], each: timedelta, wrong: int) -> Ways:
    """The same for the next step, which may begin at these times."""
    found: Ways = {}
    earlier = sorted(before, reverse=True)
    least: tuple[float, datetime] | None = None
    origin = min(before)
    for at in times:
        while earlier and earlier[-1] + each <= at:
            came = earlier.pop()
            price = before[came][0] - wrong * (came - origin).total_seconds()
            if least is None or price < least[0]:
                least = price, came
        if least is not None:
            found[at] = least[0] + wrong * (at - origin).total_seconds(), least[1]
    return found
