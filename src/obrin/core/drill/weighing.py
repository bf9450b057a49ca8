"""The share of the time for which flows work together, from the states that make a difference."""

from __future__ import annotations

import heapq
import math
from collections.abc import Collection, Iterable, Iterator, Sequence
from dataclasses import dataclass
from itertools import chain

from obrin.core.crew import Crew, Job, batches
from obrin.core.drill.deciding import NOTHING, Decided, Failed, Node
from obrin.core.drill.jobs import FLOWS_AT_ONCE, Ground, WithElements, ground_of

ALL_UP_TO = 2_000
"""States that are looked at whatever they weigh."""
CLOSE = 1e-3
"""With more states, stop when what is left is this part of the time without the flows."""
NEXT_TO_NOTHING = 1e-13
MOST_LOOKS = 20_000

Entry = tuple[float, int, Failed, frozenset[int]]
"""What a state weighs, negative; a number; what is down in it, and what is known to be up or down
otherwise."""


@dataclass(frozen=True, slots=True)
class Bounds:
    """Shares of the time: for which it is known to work, and known not to. What is left of the
    whole was not looked at."""

    works: float
    fails: float


@dataclass(frozen=True, slots=True)
class Weighed:
    """A flow's share, the things on which it rests, and the states that make a difference."""

    bounds: Bounds
    rests: frozenset[int]
    nodes: dict[Failed, Node]


def weigh_all(crew: Crew, ground: Ground, down: Sequence[float]) -> Iterator[Weighed]:
    """Every flow on its own, in their order."""
    flows = batches(range(ground.decided.flows), FLOWS_AT_ONCE)
    pieces = ((batch, tuple(down)) for batch in flows)
    found = crew.each(_WEIGH, ground.given, pieces, ground)
    return chain.from_iterable(found)


def weigh(
    decided: Decided,
    flows: Sequence[int],
    down: Sequence[float],
    given: Collection[int] = NOTHING,
    known: Collection[int] = (),
) -> tuple[Bounds, set[int]]:
    """The share for which all of these flows work, and the things on which that rests.

    `down` is the share for which each thing is down; of those that are `known`, just those that are
    `given` are down.
    """
    works, fails, rests = list[float](), list[float](), set[int]()
    heap: list[Entry] = [(-1.0, 0, NOTHING, frozenset(known))]
    pushed = 0
    for looks in range(MOST_LOOKS):
        if not heap or (looks >= ALL_UP_TO and looks % 256 == 0 and _close(heap, fails)):
            break
        weight, _, failed, settled = heapq.heappop(heap)
        rest = -weight
        good, matter = _look(decided, flows, failed.union(given))
        rests.update(matter)
        up = settled
        for thing in matter:
            if thing in up or thing in failed:
                continue
            pushed += 1
            heapq.heappush(heap, (-rest * down[thing], pushed, failed | {thing}, up))
            up |= {thing}
            rest *= 1 - down[thing]
        (works if good else fails).append(rest)
    return Bounds(min(math.fsum(works), 1.0), min(math.fsum(fails), 1.0)), rests


def _weigh(ground: Ground, piece: tuple[Sequence[int], Sequence[float]]) -> list[Weighed]:
    flows, down = piece
    found = []
    for flow in flows:
        bounds, rests = weigh(ground.decided, [flow], down)
        found.append(Weighed(bounds, frozenset(rests), ground.decided.known(flow)))
    return found


_WEIGH: Job[WithElements, Ground, tuple[Sequence[int], Sequence[float]], list[Weighed]] = Job(
    ground_of, _weigh
)


def _close(heap: Iterable[Entry], fails: Iterable[float]) -> bool:
    left = math.fsum(-weight for weight, *_ in heap)
    return left <= max(CLOSE * math.fsum(fails), NEXT_TO_NOTHING)


def _look(
    decided: Decided, flows: Iterable[int], failed: Collection[int]
) -> tuple[bool, list[int]]:
    """Whether all flows work in a state, and the things that are up on which that rests."""
    found: dict[int, None] = {}
    for flow in flows:
        node, rests = decided.walk(flow, failed)
        if not node.works:
            return False, rests
        found |= dict.fromkeys(rests)
    return True, list(found)
