"""Every kind of change is planned: each step once, what is lost only where it is known to be."""

from __future__ import annotations

import itertools

import pytest

from obrin.core.change.outlook import Outlooks
from obrin.core.change.plan import make_plan
from obrin.core.change.states import CLEAR, READY, Between
from tests.doubles import DESIGN, swap
from tests.live.changes import both_settled
from tests.live.test_kinds_of_change import BGP, CLOUD, KINDS, LOSES, SITE, SITE_LINK, WAYS, WISHES


@pytest.mark.parametrize(("name", "pair"), WAYS)
def test_a_kind_of_change_is_planned(name: str, pair: tuple[str, str]) -> None:
    before, after = both_settled(*pair)
    plan = make_plan(before, after)
    steps = Between(before, after).steps
    assert sorted(p.step.name for p in plan.steps) == sorted(step.name for step in steps)
    assert plan.loses() is (name in LOSES)
    assert all(p.look and p.owner for p in plan.steps)
    assert make_plan(after, after).steps == ()


YARD = (
    SITE.replace("pier", "yard").replace("10.30.0", "10.31.0").replace("192.0.2.44", "192.0.2.45")
)
YARD_LINK = SITE_LINK.replace("pier", "yard").replace("      e:", "      f:")
PIER = swap(("clouds:\n", SITE + "clouds:\n"), (WISHES, SITE_LINK + WISHES))
BOTH_SITES = swap(
    ("clouds:\n", SITE + YARD + "clouds:\n"), (WISHES, SITE_LINK + YARD_LINK + WISHES)
)
SLOWER = "    bgp: {hold-time: 30 s}\n"
OTHER = {
    "hold time": (DESIGN, swap((BGP, SLOWER))),
    "a site summarised": (
        DESIGN,
        swap((BGP, "    bgp: {hold-time: 6 s, summaries: 10.20.0.0/20}\n")),
    ),
    "class raised": (DESIGN, swap((CLOUD, CLOUD + "    gateway: {throughput: 900 Mbit/s}\n"))),
    "provider changed": (DESIGN, swap(("provider: two", "provider: three"))),
    "two sites at once": (DESIGN, BOTH_SITES),
    "two sites changed": (PIER, PIER.replace(BGP, SLOWER)),
}
WANTED = {
    # kind: steps in order; `!` loses flows, `~` moves them; R makes ready, C clears away; rounds
    "a second tunnel": ("apps:b quay-gw:b", 1),
    "a second gateway": ("quay-gw2:R apps:b quay-gw2:b", 2),
    "a second gateway, undone": ("apps:b quay-gw2:b quay-gw2:C", 3),
    "gateway to hub": ("core:R apps:b core:b quay-gw:b quay-gw:a~ apps:a core:a~ apps:C", 8),
    "gateway to hub, undone": ("apps:R apps:a~ core:a quay-gw:a~ quay-gw:b apps:b core:b core:C", 8),
    "a site summarised": ("apps:b apps:a quay-gw:b quay-gw:a", 4),
    "renumbering a network": ("apps:R apps:b quay-gw:b quay-gw:R quay-gw:a apps:a quay-gw:C apps:C", 7),
    "renumbering a cloud": ("quay-gw:R apps:b quay-gw:b apps:R~ quay-gw:a apps:a~ quay-gw:C apps:C", 7),
    "one-to-one translation": ("apps:R apps:b! apps:a! quay-gw:b! quay-gw:a apps:C", 6),
    "certificates to keys": ("ledger:south hh-west:south hh-west:north~ ledger:north~", 4),
    "the site's AS": ("apps:b quay-gw:R~ apps:a~", 3),
    "hold time": ("apps:b apps:a quay-gw:b quay-gw:a", 4),
    "another suite": ("apps:b quay-gw:b quay-gw:a~ apps:a~", 4),
    "class raised": ("apps:R", 1),
    "a device of another profile": ("apps:b quay-gw:b quay-gw:a~ apps:a~", 4),
    "provider changed": ("", 0),
    "a circuit with the tunnels as backup": (
        "crossing:R crossing:circuit crossing:north crossing:south hh-east:circuit~ hh-east:north hh-west:south", 7,
    ),
    "a new site": ("pier-gw:R apps:e pier-gw:e", 2),
    "a new site, undone": ("apps:e pier-gw:e pier-gw:C", 3),
    "two sites at once": ("pier-gw:R yard-gw:R apps:e pier-gw:e apps:f yard-gw:f", 2),
    "two sites changed": ("apps:b apps:a quay-gw:b quay-gw:a apps:e pier-gw:e", 4),
    "IPv6 added": ("apps:R quay-gw:R apps:a quay-gw:a quay-gw:b apps:b", 5),
}  # fmt: skip
LETTERS = {READY: "R", CLEAR: "C"}


@pytest.mark.parametrize("name", WANTED)
def test_the_order_of_a_kind_and_what_it_costs(name: str) -> None:
    kind, _, undone = name.partition(", ")
    pair = {**KINDS, **OTHER}[kind]
    plan = make_plan(*both_settled(*(pair[::-1] if undone else pair)))
    said = " ".join(
        f"{p.step.place}:{LETTERS.get(p.step.kind, p.step.leg.rpartition('/')[2])}"
        f"{'!' if p.lost else ''}{'~' if p.moves else ''}"
        for p in plan.steps
    )
    assert (said, len(plan.rounds)) == WANTED[name]
    assert sorted(n for numbers in plan.rounds for n in numbers) == [p.number for p in plan.steps]


def test_the_steps_of_a_round_do_the_same_in_any_order() -> None:
    """Whatever of a round is done, and in which order: what works is what works in the plan."""
    for pair in ({**KINDS, **OTHER}[name.partition(", ")[0]] for name in WANTED):
        before, after = both_settled(*pair)
        plan, looks = make_plan(before, after), Outlooks(Between(before, after))
        done = frozenset()
        for numbers in plan.rounds:
            steps = [plan.steps[number - 1].step for number in numbers]
            wrong = max(looks.wrong(done), looks.wrong(done | set(steps)))
            for some in itertools.permutations(steps, min(2, len(steps))):
                assert looks.wrong(done | set(some)) <= wrong
            done |= set(steps)


def test_a_flow_is_elsewhere_until_it_is_back() -> None:
    plan = make_plan(*both_settled(*KINDS["another suite"]))
    flow = next(flow for flow in plan.flows if flow.must == "work")
    assert plan.elsewhere(flow) == [False, False, True, False]
