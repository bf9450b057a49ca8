"""Findings that somebody accepted, sessions that end beyond their tunnels, places of a family that
is left out, values as text, and what is sent to whoever helps."""

from __future__ import annotations

import dataclasses
import pickle
from datetime import UTC, date, datetime

import pytest
import yaml

from obrin.core.address.prefix import parse_prefix
from obrin.core.catalogue.offering import PRACTICE_CLOUD
from obrin.core.check.finding import Severity
from obrin.core.check.space.cures import trial
from obrin.core.check.space.spaces import contested
from obrin.core.check.tunnels.sessions import sessions
from obrin.core.check.upkeep.accepting import answered, seen_as
from obrin.core.check.whole import check
from obrin.core.crew import HERE
from obrin.core.design.places import NetworkRef
from obrin.core.design.reader import dotted
from obrin.core.drill.breaking import breaking
from obrin.core.drill.jobs import Ground, ground_of, outcomes
from obrin.core.drill.sweep import Sweep, failures
from obrin.core.errors import ObrinError
from obrin.core.gather.written import as_yaml
from obrin.core.handover.ends.said import session_entered
from obrin.core.settle.settle import settle
from obrin.core.settled.building import build_settled
from obrin.core.settled.leaving_out import left_out
from obrin.core.space.pools import overlapping
from obrin.core.space.remedies import remedies
from obrin.core.space.renumber import renumber_plan
from obrin.core.space.view import space_view
from tests.doubles import design_of, settled_of, swap
from tests.live.test_world_and_model import BEYOND, ONE

NOW = datetime(2026, 6, 1, tzinfo=UTC)


def test_what_is_accepted_is_marked_until_its_day_or_until_it_is_another() -> None:
    settled = settled_of()
    (finding, *_) = check(settled, now=NOW)
    said = {"finding": finding.code, "at": dotted(finding.place), "because": "agreed", "by": "Ann"}
    for more, day, holds in (
        ({}, None, True),
        ({"until": "2026-06-30"}, date(2026, 6, 1), True),
        ({"until": "2026-06-30"}, date(2026, 7, 1), False),
        ({"seen": seen_as(finding)}, None, True),
        ({"seen": "00000000"}, None, False),
    ):
        text = swap(("expectations:\n", f"accepted-findings: [{said | more}]\nexpectations:\n"))
        found = list(answered(settled_of(text), [finding], day))
        assert [f.accepted is not None for f in found] == [holds]
    text = swap(
        ("expectations:\n", f"accepted-findings: [{said | {'at': 'sites.x'}}]\nexpectations:\n")
    )
    unused = list(answered(settled_of(text), [finding], None))[-1]
    assert unused.code == "acceptance-unused"
    assert dotted(finding.place) in unused.fix
    (alone,) = answered(settled_of(text), [], None)
    assert "take it out" in alone.fix


@pytest.mark.parametrize(
    ("text", "codes"),
    [
        (ONE, set()),
        (BEYOND, set()),
        (ONE.replace("hold-time: 20 s", "hold-time: 6 s"), {"session-over-first"}),
        (ONE.replace("obrin: 1", "obrin: 1\nstack: dual"), {"next-hop-one-way"}),
        (ONE.replace("site-end: loopback, ", ""), {"peer-two-ways"}),
    ],
)
def test_sessions_that_end_beyond_their_tunnels(text: str, codes: set[str]) -> None:
    assert codes <= {finding.code for finding in sessions(settled_of(text))}
    assert codes or not list(sessions(settled_of(text)))


def test_places_of_a_family_that_is_left_out() -> None:
    text = swap(
        ("guests: 10.20.8.0/24", "guests: {prefix: 10.20.8.0/24, prefix6: 'fd00:1:2:8::/64'}"),
        ("{web: {hosts: 100}}", "{web: {prefix6: 'fd00:1:3:1::/64', hosts: 100}}"),
        ("clouds:\n  apps:\n", "clouds:\n  apps:\n    space6: 'fd00:1:3::/56'\n    gateway: {subnet6: 'fd00:1:3:2::/64'}\n"),
        ("sites:\n  quay:\n", "sites:\n  quay:\n    space6: 'fd00:1:2::/56'\n"),
        ("instance: 1}", "instance: 1, inside6: 'fd00:9::/126'}"),
    )  # fmt: skip
    found = {".".join(map(str, place)) for place in left_out(design_of(text))}
    assert found == {
        "sites.quay.space6",
        "sites.quay.networks.guests.prefix6",
        "clouds.apps.space6",
        "clouds.apps.subnets.web.prefix6",
        "clouds.apps.gateway.subnet6",
        "links.quay-apps.tunnels.a.inside6",
    }
    assert not list(left_out(design_of()))


