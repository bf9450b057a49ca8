"""Designs drawn from numbers: nothing is wrong with them, and every stage of the tool agrees."""

from __future__ import annotations

import pytest

from obrin.core.catalogue.offering import PRACTICE_CLOUD
from obrin.core.check import check
from obrin.core.check.finding import Severity
from obrin.core.drill.elements import elements
from obrin.core.drill.sweep import Sweep
from obrin.core.handover.agreed import agreements, lines
from obrin.core.handover.context import template_context
from obrin.core.handover.pack import PackMaker, gateways_of
from obrin.core.handover.secrets import CertificateFiles, Secrets
from obrin.core.ipsec.shared_keys import make_key
from obrin.core.reach.matrix import matrix
from obrin.core.reach.model import ReachModel
from obrin.core.reach.trace import stopped, there_and_back
from obrin.core.settle.settle import settle
from obrin.core.settled.building import build_settled
from obrin.core.settled.model import Settled
from obrin.core.space.chart import cells, chart
from obrin.core.space.pools import overlapping
from obrin.core.space.view import space_view
from tests.doubles import design_of, seeded, settled_of
from tests.healthy import Healthy

TRUE_OF_DEVICES = {"tunnel-asleep"}
"""Warnings that a device deserves whatever the design is."""


def secrets_of(settled: Settled) -> Secrets:
    keys = {t.label: make_key(seeded(n)) for n, t in enumerate(settled.tunnels())}
    files = CertificateFiles("chain", "key", "authorities", "lists")
    return Secrets(keys, dict.fromkeys(settled.certified(), files))


def say_nothing(seed: int) -> None:
    drawn = Healthy(seed)
    settled = settled_of(str(drawn))
    found = [
        f
        for f in check(settled, PRACTICE_CLOUD, secrets_of(settled))
        if f.severity > Severity.NOTE and f.code not in TRUE_OF_DEVICES
    ]
    assert not found, (seed, drawn.shape, found)


@pytest.mark.parametrize("start", range(0, 100, 20))
def test_nothing_is_wrong_with_a_healthy_design(start: int) -> None:
    for seed in range(start, start + 20):
        say_nothing(seed)


@pytest.mark.slow
@pytest.mark.parametrize("start", range(100, 2100, 100))
def test_nothing_is_wrong_with_many(start: int) -> None:
    for seed in range(start, start + 100):
        say_nothing(seed)


@pytest.mark.parametrize("start", range(0, 40, 8))
def test_every_stage_agrees_about_a_healthy_design(start: int) -> None:
    for seed in range(start, start + 8):
        every_stage(seed)


def every_stage(seed: int) -> None:
    """Agreement, reach, packs and what is read back of them, drills, the map of space."""
    design = design_of(str(Healthy(seed)))
    choices = settle(design, {}, PRACTICE_CLOUD)
    assert settle(design, choices, PRACTICE_CLOUD) == choices
    settled = build_settled(design, choices)
    for agreement in agreements(settled):
        assert agreement.good
        assert not [line for line in lines(settled, agreement) if "fails" in line.follows]
    model = ReachModel(settled)
    for wish in settled.expectations:
        assert (stopped(*there_and_back(model, wish)) == "") is (wish.must == "work"), seed
    maker, secrets = PackMaker(settled), secrets_of(settled)
    for place in gateways_of(settled):
        pack = maker.make(place, secrets)
        assert pack.mirror.count("DIFFERENT") == 0
        told = template_context(settled, place, None)
        assert {t["name"] for t in told["tunnels"]} == {t.label for t in settled.tunnels_at(place)}
    assert maker.mirror_faults() == []
    sweep = Sweep(settled, PRACTICE_CLOUD)
    for element in elements(settled, ("tunnel", "uplink", "provider", "instance")):
        # `check` said that nothing of these is alone: then losing one loses no flow.
        outcome = sweep.try_one((element,))
        assert not outcome.lost, (seed, element)
        assert outcome.seconds is not None
    table = {(c.source, c.destination): c for c in matrix(model)}
    for wish in settled.expectations:
        assert not table[wish.source, wish.destination].broken
    view = space_view(settled, choices, PRACTICE_CLOUD)
    drawn = chart(settled, view)
    assert all(len(cells(lane, 60)) == 60 for lane in (*drawn.pools, *drawn.holders))
    assert all("guests" in one.label for one, _ in overlapping(view)), seed
