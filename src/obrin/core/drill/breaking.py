"""Failures that break the promise while no smaller one inside them does, without trying all.

Without loads, a failure breaks it by stopping a flow, and the states that make a difference for a
flow are few: the smallest of those in which it stops are what is asked for. With loads, what moves
adds up from all over, so all combinations of things are looked at; elements that take the same ways
along are one thing.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterable, Iterator, Sequence

from obrin.core.drill.deciding import Decided, Failed, Things
from obrin.core.drill.elements import Element
from obrin.core.drill.sweep import Sweep


def breaking(
    sweep: Sweep, elements: Sequence[Element], depth: int
) -> Iterator[tuple[Element, ...]]:
    """Of up to `depth` elements, the small ones first, each in the order of `elements`."""
    things = Things(sweep, elements)
    found = _loaded(sweep, things, depth) if sweep.loaded else _stopping(sweep, things, depth)
    rank = {element: number for number, element in enumerate(elements)}
    spelled = (
        tuple(sorted(failed, key=rank.__getitem__))
        for thing in found
        for failed in itertools.product(*(things.elements[number] for number in thing))
    )
    yield from sorted(spelled, key=lambda failed: (len(failed), [rank[e] for e in failed]))


def looked_at(sweep: Sweep, elements: Sequence[Element]) -> int:
    """Of how many things all combinations are looked at; 0 where that is not needed."""
    return len(Things(sweep, elements).ways) if sweep.loaded else 0


def _stopping(sweep: Sweep, things: Things, depth: int) -> list[Failed]:
    decided, found = Decided(sweep, things), dict[Failed, None]()
    for flow in range(decided.flows):
        states = decided.states(flow, depth)
        found |= dict.fromkeys(failed for failed, node in states if not node.works)
    return _smallest(sorted(found, key=len))


def _smallest(found: Iterable[Failed]) -> list[Failed]:
    """Those with no other inside them. The small ones come first."""
    kept = dict[Failed, None]()
    for failed in found:
        if not _inside(failed, kept):
            kept[failed] = None
    return list(kept)


def _inside(failed: Failed, kept: dict[Failed, None]) -> bool:
    sizes = range(1, len(failed) + 1)
    parts = (part for size in sizes for part in itertools.combinations(failed, size))
    return any(frozenset(part) in kept for part in parts)


def _loaded(sweep: Sweep, things: Things, depth: int) -> list[Failed]:
    kept = dict[Failed, None]()
    for size in range(1, depth + 1):
        for numbers in itertools.combinations(range(len(things.ways)), size):
            failed = frozenset(numbers)
            if not _inside(failed, kept) and sweep.breaks(
                [things.elements[number][0] for number in numbers]
            ):
                kept[failed] = None
    return list(kept)