def test_values_as_the_text_of_a_design() -> None:
    values = {"b": [1, "zwei"], "a": {"x": None}}
    text = as_yaml(values, "made by hand")
    assert text.startswith("# made by hand\nb:\n")
    assert yaml.safe_load(text) == values
    assert yaml.safe_load(as_yaml(values)) == values


class Elsewhere:
    """Whoever gets everything as bytes, and makes what is needed anew."""

    def each(self, job, shared, pieces, ready=None):
        del ready
        state = job.make(pickle.loads(pickle.dumps(shared)))
        for piece in pieces:
            yield pickle.loads(pickle.dumps(job.do(state, pickle.loads(pickle.dumps(piece)))))

    def close(self) -> None:
        pass


def test_who_makes_everything_anew_finds_the_same() -> None:
    loaded = swap(
        ("flow: tcp/443, must: work", "flow: tcp/443, load: 20 Mbit/s, must: work"),
        ("provider: two}", "provider: two, rate: 10 Mbit/s}"),
    )
    for text in (swap(), loaded):
        sweep = Sweep(settled_of(text))
        known = sweep.elements()
        every = list(failures(known, 2))
        assert list(outcomes(Elsewhere(), sweep, every)) == list(outcomes(HERE, sweep, every))
        assert list(breaking(sweep, known, 2, Elsewhere())) == list(breaking(sweep, known, 2))
        ground = ground_of(Ground(sweep, known).given)
        assert dataclasses.astuple(ground.sweep.try_one(every[0])) == dataclasses.astuple(
            sweep.try_one(every[0])
        )


def test_remedies_of_an_overlap_are_tried_before_they_are_reported() -> None:
    text = swap(
        ("clouds:\n", "  pier:\n    networks: {shop: 10.20.1.0/24}\n    gateways: {pier-gw: {uplinks: {line: {address: 192.0.2.44}}}}\nclouds:\n"),
        ("expectations:\n", "  pier-apps:\n    site: pier\n    cloud: apps\n    tunnels:\n      e: {gateway: pier-gw, uplink: line}\nexpectations:\n"),
    )  # fmt: skip
    design = design_of(text)
    choices = settle(design, {}, PRACTICE_CLOUD)
    settled = build_settled(design, choices)
    view = space_view(settled, choices, PRACTICE_CLOUD)
    ((one, other),) = overlapping(view, contested(settled))
    assert {one.owner, other.owner} == {"quay/desks", "pier/shop"}
    tried = trial(design, choices, PRACTICE_CLOUD, one, other)
    here = {"sites": {"pier": {"networks": {"shop": {"prefix": "10.30.0.0/24"}}}}}
    assert tried(here) == ""
    assert "lies inside" in tried(
        {"sites": {"pier": {"networks": {"shop": {"prefix": "10.20.2.0/24"}}}}}
    )
    assert tried({"sites": {"pier": {"networks": {"shop": {"prefix": "nonsense"}}}}})
    found = list(remedies(settled, view, one, other, tried))
    assert any(r.change and not r.impossible for r in found)
    assert all(tried(r.change) == "" for r in found if r.change and not r.impossible)
    assert contested(settled)(one, other) is Severity.ERROR


def test_what_was_entered_of_sessions_is_held_side_by_side() -> None:
    entered = """\
    entered:
      site:
        passwords: {a: "sha256:0011223344556677"}
        sessions: {a: {source: 10.9.9.9, multihop: true}}
      cloud:
        sessions: {a: {peer: 10.9.9.9, host-route: false}}
"""
    text = swap(("    bgp: {hold-time: 6 s}\n", f"    bgp: {{hold-time: 6 s}}\n{entered}"))
    settled = settled_of(text)
    tunnel = settled.tunnel("quay-apps/a")
    told = {
        line[0]: line[1:3]
        for line in session_entered(tunnel, settled.links["quay-apps"].entered, {})
    }
    assert told["Entered: BGP, from the site"] == ("10.9.9.9", "10.9.9.9")
    assert told["Entered: BGP, from the cloud"] == ("as on the sheet", "as on the sheet")
    assert told["Entered: BGP multihop"] == ("on", "as on the sheet")
    assert told["Entered: BGP host route"] == ("as on the sheet", "off")
    assert told["Entered: BGP password"][1] == "as on the sheet"


def test_what_cannot_be_renumbered_is_reported() -> None:
    settled = settled_of()
    choices = settle(design_of(), {}, PRACTICE_CLOUD)
    view = space_view(settled, choices, PRACTICE_CLOUD)
    for name, new, words in (
        ("quay/nothing", None, "there is no site network"),
        ("quay/desks", "fd00:1:2::/64", "no prefix of the family"),
        ("quay/desks", "10.99.0.0/24", "does not hold the hosts"),
    ):
        prefix = None if new is None else parse_prefix(new)
        with pytest.raises(ObrinError, match=words):
            renumber_plan(settled, view, NetworkRef.of(name), prefix)
    assert renumber_plan(settled, view, NetworkRef.of("quay/guests"), None).steps
