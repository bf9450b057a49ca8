"""When each step of a change is done: one after the other, each in a window of its place."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta

from obrin.core.change.plan import Plan
from obrin.core.change.states import Flow
from obrin.core.design.windows import next_room
from obrin.core.errors import ObrinError
from obrin.core.settled.model import Settled
from obrin.core.settled.windows import windows_of


@dataclass(frozen=True, slots=True)
class Slot:
    """A step begins and is reported done, in UTC."""

    begin: datetime
    end: datetime

    @property
    def words(self) -> str:
        return f"{self.begin:%a %Y-%m-%d %H:%M} to {self.end:%H:%M} UTC"


@dataclass(frozen=True, slots=True)
class Schedule:
    """`slots` of the steps in order; `waits` is whether any of them has a window to wait for."""

    slots: tuple[Slot, ...]
    waits: bool

    def lost(self, plan: Plan) -> dict[Flow, float]:
        """For how many seconds each flow is lost: from the end of a step to that of the next. What
        the last one leaves lost is lost for the time of one."""
        found: dict[Flow, float] = {}
        for number, planned in enumerate(plan.steps):
            slot = self.slots[number]
            after = self.slots[number + 1].end if number + 1 < len(self.slots) else None
            seconds = ((after or slot.end) - (slot.end if after else slot.begin)).total_seconds()
            for flow, _ in planned.lost:
                found[flow] = found.get(flow, 0.0) + seconds
        return found


def schedule(plan: Plan, settled: Settled, start: datetime, each: timedelta) -> Schedule:
    """As early as can be from `start` (aware) on, where a step takes so long. Raises ObrinError for
    a place whose windows are too short for one."""
    slots, waits = list[Slot](), False
    for planned in plan.steps:
        windows = windows_of(settled, planned.step.place)
        begin = next_room(windows, start, each)
        if begin is None:
            texts = ", ".join(map(str, windows))
            raise ObrinError(
                f"no window of {planned.step.place} is long enough for a step: {texts}. Give "
                "longer 'windows', or a shorter --step-time"
            )
        slots.append(Slot(begin, begin + each))
        waits |= bool(windows)
        start = begin + each
    return Schedule(tuple(slots), waits)
