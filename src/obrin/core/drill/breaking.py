"""Failures that break the promise while no smaller one inside them does, without trying all.

Without loads, a failure breaks it by stopping a flow, and the states that make a difference for a
flow are few: the smallest of those in which it stops are what is asked for. With loads, what moves
adds up from all over, so all combinations of things are looked at; elements that take the same ways
along are one thing.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Sequence

from obrin.core.crew import HERE, Crew
from obrin.core.drill.deciding import Failed, Things
from obrin.core.drill.elements import Element
from obrin.core.drill.jobs import Ground, breaking_ones, stopping
from obrin.core.drill.sweep import Sweep


def breaking(
    sweep: Sweep, elements: Sequence[Element], depth: int, crew: Crew = HERE
) -> Iterator[tuple[Element, ...]]:
    """Find the failures of up to `depth` elements that stop a flow, the smallest first, each in the
    order of `elements`."""
    ground = Ground(sweep, elements)
    found = _loaded(crew, ground, depth) if sweep.loaded else _stopping(crew, ground, depth)
    rank = {element: number for number, element in enumerate(elements)}
    spelled = (
        tuple(sorted(failed, key=rank.__getitem__))
        for numbers in found
        for failed in itertools.product(*(ground.things.elements[number] for number in numbers))
    )
    yield from sorted(spelled, key=lambda failed: (len(failed), [rank[e] for e in failed]))


def looked_at(sweep: Sweep, elements: Sequence[Element]) -> int:
    """How many things all combinations are taken of; 0 where that is not needed."""
    return len(Things(sweep, elements).ways) if sweep.loaded else 0


def _stopping(crew: Crew, ground: Ground, depth: int) -> list[Failed]:
    """The smallest of the states in which some flow stops."""
    kept = dict[Failed, None]()
    for failed in sorted(dict.fromkeys(stopping(crew, ground, depth)), key=len):
        if not _inside(failed, kept):
            kept[failed] = None
    return list(kept)


def _loaded(crew: Crew, ground: Ground, depth: int) -> list[Failed]:
    """Size by size, so that what a smaller one explains need not be looked at."""
    kept = dict[Failed, None]()
    things = range(len(ground.things.ways))
    for size in range(1, depth + 1):
        every = map(frozenset, itertools.combinations(things, size))
        left = (failed for failed in every if not _inside(failed, kept))
        kept |= dict.fromkeys(list(breaking_ones(crew, ground, left)))
    return list(kept)


def _inside(failed: Failed, kept: dict[Failed, None]) -> bool:
    """Whether it is one of these, or one of these is inside it."""
    sizes = range(1, len(failed) + 1)
    parts = (part for size in sizes for part in itertools.combinations(failed, size))
    return any(frozenset(part) in kept for part in parts)
