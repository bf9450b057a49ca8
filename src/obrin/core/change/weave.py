"""Weave the steps of independent parts into one order, by the windows of their places.

The problem. Two hundred sites change, each in windows of its own. One part after the other would
wait for one site's Saturday while another site's window passes unused.

The idea. Each part keeps its own order, and steps that belong together (from one that interrupts
something until nothing is interrupted any more) stay together as a block. Two queues: parts whose
next block can begin later, by when; and parts that can go on now, by when their window closes. The
one that closes first goes on; what needs no window is done while none is open.

The invariant. No part waits for a later window while the one it needs is open and unused. Where
there are no windows, one part comes after the other.

The cost. A logarithm for each block. Blocks with the same windows share one calculation of times.

Proven: `tests/core/test_windows.py`, against every order of drawn changes. The rule is that of
earliest deadline first (Liu and Layland, 1973).
"""

from __future__ import annotations

import heapq
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from obrin.core.change.calendar import Slot, Turn, slots_of
from obrin.core.change.states import Step
from obrin.core.design.windows import rooms
from obrin.core.errors import ObrinError

_NEVER = datetime.max.replace(tzinfo=UTC)


@dataclass(frozen=True, slots=True)
class Block:
    """Steps that are done one after the other, without others in between."""

    steps: tuple[Step, ...]
    turns: tuple[Turn, ...]


def blocks(steps: Sequence[Step], turns: Sequence[Turn]) -> Iterator[Block]:
    """What interrupts something goes with all until nothing is interrupted any more."""
    first = 0
    for number, turn in enumerate(turns, 1):
        if not turn.price or number == len(turns):
            yield Block(tuple(steps[first:number]), tuple(turns[first:number]))
            first = number


class _Times:
    """Times at which blocks are done; those with the same windows are looked at once."""

    def __init__(self, each: timedelta) -> None:
        self._each = each
        self._kinds: dict[object, int] = {}
        self._held: dict[tuple[int, datetime], list[Slot]] = {}

    def kind(self, block: Block) -> int:
        """The same for blocks that are done at the same times."""
        alike = tuple((turn.windows, turn.price) for turn in block.turns)
        return self._kinds.setdefault(alike, len(self._kinds))

    def slots(self, block: Block, kind: int, moment: datetime) -> list[Slot]:
        """Slots of the steps from a moment on; one slot at once where a window is too short."""
        key = kind, moment
        if key not in self._held:
            try:
                self._held[key] = list(slots_of(block.turns, moment, self._each))
            except ObrinError:
                self._held[key] = [Slot(moment, moment + self._each)]
        return self._held[key]


def _closes(block: Block, begin: datetime) -> datetime:
    """Say when the window is over in which it begins then."""
    openings = rooms(block.turns[0].windows, begin, 0, timedelta())
    return max((last for first, last in openings if first <= begin < last), default=_NEVER)


def woven(parts: Sequence[Sequence[Block]], start: datetime, each: timedelta) -> list[Step]:
    """All steps of all parts."""
    times, moment, found = _Times(each), start, list[Step]()
    kinds = [[times.kind(block) for block in part] for part in parts]
    later: list[tuple[datetime, int, int]] = []
    ready: list[tuple[datetime, int, int]] = []

    def slots(part: int, number: int) -> list[Slot]:
        return times.slots(parts[part][number], kinds[part][number], moment)

    def wait(part: int, number: int) -> None:
        if number < len(parts[part]):
            heapq.heappush(later, (slots(part, number)[0].begin, part, number))

    for part in range(len(parts)):
        wait(part, 0)
    while later or ready:
        while later and later[0][0] <= moment:
            begin, part, number = heapq.heappop(later)
            heapq.heappush(ready, (_closes(parts[part][number], begin), part, number))
        if not ready:
            moment = later[0][0]
            continue
        _, part, number = heapq.heappop(ready)
        done = slots(part, number)
        if done[0].begin > moment:
            wait(part, number)
            continue
        found += parts[part][number].steps
        moment = done[-1].end
        wait(part, number + 1)
    return found
