"""Gateways into which people typed what they were handed, among packets: a link from nothing, and changes."""

from __future__ import annotations

import pytest

from obrin.core.change.groups import Groups
from obrin.core.change.order import best_order
from obrin.core.change.plan import make_plan
from obrin.core.change.runbook import runbooks
from obrin.core.change.states import READY, Step
from obrin.core.handover.sheet.blocks import markdown
from obrin.core.handover.sheet.sheet import value_sheet
from obrin.core.handover.standard.device import encode
from obrin.core.settled.model import Settled
from obrin.device.standard.state import session_states
from obrin.live.reshape.work import gateway_work
from tests.core.test_typed_changes import sheet_of, steps_by_number
from tests.doubles import DESIGN, settled_of
from tests.live.changes import both_settled
from tests.live.reshaping import Reshaped
from tests.live.test_kinds_of_change import CROSSING, KINDS
from tests.live.test_virtual_world import as_expected
from tests.live.test_world_and_model import THREE_SITES
from tests.live.virtual_world import VirtualWorld
from tests.typist.device import configured
from tests.typist.hands import type_step
from tests.typist.screen import typed

SOME = (
    "BGP to static", "a second tunnel", "a second gateway", "gateway to hub", "renumbering a network",
    "peers beyond the tunnels moved inside", "another suite", "IPv6 added", "a new site",
)  # fmt: skip


class TypedWorld(VirtualWorld):
    def _hand(self, gateway, config, keys) -> None:
        screen = typed(markdown(value_sheet(self.settled, gateway)))
        super()._hand(gateway, encode(configured(screen)), keys)


class TypedChange(Reshaped):
    """Site gateways are changed by typists."""

    def __init__(self, before: Settled, after: Settled) -> None:
        self.screens = {
            name: sheet_of(before, name) for name in {**before.gateways, **after.gateways}
        }
        plan = make_plan(before, after)
        by_number = steps_by_number(runbooks(plan))
        self.told = {planned.step: by_number[planned.number] for planned in plan.steps}
        super().__init__(before, after)

    def do(self, step: Step) -> None:
        if step.place not in self.screens:
            super().do(step)
            return
        self.done |= {step}
        type_step(self.screens[step.place], self.told[step])
        _, keys = gateway_work(self.between, step.place, self.done, self.secrets)
        self.world._hand(step.place, encode(configured(self.screens[step.place])), keys)


@pytest.mark.parametrize(
    "text", [DESIGN, THREE_SITES, CROSSING], ids=["one site", "three sites", "crossing"]
)
def test_what_was_typed_from_nothing_comes_up_and_does_what_is_expected(text: str) -> None:
    world = TypedWorld(settled_of(text))
    world.run(25.0)
    plain = VirtualWorld(world.settled)
    plain.run(25.0)
    assert as_expected(world) == as_expected(plain)
    across = [wish.destination.is_internet for wish in world.settled.expectations]
    assert [ok or out for ok, out in zip(as_expected(world), across, strict=True)] == [True] * len(
        across
    )
    states = [
        state for router in world.routers.values() for state in session_states(router, world.now)
    ]
    assert {state["state"] for state in states} == {"established"}


@pytest.mark.parametrize("name", SOME)
@pytest.mark.parametrize("back", [False, True], ids=["there", "back"])
def test_a_change_that_is_typed_does_what_is_said_of_every_state(name: str, back: bool) -> None:
    pair = KINDS[name][::-1] if back else KINDS[name]
    changed = TypedChange(*both_settled(*pair))
    assert changed.differences() == []
    for step in best_order(Groups(changed.between.before, changed.between.after)):
        if step not in changed.done:
            assert step.kind != READY
            changed.do(step)
            assert changed.differences() == [], step.name
