"""Order the steps of a change so that the least is lost.

The problem. n steps have n! orders. In some of them a flow is lost for minutes, in others not at
all, and which ones depends on every state between: on routes, filters, loads and windows.

The idea. What a state costs depends on the set of steps that are done and not on their order. So
the orders of up to MOST_EXACT steps are searched whole, by Dijkstra over 2^n sets instead of n!
orders. In a larger change, making ready comes first and clearing away last: they take nothing away
(except where a speaker gets another AS number, which all of its sessions share; then they are
searched with the rest). Tunnels that share no site are searched apart, and woven together by the
windows of their places (`weave.py`). A site with more steps than can be searched is taken by rank,
both ends of each tunnel one after the other.

What counts. A flow that is not as wished costs the time of the step, or of the wait for the next
window; one that stops only while a step is done costs the seconds for which it stops. Next to that,
but never instead: a flow that moves, a thing that gets more than it carries, a tunnel that is down,
and going back and forth between places.

The invariant. Every step once, and the same order every time: costs are rounded to DIGITS before
they are compared, so that the order of addition does not decide.

The cost. 2^12 states for each group, each one a set of flows followed; linear in groups.

Proven against every permutation (`tests/core/test_change.py`, `tests/core/test_windows.py`), and
each state against packets (`tests/live/test_reshape.py`).
"""

from __future__ import annotations

import heapq
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime
from itertools import zip_longest

from obrin.core.change.calendar import turns_of
from obrin.core.change.gaps import Gaps
from obrin.core.change.groups import Groups
from obrin.core.change.outlook import DOWN, Outlooks
from obrin.core.change.states import CLEAR, LEG, READY, Done, Step
from obrin.core.change.weave import Block, blocks, woven

STEP_SECONDS = 60.0
"""What one step is taken to last, for choosing; by hand or by a cloud, it is minutes."""
MOVE_SECONDS = 0.01
"""Loss counted for a flow that moves to another tunnel, to choose between orders that lose
nothing."""
FULL_SECONDS = 0.6
"""Loss counted for a thing that is overloaded for one step, to choose likewise. A real loss is
never accepted instead."""
KINDS = READY, LEG, CLEAR
HAND_SECONDS = 0.0005
"""Loss counted for going on at another place, to choose between orders that are otherwise alike,
so that all steps at one place are done together. For twelve steps it is less than one move."""
DIGITS = 6
"""Decimals kept when costs are compared, so that the order of addition does not decide."""
MOST_EXACT = 12
"""Steps of a group that are searched whole: 4096 sets."""


@dataclass(frozen=True, slots=True)
class Cost:
    """Seconds of flows that are lost, flows that move, things times steps that they get too much
    for, and tunnels times steps that they are down; while a step waits for its window, as many
    steps as would go by."""

    lost: float = 0.0
    moved: int = 0
    full: float = 0.0
    down: float = 0.0

    @property
    def total(self) -> float:
        kept = self.full * FULL_SECONDS + self.down * STEP_SECONDS * DOWN
        return self.lost + self.moved * MOVE_SECONDS + kept


def best_order(groups: Groups) -> list[Step]:
    """All steps, in order."""
    steps = groups.between.steps
    if len(groups.all) <= 1:
        searches = ((_Search(group.looks, groups.gaps), group.done) for group in groups.all)
        return [step for search, done in searches for step in search.whole(done, steps)]
    heavy = (step for step in steps if step.kind == READY and _heavy(groups, step))
    apart = {*heavy, *(step for step in steps if _in_turn(groups, step))}
    ready = [step for step in steps if step.kind == READY and step not in apart]
    first, found, parts = frozenset(ready), dict.fromkeys(ready), list[list[Block]]()
    for group in groups.all:
        steps_here = (step for step in group.looks.between.steps if step in group.steps)
        mine = [step for step in steps_here if step not in first]
        search, done = _Search(group.looks, groups.gaps), group.done | (first & group.steps)
        ordered = [s for s in search.part(done, mine) if s.kind != CLEAR or s in apart]
        turns = list(turns_of(ordered, done, group.looks, groups.between))
        parts.append(list(blocks(ordered, turns)))
    found |= dict.fromkeys(woven(parts, groups.gaps.start, groups.gaps.each))
    found |= dict.fromkeys(step for step in steps if step.kind != CLEAR)
    return [*found, *(step for step in _clearing(steps) if step not in found)]


def _in_turn(groups: Groups, step: Step) -> bool:
    """Whether it waits for the window of one site: all that is done there is done in that."""
    alone = len(groups.by_step.get(step, ())) == 1
    return groups.gaps.waits and groups.is_gateway(step.place) and alone


def _heavy(groups: Groups, step: Step) -> bool:
    """Whether making ready takes something away, at a gateway of one group."""
    return groups.between.renumbers(step.place) and len(groups.by_step.get(step, ())) == 1


def _clearing(steps: list[Step]) -> list[Step]:
    """Sites before clouds."""
    return [step for step in reversed(steps) if step.kind == CLEAR]


def cost_of(
    looks: Outlooks, order: Sequence[Step], start: Done = frozenset(), gaps: Gaps | None = None
) -> Cost:
    """What an order loses in all, from a state on; in the last state nothing is waited for."""
    lost, full, down, moved, done = 0.0, 0.0, 0.0, 0, start
    for step, after in zip_longest(order, order[1:]):
        lost += _broken(looks, done, step)
        moved += _moved(looks, done, step)
        done |= {step}
        if after is not None:
            long = gaps.factor(step.place, after.place) if gaps else 1.0
            lost += long * STEP_SECONDS * looks.wrong(done)
            full += long * looks.overfull(done)
            down += long * looks.down(done)
    return Cost(lost, moved, full, down)


