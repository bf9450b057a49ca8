"""How much of a year each flow works, from how often things fail and how long they take to mend.

Elements fail independently of each other; each is down for the share mend / (fail + mend) of the
time. With few elements every state of the network is weighed exactly; with many, states are drawn
at random and the answer has an interval that holds it with 95 % (Wilson's, for a share).
"""

from __future__ import annotations

import itertools
import math
from collections import Counter
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from obrin.core.drill.elements import Element
from obrin.core.drill.sweep import Sweep

EXACT_UP_TO = 14
"""Elements; that many have 16,384 states."""
AT_ONCE = 4096
"""States drawn at a time, so that memory stays small."""
YEAR_MINUTES = 365.25 * 24 * 60
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
    sweep: Sweep, repairs: Mapping[Element, Repair], *, draws: int, seed: int
) -> list[Availability]:
    """For every flow, and for all of them at once as the last."""
    elements = [e for e, r in repairs.items() if r.down > 0]
    down = [repairs[e].down for e in elements]
    if len(elements) <= EXACT_UP_TO:
        return _exact(sweep, elements, down)
    return _drawn(sweep, elements, down, draws, seed)


def _names(sweep: Sweep) -> list[str]:
    return [*(way.flow for way, _ in sweep.flows), "all of them at once"]


class _Followed:
    """States of the network, each followed once: those that take the same ways away are one."""

    def __init__(self, sweep: Sweep, elements: Sequence[Element]) -> None:
        self._sweep, self._elements = sweep, elements
        ways = [sweep.takes(element) for element in elements]
        every = dict.fromkeys(way for found in ways for way in found)
        numbers = {way: number for number, way in enumerate(every)}
        self._masks = [sum(1 << numbers[way] for way in found) for found in ways]
        self._works: dict[int, list[bool]] = {}

    def works(self, failed: Iterable[int]) -> list[bool]:
        """Which flows do, with the elements of these numbers down; and whether all do."""
        numbers, mask = list(failed), 0
        for number in numbers:
            mask |= self._masks[number]
        if mask not in self._works:
            each = [True] * len(self._sweep.flows)
            changed = self._sweep.changed([self._elements[number] for number in numbers])
            for number, way in changed.items():
                each[number] = not way.stopped
            self._works[mask] = [*each, all(each)]
        return self._works[mask]


def _exact(sweep: Sweep, elements: list[Element], down: list[float]) -> list[Availability]:
    names, followed = _names(sweep), _Followed(sweep, elements)
    parts: list[list[float]] = [[] for _ in names]
    for state in itertools.product((False, True), repeat=len(elements)):
        weight = math.prod(d if bad else 1 - d for d, bad in zip(down, state, strict=True))
        failed = (number for number, bad in enumerate(state) if bad)
        for part, works in zip(parts, followed.works(failed), strict=True):
            if works:
                part.append(weight)
    shares = [min(math.fsum(part), 1.0) for part in parts]
    return [Availability(n, s, s, s) for n, s in zip(names, shares, strict=True)]


def _drawn(
    sweep: Sweep, elements: list[Element], down: list[float], draws: int, seed: int
) -> list[Availability]:
    """Each state that came up is followed once, and counts as often as it came."""
    rng = np.random.default_rng(seed)
    names, followed = _names(sweep), _Followed(sweep, elements)
    counts: Counter[bytes] = Counter()
    for start in range(0, draws, AT_ONCE):
        shape = min(AT_ONCE, draws - start), len(elements)
        states = np.packbits(rng.random(shape) < np.array(down), axis=1)
        counts.update(map(bytes, states))
    works = np.zeros(len(names))
    for state, count in counts.items():
        failed = np.flatnonzero(np.unpackbits(np.frombuffer(state, np.uint8))).tolist()
        works += np.array(followed.works(failed)) * count
    return [
        Availability(n, w / draws, *_wilson(w, draws)) for n, w in zip(names, works, strict=True)
    ]


def _wilson(good: float, total: int) -> tuple[float, float]:
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
