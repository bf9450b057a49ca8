"""Estimate how much of a year each flow works, from how often things fail and are repaired.

The problem. n things that fail independently have 2^n states, and a share of 99.99 % has to be
right in its last digit.

The idea. Each thing is down for the share mend / (fail + mend) of the time. For one flow, only the
states that make a difference are weighed: a walk asks of one thing after the other only where the
answer depends on it (`decided.py`), the heavy states first, until what was not looked at weighs
next to nothing. For all flows at once, what many of them need is weighed in all its states; with
these given, the flows fall into groups with nothing in common, and their shares are multiplied
(`together.py`). Where they do not fall apart, states are drawn at random.

The invariant. An interval holds everything that was not looked at: its ends are what would be if
all of that worked, or failed. It is narrow because the work was done, not because of an assumption.
Only for drawn states it is a confidence interval, with 95 % (Wilson's, for a share).

The cost. For a flow: the states around its few ways. For all flows: 2^MOST_SHARED times the groups.

Proven against weighing all states (`tests/core/test_availability.py`). Sources: Moore and Shannon,
"Reliable circuits using less reliable relays" (1956); Wilson (1927).
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from obrin.core.crew import HERE, Crew
from obrin.core.drill.deciding import Decided
from obrin.core.drill.elements import Element
from obrin.core.drill.jobs import Ground
from obrin.core.drill.sweep import Sweep
from obrin.core.drill.together import groups_of
from obrin.core.drill.weighing import Bounds, weigh_all

YEAR_MINUTES = 365.25 * 24 * 60
ALL = "all of them at once"
_Z = 1.959963984540054


@dataclass(frozen=True, slots=True)
class Repair:
    """Mean times in seconds: from mended to failed, and from failed to mended."""

    fails_every: float
    mended_in: float

    @property
    def down(self) -> float:
        """The share of the time for which it is down."""
        return self.mended_in / (self.fails_every + self.mended_in)


@dataclass(frozen=True, slots=True)
class Availability:
    """`share` of the time, with the ends of its interval; equal when it was weighed exactly."""

    flow: str
    share: float
    low: float
    high: float

    @property
    def minutes(self) -> float:
        """Minutes a year without it."""
        return (1 - self.share) * YEAR_MINUTES


def availability(
    sweep: Sweep,
    repairs: Mapping[Element, Repair],
    *,
    draws: int,
    seed: int,
    crew: Crew = HERE,
) -> list[Availability]:
    """Estimate availability for every flow, and for all of them at once as the last; at most so
    many `draws` for that."""
    ground = Ground(sweep, (e for e, r in repairs.items() if r.down > 0))
    held = ground.things.elements
    down = [1 - math.prod(1 - repairs[e].down for e in together) for together in held]
    found, needs = [], []
    for number, weighed in enumerate(weigh_all(crew, ground, down)):
        ground.decided.adopt(number, weighed.nodes)
        found.append(_availability(sweep.flows[number][0].flow, weighed.bounds))
        needs.append(weighed.rests)
    groups = groups_of(needs)
    if groups is None:
        share, low, high = _drawn(ground.decided, down, draws, seed)
        return [*found, Availability(ALL, share, low, high)]
    return [*found, _availability(ALL, groups.weigh(ground.decided, down))]


def _availability(flow: str, bounds: Bounds) -> Availability:
    """What rounding leaves is not an interval."""
    low, high = bounds.works, max(1 - bounds.fails, bounds.works)
    if high - low <= 1e-12:
        return Availability(flow, low, low, low)
    return Availability(flow, (low + high) / 2, low, high)


def _drawn(
    decided: Decided, down: Sequence[float], draws: int, seed: int
) -> tuple[float, float, float]:
    """The share of drawn states in which every flow works, and its interval. The flow that failed
    last is asked first."""
    rng = np.random.default_rng(seed)
    limits = np.array(down, dtype=np.float32)
    order, good = list(range(decided.flows)), 0
    for _ in range(draws):
        failed = set(np.flatnonzero(rng.random(len(limits), dtype=np.float32) < limits).tolist())
        works = True
        for place, flow in enumerate(order):
            if not decided.walk(flow, failed)[0].works:
                order.insert(0, order.pop(place))
                works = False
                break
        good += works
    return good / draws if draws else 0.0, *_wilson(good, draws)


def _wilson(good: float, total: int) -> tuple[float, float]:
    if not total:
        return 0.0, 1.0
    share, z2 = good / total, _Z * _Z
    middle = (share + z2 / (2 * total)) / (1 + z2 / total)
    half = _Z / (1 + z2 / total) * math.sqrt(share * (1 - share) / total + z2 / (4 * total * total))
    return float(max(middle - half, 0.0)), float(min(middle + half, 1.0))


def repairs_of(
    elements: Sequence[Element], given: Callable[[str], Repair | None]
) -> dict[Element, Repair]:
    """What is known of each element by its kind; those of which nobody said anything stay out."""
    found = {element: given(element.kind) for element in elements}
    return {element: repair for element, repair in found.items() if repair is not None}
