"""A change typed from the runbooks alone: after each step a device is what the model says of it, and after
the last its screen is that of a fresh sheet."""

from __future__ import annotations

import dataclasses
import random

import pytest
import yaml

from obrin.core.change.place_parts import put_together
from obrin.core.change.plan import make_plan
from obrin.core.change.runbook import runbooks
from obrin.core.change.states import Between
from obrin.core.handover.sheet.blocks import markdown
from obrin.core.handover.sheet.sheet import value_sheet
from obrin.core.handover.standard.device import DeviceConfig
from obrin.core.settled.model import Settled
from tests.live.buildable import Drawn
from tests.live.changes import both_settled, mutated
from tests.live.test_kinds_of_change import KINDS
from tests.typist.alike import differences, normal
from tests.typist.device import configured
from tests.typist.hands import Told, steps_of, type_step
from tests.typist.screen import Screen, typed
from tests.typist.words import number

NOT_TYPED = "Attached to hub"
"""That is done at the hub."""
WAYS = [
    pytest.param(pair, id=f"{name}{note}")
    for name, there in KINDS.items()
    for note, pair in (("", there), (", undone", there[::-1]))
]


def sheet_of(settled: Settled, place: str) -> Screen:
    there = place in settled.gateways or place in settled.clouds
    return typed(markdown(value_sheet(settled, place))) if there else Screen()


def steps_by_number(texts: dict[str, str], back: bool = False) -> dict[int, Told]:
    return {
        step.number: step
        for name, text in texts.items()
        if name.endswith(".md") and name.endswith("-back.md") is back
        for step in steps_of(text)
    }


def nameless(config: DeviceConfig) -> DeviceConfig:
    """What a rule is called does not matter."""
    rules = sorted((dataclasses.replace(rule, name="") for rule in config.filter.rules), key=repr)
    return dataclasses.replace(
        config, filter=dataclasses.replace(config.filter, rules=tuple(rules))
    )


def at_the_end(screen: Screen) -> tuple[dict, dict]:
    values = {
        key: number(text) if key[2].endswith("Lifetime") else text
        for key, text in screen.values.items()
        if key[2] != NOT_TYPED
    }
    return values, {name: sorted(rows) for name, rows in screen.rows.items() if rows}


def faults(before: Settled, after: Settled) -> list[str]:
    plan, between = make_plan(before, after), Between(before, after)
    screens = {place: sheet_of(before, place) for place in between.places}
    steps, found = steps_by_number(runbooks(plan)), []
    done, screens_before = frozenset(), []
    for planned in plan.steps:
        step, place = steps[planned.number], planned.step.place
        assert step.place == place
        done |= {planned.step}
        screens_before.append(screens[place].copy())
        type_step(screens[place], step)
        meant = nameless(normal(put_together(between.parts(place, done))))
        texts = differences(nameless(normal(configured(screens[place]))), meant)
        found += [f"{planned.step.name}{text}" for text in texts]
        found += [] if planned.lines else [f"{planned.step.name}: nothing is to be done"]
    for place in between.places:
        for one, two in zip(
            at_the_end(screens[place]), at_the_end(sheet_of(after, place)), strict=True
        ):
            keys = sorted(one.keys() | two.keys(), key=str)
            found += [
                f"{place}: {k}: {one.get(k)}, not {two.get(k)}"
                for k in keys
                if one.get(k) != two.get(k)
            ]
    back = steps_by_number(runbooks(plan), back=True)
    for planned, was in zip(reversed(plan.steps), reversed(screens_before), strict=True):
        place = planned.step.place
        type_step(screens[place], back[planned.number])
        if at_the_end(screens[place]) != at_the_end(was):
            found.append(f"{planned.step.name}: taken back, the screen is not as it was")
    return found


def drawn(seed: int) -> tuple[Settled, Settled]:
    rng, design = random.Random(seed), Drawn(seed)
    other, _ = mutated(design.data, rng)
    pair = design.text, yaml.safe_dump(other, sort_keys=False)
    return both_settled(*(pair if seed % 2 else pair[::-1]))


@pytest.mark.parametrize("pair", WAYS)
def test_every_kind_of_change_can_be_typed(pair: tuple[str, str]) -> None:
    assert faults(*both_settled(*pair)) == []


@pytest.mark.parametrize("seeds", [range(start, start + 15) for start in range(0, 60, 15)])
def test_drawn_changes_can_be_typed(seeds: range) -> None:
    assert [text for seed in seeds for text in faults(*drawn(seed))] == []


@pytest.mark.slow
@pytest.mark.parametrize("seeds", [range(start, start + 100) for start in range(1000, 3000, 100)])
def test_many_drawn_changes_can_be_typed(seeds: range) -> None:
    assert [text for seed in seeds for text in faults(*drawn(seed))] == []
