"""Drills in pieces: failures to be tried, flows to be followed, combinations to be looked at."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from itertools import chain

from obrin.core.catalogue.offering import Offered
from obrin.core.crew import Crew, Job, batches
from obrin.core.drill.deciding import Decided, Failed, Things
from obrin.core.drill.elements import Element
from obrin.core.drill.sweep import Outcome, Sweep
from obrin.core.settled.model import Settled

FAILURES_AT_ONCE, FLOWS_AT_ONCE, COMBINATIONS_AT_ONCE = 64, 16, 512

Failure = tuple[Element, ...]
Given = tuple[Settled, Offered | None]
WithElements = tuple[Settled, Offered | None, tuple[Element, ...]]


class Ground:
    """A sweep, and things that fail in it."""

    def __init__(self, sweep: Sweep, elements: Iterable[Element]) -> None:
        self.sweep, self.elements = sweep, tuple(elements)
        self.things = Things(sweep, self.elements)
        self.decided = Decided(sweep, self.things)

    @property
    def given(self) -> WithElements:
        """What is sent to whoever has to make the same."""
        return self.sweep.settled, self.sweep.offering, self.elements


def ground_of(given: WithElements) -> Ground:
    """What `Ground.given` was taken from."""
    settled, offering, elements = given
    return Ground(Sweep(settled, offering), elements)


def outcomes(crew: Crew, sweep: Sweep, failures: Iterable[Failure]) -> Iterator[Outcome]:
    """What each failure does, in their order."""
    pieces = batches(failures, FAILURES_AT_ONCE)
    found = crew.each(_TRY, (sweep.settled, sweep.offering), pieces, sweep)
    return chain.from_iterable(found)


def stopping(crew: Crew, ground: Ground, depth: int) -> Iterator[Failed]:
    """The states with at most so many things down that make a difference for a flow and in which it
    stops; flow by flow."""
    flows = batches(range(ground.decided.flows), FLOWS_AT_ONCE)
    pieces = ((batch, depth) for batch in flows)
    found = crew.each(_STOP, ground.given, pieces, ground)
    return chain.from_iterable(found)


def breaking_ones(crew: Crew, ground: Ground, combinations: Iterable[Failed]) -> Iterator[Failed]:
    """Combinations of failures that break the promise."""
    pieces = batches(combinations, COMBINATIONS_AT_ONCE)
    found = crew.each(_BREAK, ground.given, pieces, ground)
    return chain.from_iterable(found)


def _sweep(given: Given) -> Sweep:
    return Sweep(*given)


def _try(sweep: Sweep, failures: Sequence[Failure]) -> list[Outcome]:
    return [sweep.try_one(failed) for failed in failures]


def _stop(ground: Ground, piece: tuple[Sequence[int], int]) -> list[Failed]:
    flows, depth = piece
    states = chain.from_iterable(ground.decided.states(flow, depth) for flow in flows)
    return [failed for failed, node in states if not node.works]


def _break(ground: Ground, combinations: Sequence[Failed]) -> list[Failed]:
    sweep, elements = ground.sweep, ground.things.elements
    return [c for c in combinations if sweep.breaks([elements[n][0] for n in sorted(c)])]


_TRY: Job[Given, Sweep, Sequence[Failure], list[Outcome]] = Job(_sweep, _try)
_STOP: Job[WithElements, Ground, tuple[Sequence[int], int], list[Failed]] = Job(ground_of, _stop)
_BREAK: Job[WithElements, Ground, Sequence[Failed], list[Failed]] = Job(ground_of, _break)
