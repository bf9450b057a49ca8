"""What decides whether a flow works: of all states of the network, the few that make a difference.

A failure changes a flow only if it takes away a way that the flow goes just then. So a flow is
followed while all is up; then with each of the things down that it went over; then, on the way that
it goes instead, with each of those as well. Any state of the network is for this flow the same as
one of these, which `walk` finds without following anything.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Sequence
from dataclasses import dataclass

from obrin.core.drill.elements import Element
from obrin.core.drill.sweep import Sweep, Way
from obrin.core.reach.model import ReachModel

Failed = frozenset[int]
NOTHING: Failed = frozenset()
WIDE = 64
"""Ways that are lost, from which on a model without them is kept for the next flow."""
MOST_KEPT = 32


@dataclass(frozen=True, slots=True)
class Node:
    """`matter` are the things that are up and that the flow goes over, in order."""

    way: Way
    matter: tuple[int, ...]

    @property
    def works(self) -> bool:
        return not self.way.stopped


class Things:
    """Elements that take the same ways along are one thing: of these it is enough that one fails.
    Things are numbered from 0; those that take no way along are left out."""

    def __init__(self, sweep: Sweep, elements: Iterable[Element]) -> None:
        by_ways: dict[frozenset[str], list[Element]] = {}
        for element in elements:
            by_ways.setdefault(sweep.takes(element), []).append(element)
        by_ways.pop(frozenset(), None)
        self.ways = list(by_ways)
        self.elements = list(by_ways.values())
        self._taking: dict[str, list[int]] = {}
        for number, ways in enumerate(self.ways):
            for way in ways:
                self._taking.setdefault(way, []).append(number)

    def over(self, ways: Iterable[str]) -> tuple[int, ...]:
        """Numbers of the flows that use one of these paths, in order."""
        return tuple(sorted({n for way in ways for n in self._taking.get(way, ())}))

    def lost(self, failed: Iterable[int]) -> frozenset[str]:
        return frozenset[str]().union(*(self.ways[number] for number in failed))


class Decided:
    """The states that make a difference for the flows of a sweep, worked out when they are asked
    for."""

    def __init__(self, sweep: Sweep, things: Things) -> None:
        self._sweep, self._things = sweep, things
        self._nodes: list[dict[Failed, Node]] = [{} for _ in sweep.flows]
        self._models: dict[Failed, ReachModel] = {}
        self.flows = len(sweep.flows)

    def node(self, flow: int, failed: Failed) -> Node:
        """One that `walk` can come to."""
        nodes = self._nodes[flow]
        if failed not in nodes:
            way = self._sweep.flows[flow][0]
            if failed:
                way = self._sweep.way_in(self._model(failed), flow)
            matter = self._things.over(way.all_of_it)
            nodes[failed] = Node(way, tuple(n for n in matter if n not in failed))
        return nodes[failed]

    def _model(self, failed: Failed) -> ReachModel:
        if failed in self._models:
            return self._models[failed]
        lost = self._things.lost(failed)
        model = self._sweep.model_without(lost)
        if len(lost) >= WIDE:
            if len(self._models) >= MOST_KEPT:
                del self._models[next(iter(self._models))]
            self._models[failed] = model
        return model

    def known(self, flow: int) -> dict[Failed, Node]:
        """What was worked out of a flow so far."""
        return self._nodes[flow]

    def adopt(self, flow: int, nodes: dict[Failed, Node]) -> None:
        """What somebody else worked out of a flow."""
        self._nodes[flow] |= nodes

    def walk(self, flow: int, failed: Collection[int]) -> tuple[Node, list[int]]:
        """What a flow does in a state; and the things that are up on which that rests."""
        node, down, rests = self.node(flow, NOTHING), NOTHING, list[int]()
        while True:
            for thing in node.matter:
                if thing in failed:
                    down |= {thing}
                    node = self.node(flow, down)
                    break
                rests.append(thing)
            else:
                return node, rests

    def states(self, flow: int, depth: int) -> Iterator[tuple[Failed, Node]]:
        """States with at most `depth` things down, the smallest first."""
        found: Sequence[Failed] = (NOTHING,)
        for size in range(depth + 1):
            after: dict[Failed, None] = {}
            for failed in found:
                node = self.node(flow, failed)
                yield failed, node
                if size < depth:
                    after |= dict.fromkeys(failed | {thing} for thing in node.matter)
            found = tuple(after)
