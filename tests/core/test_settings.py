"""The keys that may be said at a place of a design, and what may stand there."""

from __future__ import annotations

import pytest

from obrin.core.design.document import load_design
from obrin.core.design.settings import can_be, settings
from tests.doubles import DESIGN
from tests.live.buildable import Drawn


@pytest.mark.parametrize("seed", range(15))
def test_every_key_that_may_be_said_is_one_of_the_design(seed: int) -> None:
    text = Drawn(seed).text
    design = load_design(text, "design.yaml").design
    places = [("links", name) for name in design.links]
    places += [("clouds", name) for name in design.clouds]
    places += [("sites", name) for name in design.sites]
    for place in places:
        keys = list(settings(design, place))
        assert len(set(keys)) == len(keys) > 5
        assert all(key[: len(place)] == place for key in keys)
        assert not any(can_be(design, key, {"no": "such"}) for key in keys)


def test_what_is_said_and_what_is_not_is_there_the_nearest_first() -> None:
    design = load_design(DESIGN, "design.yaml").design
    link = list(settings(design, ("links", "quay-apps")))
    assert ("links", "quay-apps", "suite") in link
    assert ("links", "quay-apps", "liveness", "delay") in link
    assert ("links", "quay-apps", "tunnels", "a", "inside") in link
    assert [len(key) for key in link] == sorted(len(key) for key in link if len(key) < 5) + [
        len(key) for key in link if len(key) >= 5
    ]
    assert list(settings(design, ("links", "nothing"))) == []
    assert list(settings(design, ("name", "beyond"))) == []


def test_a_value_may_stand_where_its_kind_does_and_is_another() -> None:
    design = load_design(DESIGN, "design.yaml").design
    hold = ("links", "quay-apps", "bgp", "hold-time")
    assert can_be(design, hold, "9 s")
    assert not can_be(design, hold, "6 s")  # so it is
    assert not can_be(design, hold, "soon")
    assert can_be(design, ("clouds", "apps", "subnets", "web", "propagation"), False)
    assert not can_be(design, ("clouds", "apps", "subnets", "web", "no-such-key"), False)
    assert not can_be(design, ("links", "quay-apps", "tunnels"), {})
    assert not can_be(design, ("links", "nothing", "suite"), "high")
