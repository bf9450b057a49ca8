"""An order of steps in which least is lost.

A small change is searched whole. In a large one, making ready comes first and clearing away last:
they hardly ever take away what is used (but where a speaker gets another AS number, which it has
for all of its sessions at once). Tunnels that share no site are looked at apart then; the few of a
site are searched whole, the many of a large one by rank, both ends of each one after the other.

A state costs the flows that are not as wished in it, for as long as the next step takes; much less,
but something, what gets more than it carries meanwhile; and a move what traffic loses while it goes
over to another tunnel.
"""

from __future__ import annotations

import heapq
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from obrin.core.change.groups import Groups
from obrin.core.change.outlook import Outlooks
from obrin.core.change.states import CLEAR, LEG, READY, Done, Step

STEP_SECONDS = 60.0
"""What one step is taken to last, for choosing; by hand or by a cloud, it is minutes."""
MOVE_SECONDS = 0.01
"""Of a flow that goes over to another tunnel, for choosing between orders that lose nothing."""
FULL_SECONDS = 0.6
"""Of a thing that gets more than it carries for one step, for choosing likewise: a loss is never
taken for it."""
KINDS = READY, LEG, CLEAR
HAND_SECONDS = 0.0005
"""Of going on with tunnels at another place, for choosing between orders that are alike in all
that: who has a step there, or a window, does what there is at once. Of twelve steps it is less than
one move."""
MOST_EXACT = 12
"""Steps of a group that are searched whole: 4096 sets."""


@dataclass(frozen=True, slots=True)
class Cost:
    """Seconds of flows that are lost, flows that move, and things times steps that they get too
    much for."""

    lost: float = 0.0
    moved: int = 0
    full: int = 0

    @property
    def total(self) -> float:
        return self.lost + self.moved * MOVE_SECONDS + self.full * FULL_SECONDS


def best_order(groups: Groups) -> list[Step]:
    """All steps, in order."""
    steps = groups.between.steps
    if len(groups.all) <= 1:
        return [step for group in groups.all for step in _whole(group.looks, steps)]
    heavy = (step for step in steps if step.kind == READY and _heavy(groups, step))
    apart = {*heavy, *(step for step in steps if _in_turn(groups, step))}
    ready = [step for step in steps if step.kind == READY and step not in apart]
    first, found = frozenset(ready), dict.fromkeys(ready)
    for group in groups.in_turn:
        steps_here = (step for step in group.looks.between.steps if step in group.steps)
        mine = [step for step in steps_here if step not in first]
        ordered = _part(group.looks, group.done | (first & group.steps), mine)
        found |= dict.fromkeys(s for s in ordered if s.kind != CLEAR or s in apart)
    found |= dict.fromkeys(step for step in steps if step.kind != CLEAR)
    return [*found, *(step for step in _clearing(steps) if step not in found)]


def _in_turn(groups: Groups, step: Step) -> bool:
    """Whether it waits for the window of one site: all that is done there is done in that."""
    alone = len(groups.by_step.get(step, ())) == 1
    return groups.by_window and groups.is_gateway(step.place) and alone


def _heavy(groups: Groups, step: Step) -> bool:
    """Whether making ready takes something away, at a gateway of one group."""
    return groups.between.renumbers(step.place) and len(groups.by_step.get(step, ())) == 1


def _whole(looks: Outlooks, steps: list[Step]) -> list[Step]:
    """A change that is looked at as one."""
    legs = [step for label in looks.between.legs for step in steps if step.leg == label]
    first = [step for step in steps if step.kind == READY]
    if len(steps) <= MOST_EXACT:
        return _searched(looks, frozenset(), [*first, *legs, *_clearing(steps)])
    heavy = [step for step in first if looks.between.renumbers(step.place)]
    ready = [step for step in first if step not in heavy]
    return [*ready, *_part(looks, frozenset(ready), [*heavy, *legs]), *_clearing(steps)]


