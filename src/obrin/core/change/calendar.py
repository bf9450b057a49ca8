"""Choose a time for each step of a given order: each in a window of its place.

The problem. A step that interrupts something at 23:50, before a window that closes at midnight, may
leave a flow lost for a week; done an hour later at another place, it costs a minute.

The idea. A step that interrupts nothing is done as early as can be. From one that does until
nothing is interrupted any more, the steps are taken together. The times that can matter are few:
where a window opens, and a whole number of steps before a window closes or another begins. Dynamic
programming over these gives the least loss.

The invariant. Of all times at which the steps can be done: least lost (flows times seconds), then
least time with tunnels down, then the earliest.

The cost. The steps taken together times the times that matter, for each of them.

Proven against all minutes of drawn weeks: `tests/core/test_windows.py`.
"""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from obrin.core.change.outlook import Outlooks
from obrin.core.change.states import Between, Done, Step
from obrin.core.design.windows import WEEK, Window, next_room, rooms
from obrin.core.errors import ObrinError

MOST_APART = 12
"""A step's times are looked for next to the windows of steps so far from it in the order."""


MOST_TOGETHER = 24
"""Steps that are taken together; more are done as early as can be."""
DIGITS = 6
"""Decimals kept when losses are compared."""
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
    """A step for the calendar: its place, the windows of that, and what is interrupted once it is
    done (`interruption`)."""

    place: str
    windows: tuple[Window, ...]
    price: float


def turns_of(
    steps: Iterable[Step], done: Done, looks: Outlooks, between: Between
) -> Iterator[Turn]:
    """Turns of steps in order. `between` knows the windows, `looks` the states; when going back,
    those of the other direction."""
    for step in steps:
        done |= {step}
        yield Turn(step.place, between.windows(step.place), looks.price(done))


def slots_of(
    turns: Sequence[Turn], start: datetime, each: timedelta, price: float = 0.0
) -> Iterator[Slot]:
    """Choose a time slot for each step in order. `price` is the loss of what is interrupted
    before the first. Raises ObrinError for a place whose windows are too short for one."""
    together = list[Turn]()
    for number, turn in enumerate(turns, 1):
        together.append(turn)
        if not turn.price or number == len(turns):
            begins = _together(together, start, each, price)
            yield from (Slot(begin, begin + each) for begin in begins)
            start, price, together = begins[-1] + each, 0.0, []


def _together(
    turns: Sequence[Turn], start: datetime, each: timedelta, price: float
) -> list[datetime]:
    """Say when each begins, for the least loss from `start` until the last is done: by dynamic
    programming over the times that can matter, which are next to one at which a window of theirs
    opens or closes."""
    early = list(_early(turns, start, each))
    if not 1 < len(turns) <= MOST_TOGETHER or not any(turn.windows for turn in turns):
        return early
    horizon = early[-1] + timedelta(days=WEEK)
    free = [_rooms(turn, start, horizon, each) for turn in turns]
    edges = {edge for held in free for room in held for edge in room}
    apart = range(-min(len(turns), MOST_APART), min(len(turns), MOST_APART) + 1)
    near = sorted({edge + number * each for edge in edges for number in apart})
    before: Ways = {start - each: (0.0, start - each)}
    ways = list[Ways]()
    for turn, held, first in zip(turns, free, early, strict=True):
        times = {at for least, most in held for at in _within(near, max(first, least), most)}
        before = _next(before, sorted({first, *times}), each, price)
        ways.append(before)
        price = turn.price
    found = [min(before, key=lambda begin: (before[begin][0], begin))]
    for way in reversed(ways[1:]):
        found.append(way[found[-1]][1])
    return found[::-1]


def _early(turns: Iterable[Turn], start: datetime, each: timedelta) -> Iterator[datetime]:
    """Say when each can begin at the earliest."""
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
) -> list[tuple[datetime, datetime]]:
    """Times between which a step can begin, in each of its windows."""
    if not turn.windows:
        return [(start, horizon)]
    return list(rooms(turn.windows, start, (horizon - start).days + 1, each))


def _within(times: Sequence[datetime], least: datetime, most: datetime) -> Sequence[datetime]:
    return times[bisect_left(times, least) : bisect_right(times, most)]


def _next(before: Ways, times: Sequence[datetime], each: timedelta, price: float) -> Ways:
    """The same for the next step, which may begin at these times; what is interrupted until it is
    done has this price for each second."""
    found: Ways = {}
    earlier = sorted(before, reverse=True)
    least: tuple[float, datetime] | None = None
    origin = min(before)
    for at in times:
        while earlier and earlier[-1] + each <= at:
            came = earlier.pop()
            total = before[came][0] - price * (came - origin).total_seconds()
            if least is None or total < least[0]:
                least = total, came
        if least is not None:
            total = least[0] + price * (at - origin).total_seconds()
            found[at] = round(total, DIGITS), least[1]
    return found