def _moved(looks: Outlooks, done: Done, step: Step) -> int:
    """How many flows go over to another way with a step."""
    before, now = looks.of(done).works, looks.of(done | {step}).works
    return sum(1 for flow, way in now.items() if before.get(flow, way) != way)


def _broken(looks: Outlooks, done: Done, step: Step) -> float:
    """Seconds of flows that stop only while a step is done."""
    return sum(each.seconds for each in looks.breaks(step, done))


@dataclass(frozen=True, slots=True)
class _Search:
    """Search among the orders of a change or of a part of it."""

    looks: Outlooks
    gaps: Gaps

    def whole(self, done: Done, steps: list[Step]) -> list[Step]:
        """A change that is looked at as one."""
        between = self.looks.between
        legs = [step for label in self._idle_first() for step in steps if step.leg == label]
        first = [step for step in steps if step.kind == READY]
        if len(steps) <= MOST_EXACT:
            return self._exact(done, [*first, *legs, *_clearing(steps)])
        heavy = [step for step in first if between.renumbers(step.place)]
        ready = [step for step in first if step not in heavy]
        return [*ready, *self.part(done | set(ready), [*heavy, *legs]), *_clearing(steps)]

    def _idle_first(self) -> list[str]:
        """Tunnels and circuits, those that carry nothing before those that do: of two orders that
        cost the same, a mistake in the first step then harms nobody."""
        carrying = set(self.looks.of(frozenset()).works.values())
        return sorted(self.looks.between.legs, key=lambda label: label in carrying)

    def part(self, done: Done, steps: list[Step]) -> list[Step]:
        """What is left of a group once all is ready."""
        turns = {label: turn for turn, label in enumerate(self._idle_first())}
        rising = sorted(steps, key=lambda s: (KINDS.index(s.kind), turns.get(s.leg, 0)))
        if len(steps) <= MOST_EXACT:
            return self._exact(done, rising)
        heavy = [step for step in rising if step.kind == READY]
        labels = list(dict.fromkeys(step.leg for step in rising if step.kind == LEG))
        ordered = self._by_rank(done | set(heavy), labels)
        return [*heavy, *ordered, *(step for step in rising if step.kind == CLEAR)]

    def _exact(self, start: Done, steps: list[Step]) -> list[Step]:
        """The cheapest of all orders, by Dijkstra over the sets of steps that are done, the place
        where a tunnel was changed last, and that of the last step where places have windows. Of
        those that cost the same, the one that is done first, and the first in the order of the
        designs."""
        ranks = {step: number for number, step in enumerate(steps)}
        windowed = self.gaps.waits
        queue: list[tuple[float, datetime, tuple[int, ...]]] = [(0.0, self.gaps.start, ())]
        closed: set[tuple[frozenset[int], str, str]] = set()
        known: dict[frozenset[int], tuple[float, dict[int, float]]] = {}
        while queue:
            total, moment, order = heapq.heappop(queue)
            have = frozenset(order)
            tunnel = next((steps[n].place for n in reversed(order) if steps[n].kind == LEG), "")
            last = steps[order[-1]].place if windowed and order else ""
            if (have, tunnel, last) in closed:
                continue
            closed.add((have, tunnel, last))
            if len(have) == len(steps):
                return [steps[number] for number in order]
            if have not in known:
                done = start | {steps[number] for number in order}
                needed = self.looks.between.needed_before
                left = (
                    step
                    for step in steps
                    if ranks[step] not in have and needed.get(step, done) <= done
                )
                moves = {ranks[step]: self._moves(done, step) for step in left}
                known[have] = self._waiting(done), moves
            waiting, moves = known[have]
            for rank, price in moves.items():
                step = steps[rank]
                price += waiting * (self.gaps.factor(last, step.place) if last else 1.0)
                if step.kind == LEG and tunnel not in ("", step.place):
                    price += HAND_SECONDS
                then = self.gaps.end(moment, step.place) if windowed else moment
                heapq.heappush(queue, (round(total + price, DIGITS), then, (*order, rank)))
        return []

    def _moves(self, done: Done, step: Step) -> float:
        return _broken(self.looks, done, step) + MOVE_SECONDS * _moved(self.looks, done, step)

    def _waiting(self, done: Done) -> float:
        """What a state costs for the time of a step."""
        looks = self.looks
        return STEP_SECONDS * looks.price(done) + FULL_SECONDS * looks.overfull(done)

    def _cheapest(self, done: Done, label: str) -> list[Step]:
        """The better order of both ends of a tunnel or circuit, the state after both included."""

        def price(steps: list[Step]) -> float:
            cost = cost_of(self.looks, steps, done, self.gaps).total
            return cost + self._waiting(done | set(steps))

        return min(_ways_of(self.looks, label), key=price)

    def _by_rank(self, start: Done, labels: Iterable[str]) -> list[Step]:
        """What is new first, what goes last; in between those that carry nothing now."""
        between, ways = self.looks.between, set(self.looks.of(start).works.values())

        def rank(label: str) -> tuple[int, bool]:
            old, new = (label in s.index.by_label for s in (between.before, between.after))
            return (0 if not old else 2 if not new else 1), label in ways

        done: list[Step] = []
        for label in sorted(labels, key=rank):
            done += self._cheapest(start | set(done), label)
        return done


def _ways_of(looks: Outlooks, label: str) -> list[list[Step]]:
    """The orders in which the ends of one may be changed: the cloud's first, or the gateway's."""
    mine = [s for s in looks.between.steps if s.leg == label]
    known = {*looks.between.before.clouds, *looks.between.after.clouds}
    clouds = [s for s in mine if s.place in known]
    others = [s for s in mine if s not in clouds]
    return [[*clouds, *others], [*others, *clouds]] if clouds and others else [mine]
