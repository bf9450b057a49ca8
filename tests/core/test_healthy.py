"""Designs drawn from numbers: nothing is wrong with them, and every stage of the tool agrees."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace
from functools import partial

import pytest

from obrin.core.address.prefix import Address, Prefix
from obrin.core.catalogue.offering import PRACTICE_CLOUD
from obrin.core.check.finding import Severity
from obrin.core.check.whole import check
from obrin.core.drill.elements import elements
from obrin.core.drill.sweep import Sweep
from obrin.core.handover.ends.agreed import agreements, lines
from obrin.core.handover.pack import PackMaker, gateways_of
from obrin.core.handover.secrets import Secrets
from obrin.core.handover.sheet.context import template_context
from obrin.core.handover.standard.keys import CertificateFiles
from obrin.core.ipsec.shared_keys import make_key
from obrin.core.reach.matrix import matrix
from obrin.core.reach.model import ReachModel
from obrin.core.reach.trace import far_key, stopped, there_and_back
from obrin.core.routing.against_dump import differences, learned
from obrin.core.routing.path import Path
from obrin.core.settle.explain import explain
from obrin.core.settle.settle import settle
from obrin.core.settled.building import build_settled
from obrin.core.settled.model import Settled
from obrin.core.space.chart import cells, chart
from obrin.core.space.pools import overlapping, pool_uses
from obrin.core.space.view import space_view
from obrin.core.space.why import chosen_from, excluded_by
from tests.doubles import design_of, seeded, settled_of
from tests.healthy import Healthy

TRUE_OF_DEVICES = {"tunnel-asleep"}
"""Warnings that a device deserves whatever the design is."""


def secrets_of(settled: Settled) -> Secrets:
    keys = {t.label: make_key(seeded(n)) for n, t in enumerate(settled.shared_secrets())}
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
    table = {(c.source, c.destination): c for c in matrix(model, closed=True)}
    for wish in settled.expectations:
        assert not table[wish.source.whole, wish.destination.whole].broken
        far = far_key(settled, wish)
        assert (there_and_back(model, wish)[0].arrived in (far, None)) or wish.must == "not"
    assert secrets.missing(settled) == []
    assert Secrets().missing(settled) or not settled.links
    for place in gateways_of(settled):
        assert list(differences(settled, place, told_as_modelled(settled, place))) == []
    view = space_view(settled, choices, PRACTICE_CLOUD)
    uses = pool_uses(settled, view)
    assert all(0 <= use.used <= use.size for use in uses)
    for key in choices:
        explained = explain(
            design,
            PRACTICE_CLOUD,
            choices,
            key,
            chosen_from(settled, choices, key),
            partial(excluded_by, view, key),
        )
        assert explained.decided
        assert not explained.candidates or explained.candidates[-1].value
    drawn = chart(settled, view, tuple(overlapping(view)))
    assert all(len(cells(lane, 60)) == 60 for lane in (*drawn.pools, *drawn.holders))
    assert all("guests" in one.label for one, _ in overlapping(view)), seed


def told_as_modelled(settled: Settled, place: str) -> Callable[[Address], Mapping[Prefix, Path]]:
    """A router's table as it would be dumped if the model is right."""
    told: dict[Address, dict[Prefix, Path]] = {}
    for prefix, candidates in learned(settled, place).items():
        for candidate in candidates:
            leg = settled.leg(candidate.peer.name)
            end = leg.site_inside if place in settled.clouds else leg.cloud_inside
            told.setdefault(end, {})[prefix] = candidate.path
    return lambda address: told.get(address, {})


def test_a_table_that_differs_from_the_model_is_reported_by_prefix_and_attribute() -> None:
    settled = settled_of()
    right = told_as_modelled(settled, "quay-gw")
    (prefix,) = learned(settled, "quay-gw")
    changes = {
        "missing": lambda paths: {},
        "unexpected": lambda paths: paths | {prefix.widened(8): next(iter(paths.values()))},
        "AS path 9, the model has": lambda paths: {
            p: replace(path, as_path=(9,)) for p, path in paths.items()
        },
        "next hop 2001:db8::9, the model": lambda paths: {
            p: replace(path, next_hop=0x20010DB8 << 96 | 9) for p, path in paths.items()
        },
        "next hop 0.0.0.9, the model": lambda paths: {
            p: replace(path, next_hop=9) for p, path in paths.items()
        },
        "local preference 7, the model": lambda paths: {
            p: replace(path, local_pref=7) for p, path in paths.items()
        },
        "AS path empty": lambda paths: {p: replace(path, as_path=()) for p, path in paths.items()},
    }
    for words, change in changes.items():
        found = list(differences(settled, "quay-gw", lambda a, c=change: c(right(a))))
        assert len(found) == 2, words
        assert all(words in f"{d.what} {d.text}" for d in found)
