"""Choose when the next step of a change begins, by the windows of its place and of others."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from obrin.core.change.calendar import MOST_TOGETHER, Turn, slots_of, turns_of
from obrin.core.change.outlook import Outlooks
from obrin.core.change.states import Between, Done, Step
from obrin.core.design.windows import next_room


@dataclass(frozen=True, slots=True)
class Due:
    """A step is to be begun at `begin`, and why not before."""

    begin: datetime
    why: str


def due(
    left: Sequence[Step],
    done: Done,
    looks: Outlooks,
    between: Between,
    now: datetime,
    each: timedelta,
) -> Due | None:
    """Say when the first of the steps that are left is to be begun, where that is not at once: its
    place may not be changed, or what it interrupts would wait for the window of another. Raises
    ObrinError for windows that are too short. `between` knows the windows, `looks` the states: of
    the other direction, going back."""
    turns = list(_turns(left, done, looks, between))
    begin = next(slots_of(turns, now, each, looks.price(done))).begin
    if begin <= now:
        return None
    if next_room(turns[0].windows, now, each) == now:
        waited = next(t for t in turns[1:] if next_room(t.windows, now + each, each) != now + each)
        why = f"what it interrupts would wait, since {waited.place}"
    else:
        waited, why = turns[0], turns[0].place
    return Due(begin, f"{why} may be changed {', '.join(map(str, waited.windows))}")


def _turns(left: Sequence[Step], done: Done, looks: Outlooks, between: Between) -> Iterator[Turn]:
    """Take steps until nothing is interrupted any more, or they are too many to be taken
    together."""
    for turn in turns_of(left[: MOST_TOGETHER + 1], done, looks, between):
        yield turn
        if not turn.price:
            return
