"""What goes wrong on the way to a design, as findings: each thing once, at its place in the file."""

from __future__ import annotations

from dataclasses import replace

import pytest

from obrin.core.change.plan import Plan, make_plan
from obrin.core.check.finding import Finding, Severity
from obrin.core.check.upkeep.changing import changing
from obrin.core.check.whole import check
from obrin.core.settled.model import Settled
from tests.core.test_change import ONE
from tests.doubles import swap
from tests.live.changes import both_settled
from tests.live.test_kinds_of_change import WAYS

STATIC_ALONE = swap(("bgp: {hold-time: 6 s}", "routing: static"), text=ONE)
NARROW = (
    ("provider: two}", "provider: two, rate: 10 Mbit/s}"),
    ("flow: tcp/443, must: work", "flow: tcp/443, load: 20 Mbit/s, must: work"),
)
SUITE = ("bgp: {hold-time: 6 s}", "bgp: {hold-time: 6 s}\n    suite: common")


def found(before: str, after: str) -> tuple[Plan, Settled, dict[str, list[Finding]]]:
    designs = both_settled(before, after)
    plan, by_code = make_plan(*designs), dict[str, list[Finding]]()
    for finding in changing(plan, *designs):
        by_code.setdefault(finding.code, []).append(finding)
    return plan, designs[1], by_code


@pytest.mark.parametrize(("name", "pair"), WAYS)
def test_findings_are_what_the_plan_says(name: str, pair: tuple[str, str]) -> None:
    plan, _, by_code = found(*pair)
    assert ("change-loses" in by_code) is any(p.lost for p in plan.steps)
    assert ("change-opens" in by_code) is any(p.opened for p in plan.steps)
    assert ("change-overloads" in by_code) is any(p.too_much for p in plan.steps)
    assert len(by_code.get("change-waits", ())) == sum(len(p.waits) for p in plan.steps)
    assert ("change-as-number" in by_code) is (name == "the site's AS")


def test_a_loss_is_reported_once_with_its_steps_and_what_to_do_first() -> None:
    plan, _, by_code = found(ONE, STATIC_ALONE)
    held = [p.number for p in plan.steps if p.lost]
    (finding,) = by_code["change-loses"]
    assert f"after step {held[0]}, until step {held[-1] + 1}: " in finding.cause
    assert finding.place == ("links", "quay-apps")
    assert finding.severity == Severity.WARNING
    assert finding.fix.startswith("keep a second tunnel")


def test_what_is_let_in_is_an_error() -> None:
    designs = both_settled(swap(), swap(("bgp: {hold-time: 6 s}", "routing: static")))
    plan = make_plan(*designs)
    flow = plan.flows[0]
    steps = [replace(p, opened=(flow,) if p.number in (1, 2, 4) else ()) for p in plan.steps]
    opened = [
        f for f in changing(replace(plan, steps=tuple(steps)), *designs) if f.code == "change-opens"
    ]
    assert [flow.words in f.cause for f in opened] == [True, True]
    assert "after step 1, until step 3" in opened[0].cause
    assert {f.severity for f in opened} == {Severity.ERROR}


def test_too_much_meanwhile() -> None:
    _, _, by_code = found(swap(*NARROW), swap(*NARROW, SUITE))
    (finding,) = by_code["change-overloads"]
    assert "uplink quay-gw/radio gets 20 Mbit/s, it carries 10" in finding.cause


def test_who_has_to_know_of_another_as_number() -> None:
    gateway = swap(("      quay-gw:\n", "      quay-gw:\n        as: 65010\n"))
    (finding,) = found(swap(), gateway)[2]["change-as-number"]
    assert finding.place == ("sites", "quay", "gateways", "quay-gw", "as")
    assert "to 65010, and apps expects " in finding.cause
    cloud = swap(("  apps:\n", "  apps:\n    gateway: {as: 65020}\n"))
    (finding,) = found(swap(), cloud)[2]["change-as-number"]
    assert finding.place == ("clouds", "apps", "gateway", "as")
    assert "to 65020, and quay expects " in finding.cause
    static = (("bgp: {hold-time: 6 s}", "routing: static"),)
    assert "change-as-number" not in found(swap(*static), swap(*static, text=cloud))[2]


def test_whoever_answers_for_a_loss_does_so_where_somebody_looks() -> None:
    accept = (
        "\nexpectations:\n",
        "\naccepted-findings:\n  - {finding: change-loses, at: links.quay-apps, because: b, by: c}\n"
        "expectations:\n",
    )
    designs = both_settled(ONE, swap(accept, text=STATIC_ALONE))
    lost = list(changing(make_plan(*designs), *designs))
    told = {f.code: f for f in check(designs[1], change=lost)}
    assert told["change-loses"].accepted is not None
    assert "acceptance-unused" not in told
    assert "acceptance-unused" not in {f.code for f in check(designs[1])}
    assert "acceptance-unused" in {f.code for f in check(designs[1], change=[])}