def _part(looks: Outlooks, done: Done, steps: list[Step]) -> list[Step]:
    """What is left of a group once all is ready."""
    rising = sorted(steps, key=lambda step: KINDS.index(step.kind))
    if len(steps) <= MOST_EXACT:
        return _searched(looks, done, rising)
    heavy = [step for step in rising if step.kind == READY]
    labels = list(dict.fromkeys(step.leg for step in rising if step.kind == LEG))
    ordered = _by_rank(looks, done | set(heavy), labels)
    return [*heavy, *ordered, *(step for step in rising if step.kind == CLEAR)]


def _clearing(steps: list[Step]) -> list[Step]:
    """Sites before clouds."""
    return [step for step in reversed(steps) if step.kind == CLEAR]


def cost_of(looks: Outlooks, order: Sequence[Step], start: Done = frozenset()) -> Cost:
    """What an order loses in all, from a state on; in the last state nothing is waited for."""
    lost, moved, full, done = 0.0, 0, 0, start
    before = looks.of(done)
    for number, step in enumerate(order, 1):
        done |= {step}
        now = looks.of(done)
        moved += sum(1 for flow, way in now.works.items() if before.works.get(flow, way) != way)
        if number < len(order):
            lost += STEP_SECONDS * looks.wrong(done)
            full += looks.overfull(done)
        before = now
    return Cost(lost, moved, full)


def _searched(looks: Outlooks, start: Done, steps: list[Step]) -> list[Step]:
    """The cheapest of all orders, by Dijkstra over the sets of steps that are done and the place
    where a tunnel was changed last; of those that cost the same, the first in the order of the
    designs."""
    ranks = {step: number for number, step in enumerate(steps)}
    queue: list[tuple[float, tuple[int, ...]]] = [(0.0, ())]
    closed: set[tuple[frozenset[int], str]] = set()
    prices: dict[frozenset[int], dict[int, float]] = {}
    while queue:
        total, order = heapq.heappop(queue)
        have = frozenset(order)
        last = next((steps[n].place for n in reversed(order) if steps[n].kind == LEG), "")
        if (have, last) in closed:
            continue
        closed.add((have, last))
        if len(have) == len(steps):
            return [steps[number] for number in order]
        if have not in prices:
            done = start | {steps[number] for number in order}
            left = (step for step in steps if ranks[step] not in have)
            prices[have] = {ranks[step]: _price(looks, done, [step]) for step in left}
        for rank, price in prices[have].items():
            on = steps[rank].kind == LEG and last not in ("", steps[rank].place)
            total_then = total + price + (HAND_SECONDS if on else 0.0)
            heapq.heappush(queue, (total_then, (*order, rank)))
    return []


def _price(looks: Outlooks, done: Done, steps: list[Step]) -> float:
    """Of doing steps one after the other, the state after the last included."""
    after = done | set(steps)
    last = STEP_SECONDS * looks.wrong(after) + FULL_SECONDS * looks.overfull(after)
    return cost_of(looks, steps, done).total + last


def _ways_of(looks: Outlooks, label: str) -> list[list[Step]]:
    """The orders in which the ends of one may be changed: the cloud's first, or the gateway's."""
    mine = [s for s in looks.between.steps if s.leg == label]
    known = {*looks.between.before.clouds, *looks.between.after.clouds}
    clouds = [s for s in mine if s.place in known]
    others = [s for s in mine if s not in clouds]
    return [[*clouds, *others], [*others, *clouds]] if clouds and others else [mine]


def _cheapest(looks: Outlooks, done: Done, label: str) -> list[Step]:
    """The better order of both ends."""
    return min(_ways_of(looks, label), key=lambda steps: _price(looks, done, steps))


def _by_rank(looks: Outlooks, start: Done, labels: Iterable[str]) -> list[Step]:
    """What is new first, what goes last; in between those that carry nothing now."""
    ways = set(looks.of(start).works.values())

    def rank(label: str) -> tuple[int, bool]:
        old, new = (label in s.index.by_label for s in (looks.between.before, looks.between.after))
        return (0 if not old else 2 if not new else 1), label in ways

    done: list[Step] = []
    for label in sorted(labels, key=rank):
        done += _cheapest(looks, start | set(done), label)
    return done
