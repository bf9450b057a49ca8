"""Flows that all have to work at once: what many of them need, and groups that need nothing in
common besides."""

from __future__ import annotations

import itertools
import math
from collections import Counter
from collections.abc import Collection, Sequence
from dataclasses import dataclass

from obrin.core.drill.deciding import Decided
from obrin.core.drill.weighing import Bounds, weigh

MOST_SHARED = 10
"""Things whose states are all weighed: 1,024."""
MOST_IN_GROUP = 40
"""Things of which a group may depend, besides the shared ones."""


@dataclass(frozen=True, slots=True)
class Groups:
    """`shared` are things, `flows` and `needs` the flows of each group and the things it rests
    on."""

    shared: tuple[int, ...]
    flows: tuple[tuple[int, ...], ...]
    needs: tuple[frozenset[int], ...]

    def weigh(self, decided: Decided, down: Sequence[float]) -> Bounds:
        """The share for which all flows work."""
        works, fails = [], []
        known: dict[tuple[int, frozenset[int]], Bounds] = {}
        for state in itertools.product((False, True), repeat=len(self.shared)):
            pairs = list(zip(self.shared, state, strict=True))
            weight = math.prod(down[n] if bad else 1 - down[n] for n, bad in pairs)
            failed = frozenset(number for number, bad in pairs if bad)
            low = high = 1.0
            for number, flows in enumerate(self.flows):
                here = number, failed & self.needs[number]
                if here not in known:
                    known[here] = weigh(decided, flows, down, here[1], self.shared)[0]
                low, high = low * known[here].works, high * (1 - known[here].fails)
                if not high:
                    break
            works.append(weight * low)
            fails.append(weight * (1 - high))
        return Bounds(min(math.fsum(works), 1.0), min(math.fsum(fails), 1.0))


def groups_of(needs: Sequence[Collection[int]]) -> Groups | None:
    """Group flows by what they rest on, its number its place. None where too much hangs
    together."""
    count = Counter(thing for need in needs for thing in need)
    ranked = [thing for thing, _ in count.most_common(MOST_SHARED)]
    for many in range(len(ranked) + 1):
        found = _apart(needs, frozenset(ranked[:many]))
        if all(len(need) <= MOST_IN_GROUP for _, need in found):
            shared = frozenset(ranked[:many])
            return Groups(
                tuple(sorted(shared)),
                tuple(tuple(flows) for flows, _ in found),
                tuple(_whole(needs, flows) for flows, _ in found),
            )
    return None


def _whole(needs: Sequence[Collection[int]], flows: Sequence[int]) -> frozenset[int]:
    return frozenset[int]().union(*(needs[flow] for flow in flows))


def _apart(
    needs: Sequence[Collection[int]], shared: frozenset[int]
) -> list[tuple[list[int], set[int]]]:
    """Groups of flows that have no thing in common but shared ones, with their things."""
    first: dict[int, int] = {}
    parent = list(range(len(needs)))

    def root(flow: int) -> int:
        while parent[flow] != flow:
            parent[flow] = parent[parent[flow]]
            flow = parent[flow]
        return flow

    for flow, need in enumerate(needs):
        for thing in need:
            if thing not in shared:
                parent[root(flow)] = root(first.setdefault(thing, flow))
    found: dict[int, tuple[list[int], set[int]]] = {}
    for flow, need in enumerate(needs):
        flows, things = found.setdefault(root(flow), ([], set()))
        flows.append(flow)
        things.update(thing for thing in need if thing not in shared)
    return list(found.values())
