"""Every kind of change is planned: each step once, what is lost only where it is known to be."""

from __future__ import annotations

import pytest

from obrin.core.change.plan import make_plan
from obrin.core.change.states import Between
from tests.live.changes import both_settled
from tests.live.test_kinds_of_change import LOSES, WAYS


@pytest.mark.parametrize(("name", "pair"), WAYS)
def test_a_kind_of_change_is_planned(name: str, pair: tuple[str, str]) -> None:
    before, after = both_settled(*pair)
    plan = make_plan(before, after)
    steps = Between(before, after).steps
    assert sorted(p.step.name for p in plan.steps) == sorted(step.name for step in steps)
    assert plan.loses() is (name in LOSES)
    assert all(p.look and p.owner for p in plan.steps)
    assert make_plan(after, after).steps == ()
