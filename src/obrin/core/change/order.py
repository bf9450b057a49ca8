"""An order of steps in which least is lost.

A small change is searched whole. In a large one, making ready comes first and clearing away last:
they hardly ever take away what is used (but where a speaker gets another AS number, which it has
for all of its sessions at once). Tunnels that share no site are looked at apart then; the few of a
site are searched whole, the many of a large one by rank, both ends of each one after the other.

A state costs the flows that are not as wished in it, for as long as the next step takes; a move
costs what traffic loses while it goes over to another tunnel.
"""

from __future__ import annotations

import heapq
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass

from obrin.core.change.outlook import Outlooks
from obrin.core.change.states import CLEAR, LEG, READY, Done, Step

STEP_SECONDS = 60.0
"""What one step is taken to last, for choosing; by hand or by a cloud, it is minutes."""
MOVE_SECONDS = 0.01
"""Of a flow that goes over to another tunnel, for choosing between orders that lose nothing."""
MOST_EXACT = 12
"""Steps of a group that are searched whole: 4096 sets."""


@dataclass(frozen=True, slots=True)
class Cost:
    """Seconds of flows that are lost, and flows that move."""

    lost: float = 0.0
    moved: int = 0

    @property
    def total(self) -> float:
        return self.lost + self.moved * MOVE_SECONDS


def best_order(looks: Outlooks) -> list[Step]:
    """All steps, in order."""
    steps, groups = looks.between.steps, list(_groups(looks))
    if len(steps) <= MOST_EXACT:
        legs = [s for group in groups for label in group for s in steps if s.leg == label]
        first = [s for s in steps if s.kind == READY]
        return _searched(looks, frozenset(), [*first, *legs, *_clearing(steps)])
    heavy = [s for s in steps if s.kind == READY and looks.between.renumbers(s.place)]
    done = [step for step in steps if step.kind == READY and step not in heavy]
    for group in groups:
        mine = [s for s in heavy if len(groups) == 1 or _is_at(looks, s.place, group)]
        heavy = [s for s in heavy if s not in mine]
        done += _ordered(looks, frozenset(done), group, mine)
    return [*done, *heavy, *_clearing(steps)]


def _clearing(steps: list[Step]) -> list[Step]:
    """Sites before clouds."""
    return [step for step in reversed(steps) if step.kind == CLEAR]


def _is_at(looks: Outlooks, place: str, labels: list[str]) -> bool:
    """Whether a place is a gateway of the site that these are of."""
    found = (s.gateways.get(place) for s in (looks.between.after, looks.between.before))
    sites = {gateway.site for gateway in found if gateway is not None}
    return looks.between.site_of(labels[0]) in sites


def cost_of(looks: Outlooks, order: Sequence[Step], start: Done = frozenset()) -> Cost:
    """What an order loses in all, from a state on; in the last state nothing is waited for."""
    lost, moved, done = 0.0, 0, start
    before = looks.of(done)
    for number, step in enumerate(order, 1):
        done |= {step}
        now = looks.of(done)
        moved += sum(1 for flow, way in now.works.items() if before.works.get(flow, way) != way)
        if number < len(order):
            lost += STEP_SECONDS * looks.wrong(done)
        before = now
    return Cost(lost, moved)


def _groups(looks: Outlooks) -> Iterator[list[str]]:
    """Labels of what changes, those of one site together; in the order of the designs."""
    found: dict[str, list[str]] = {}
    changed = {step.leg for step in looks.between.steps if step.kind == LEG}
    for label in looks.between.legs:
        if label in changed:
            found.setdefault(looks.between.site_of(label), []).append(label)
    yield from found.values()


def _ordered(looks: Outlooks, done: Done, labels: list[str], heavy: list[Step]) -> list[Step]:
    """`heavy` are further steps that take something away."""
    steps = [step for label in labels for step in looks.between.steps if step.leg == label]
    if len(steps) + len(heavy) <= MOST_EXACT:
        return _searched(looks, done, [*heavy, *steps])
    return [*heavy, *_by_rank(looks, done | set(heavy), labels)]


def _searched(looks: Outlooks, start: Done, steps: list[Step]) -> list[Step]:
    """The cheapest of all orders, by Dijkstra over the sets of steps that are done; of those that
    cost the same, the first in the order of the designs."""
    ranks = {step: number for number, step in enumerate(steps)}
    queue: list[tuple[float, tuple[int, ...]]] = [(0.0, ())]
    closed: set[frozenset[int]] = set()
    while queue:
        total, order = heapq.heappop(queue)
        have = frozenset(order)
        if have in closed:
            continue
        closed.add(have)
        if len(have) == len(steps):
            return [steps[number] for number in order]
        done = start | {steps[number] for number in order}
        for step in (s for s in steps if ranks[s] not in have):
            price = _price(looks, done, [step])
            heapq.heappush(queue, (total + price, (*order, ranks[step])))
    return []


def _price(looks: Outlooks, done: Done, steps: list[Step]) -> float:
    """Of doing steps one after the other, the state after the last included."""
    last = STEP_SECONDS * looks.wrong(done | set(steps))
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
