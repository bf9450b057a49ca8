"""What makes hosts leave one gateway for another, as the design says it: in the model, in drills, in
the steps of a gateway; and what is assumed where it does not."""

from __future__ import annotations

import pytest

from obrin.core.drill.assumed import assumptions
from obrin.core.drill.elements import Element, lost_ways
from obrin.core.drill.outage import Predictor
from obrin.core.drill.sweep import Sweep
from obrin.core.handover.sheet.steps import steps
from obrin.core.known import NotKnown, all_of, known
from obrin.core.reach.model import ReachModel
from obrin.core.reach.paths import path_there_and_back
from tests.doubles import settled_of

TWO = """\
obrin: 1
name: two
sites:
  quay:
    networks: {desks: 10.20.0.0/22}
    internal-bgp: INTERNAL
    FOLLOW
    gateways:
      east: {as: 64512, uplinks: {fibre: {address: 192.0.2.10, provider: one}}}
      west: {as: 64512, uplinks: {radio: {address: 198.51.100.20, provider: two}}}
clouds:
  apps:
    subnets: {web: {hosts: 100}}
links:
  by-east:
    site: quay
    cloud: apps
    bgp: {hold-time: 6 s}
    tunnels: {a: {gateway: east, uplink: fibre, instance: 1}}
  by-west:
    site: quay
    cloud: apps
    bgp: {hold-time: 6 s}
    tunnels: {b: {gateway: west, uplink: radio, instance: 2}}
expectations:
  - {from: quay/desks, to: apps/web, flow: tcp/443, must: work}
"""
UPLINK, GATEWAY = Element("uplink", "east/fibre"), Element("gateway", "east")
CASES = [
    # follow, internal BGP, works without the uplink, works without the gateway
    ("tunnels", False, True, True),
    ("gateways", False, False, True),
    ("nothing", False, False, False),
    ("tunnels", True, True, True),
    ("gateways", True, True, True),
    ("nothing", True, True, False),
]


def two(follow: str, internal: bool) -> str:
    text = TWO.replace("INTERNAL", str(internal).lower())
    return text.replace("FOLLOW", f"hosts-follow: {follow}" if follow else "")


@pytest.mark.parametrize(("follow", "internal", "without_uplink", "without_gateway"), CASES)
def test_the_model_goes_by_what_the_design_says(
    follow: str, internal: bool, without_uplink: bool, without_gateway: bool
) -> None:
    settled = settled_of(two(follow, internal))
    (wish,) = settled.own_expectations()
    whole, sweep = ReachModel(settled), Sweep(settled)
    for element, works in ((UPLINK, without_uplink), (GATEWAY, without_gateway)):
        model = whole.without(lost_ways(settled, [element]))
        ends = (wish.source, None), (wish.destination, None)
        assert path_there_and_back(model, *ends, wish.flow).good is works
        assert bool(sweep.try_one((element,)).lost) is not works


def test_what_is_not_said_is_an_assumption_with_a_name() -> None:
    settled = settled_of(two("", False))
    (text,) = assumptions(settled)
    assert "sites.quay.hosts-follow" in text
    assert not list(assumptions(settled_of(two("gateways", False))))


def test_gateways_that_speak_internal_bgp_get_loopbacks() -> None:
    settled = settled_of(two("gateways", True))
    held = [settled.gateways[name].loopback for name in ("east", "west")]
    assert None not in held
    assert len(set(held)) == 2
    assert settled_of(two("gateways", False)).gateways["east"].loopback is None


@pytest.mark.parametrize(
    ("follow", "words"),
    [
        ("", "not known. The design assumes"),
        ("tunnels", "or has lost its tunnels"),
        ("gateways", "prefer east"),
        ("nothing", "Have hosts keep east"),
    ],
)
def test_the_steps_of_a_gateway_say_it(follow: str, words: str) -> None:
    settled = settled_of(two(follow, False))
    assert words in steps(settled, "east", Predictor(settled))


def test_not_known_is_neither_yes_nor_no() -> None:
    unsaid = NotKnown("nobody said")
    with pytest.raises(TypeError, match="nobody said"):
        bool(unsaid)
    assert all_of([True, unsaid, False]) is False
    assert all_of([]) is True
    assert all_of([True, unsaid, NotKnown("x"), unsaid]) == NotKnown("nobody said; x")
    assert known(unsaid, 3) == 3
    assert known(0, 3) == 0
