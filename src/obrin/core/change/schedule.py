"""Schedule each step of a change: one after the other, each in a window of its place."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta

from obrin.core.change.calendar import Slot, Turn, slots_of
from obrin.core.change.plan import Plan, Planned
from obrin.core.change.states import Flow


@dataclass(frozen=True, slots=True)
class Schedule:
    """`slots` of the steps that are left after so many are `done`, in order, from `start` on;
    `waits` is whether any of them has a window to wait for."""

    start: datetime
    done: int
    slots: tuple[Slot, ...]
    waits: bool

    def slot(self, planned: Planned) -> Slot | None:
        """Return None for a step that is done."""
        return None if planned.number <= self.done else self.slots[planned.number - self.done - 1]

    def lost(self, plan: Plan) -> dict[Flow, float]:
        """Count the seconds for which each flow is lost: from the end of a step to that of the
        next. What the last one leaves lost is lost for the time of one."""
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
    """Schedule from `start` (aware) on, where a step takes so long and the first few are done.
    Raises ObrinError for a place whose windows are too short for one."""
    turns = [Turn(p.step.place, p.windows, p.price) for p in plan.steps]
    slots = tuple(slots_of(turns[done:], start, each, turns[done - 1].price if done else 0.0))
    return Schedule(start, done, slots, any(turn.windows for turn in turns[done:]))
