"""How much of a year flows work: weighed by the states that make a difference, against weighing
every state there is, on drawn designs."""

from __future__ import annotations

import itertools
import math
import random

import pytest

from obrin.core.drill import availability as module
from obrin.core.drill.availability import Repair, _wilson, availability, repairs_of
from obrin.core.drill.deciding import Decided, Things
from obrin.core.drill.elements import elements
from obrin.core.drill.sweep import Sweep
from obrin.core.drill.together import groups_of
from tests.doubles import settled_of
from tests.live.buildable import Drawn


@pytest.mark.parametrize("first", range(0, 60, 10))
def test_any_state_is_for_a_flow_one_of_the_few_that_make_a_difference(first: int) -> None:
    for seed in range(first, first + 10):
        rng = random.Random(seed)
        sweep = Sweep(settled_of(Drawn(seed).text))
        things = Things(sweep, elements(sweep.settled))
        decided = Decided(sweep, things)
        for _ in range(40):
            count = min(rng.choice((1, 2, 2, 3, 4, 6)), len(things.ways))
            failed = rng.sample(range(len(things.ways)), count)
            changed = sweep.changed([rng.choice(things.elements[n]) for n in failed])
            for flow, (way, _) in enumerate(sweep.flows):
                node, _ = decided.walk(flow, failed)
                truth = changed.get(flow, way)
                assert node.works is not bool(truth.stopped), (seed, failed, flow)
                if node.works:
                    assert (node.way.there, node.way.back) == (truth.there, truth.back)


def every_state(sweep: Sweep, down: dict) -> list[float]:
    """The truth, state by state: of each flow, and of all at once."""
    shares = [0.0] * (len(sweep.flows) + 1)
    for state in itertools.product((False, True), repeat=len(down)):
        pairs = list(zip(down.items(), state, strict=True))
        weight = math.prod(p if bad else 1 - p for (_, p), bad in pairs)
        changed = sweep.changed([element for (element, _), bad in pairs if bad])
        works = [not changed.get(n, way).stopped for n, (way, _) in enumerate(sweep.flows)]
        for number, good in enumerate([*works, all(works)]):
            shares[number] += weight * good
    return shares


@pytest.mark.parametrize("seed", range(12))
def test_shares_are_those_of_weighing_every_state(seed: int) -> None:
    rng = random.Random(seed)
    sweep = Sweep(settled_of(Drawn(seed).text))
    some = rng.sample(known := elements(sweep.settled), min(8, len(known)))
    repairs = {element: Repair(rng.uniform(2, 99), rng.uniform(1, 9)) for element in some}
    truth = every_state(sweep, {element: repair.down for element, repair in repairs.items()})
    found = availability(sweep, repairs, draws=0, seed=0)
    assert [a.share for a in found] == pytest.approx(truth, abs=1e-12)
    assert all(a.low == a.high for a in found)


def test_where_too_much_hangs_together_all_at_once_is_drawn(monkeypatch) -> None:
    sweep = Sweep(settled_of())
    repairs = repairs_of(elements(sweep.settled), lambda _kind: Repair(90.0, 10.0))
    exact = availability(sweep, repairs, draws=0, seed=0)[-1]
    monkeypatch.setattr(module, "groups_of", lambda needs: None)
    drawn = availability(sweep, repairs, draws=20_000, seed=3)[-1]
    assert drawn.low < exact.share < drawn.high < drawn.low + 0.02
    assert availability(sweep, repairs, draws=0, seed=3)[-1].low == 0.0


def test_what_many_need_is_set_apart() -> None:
    line, needs = 7, [{7, *range(10 + 30 * n, 40 + 30 * n)} for n in range(3)]
    groups = groups_of(needs)
    assert groups is not None
    assert groups.shared == (line,)
    assert sorted(groups.flows) == [(0,), (1,), (2,)]
    assert groups_of([set(range(100)), set(range(50, 150))]) is None


def test_many_states_are_weighed_until_the_rest_is_next_to_nothing(monkeypatch) -> None:
    from obrin.core.drill import weighing

    sweep = Sweep(settled_of())
    repairs = repairs_of(elements(sweep.settled), lambda _kind: Repair(99.0, 1.0))
    exact = availability(sweep, repairs, draws=0, seed=0)
    monkeypatch.setattr(weighing, "ALL_UP_TO", 0)
    monkeypatch.setattr(weighing, "CLOSE", 0.5)
    for one, other in zip(exact, availability(sweep, repairs, draws=0, seed=0), strict=True):
        assert other.low <= one.share <= other.high
    monkeypatch.setattr(weighing, "MOST_LOOKS", 3)
    for one, other in zip(exact, availability(sweep, repairs, draws=0, seed=0), strict=True):
        assert other.low <= one.share <= other.high
        assert other.low < other.high


def test_a_share_of_draws_has_an_interval() -> None:
    assert _wilson(0, 100)[0] == pytest.approx(0.0)
    assert _wilson(0, 0) == (0.0, 1.0)
    low, high = _wilson(50, 100)
    assert 0.40 < low < 0.5 < high < 0.60
