"""What a cloud assigns: judged as it is typed, and marked as long as it is not known."""

from __future__ import annotations

import re

import pytest

from obrin.core.check.space.assigned import wrong_with
from obrin.core.compare.against import NOT_ASSIGNED, against
from obrin.core.compare.differences import Sheet
from obrin.core.drill.outage import Predictor
from obrin.core.handover.sheet.blocks import values_of
from obrin.core.handover.sheet.sheet import value_sheet
from obrin.core.handover.sheet.stand_ins import NOT_YET_KNOWN, stand_ins
from obrin.core.handover.sheet.steps import steps
from tests.core.test_picture import CROSSING
from tests.doubles import settled_of, swap

SETTLED = settled_of()
PLACE = "clouds.apps.gateway.addresses"
TOLD = ["203.0.113.77", "203.0.113.78"]


@pytest.mark.parametrize(
    ("texts", "words"),
    [
        (TOLD, ""),
        (["203.0.113.77"], "2 are wanted"),
        (["203.0.113.77"] * 2, "stands twice"),
        (["192.0.2.10", "203.0.113.77"], "that of uplink quay-gw/fibre"),
        (["10.1.2.3", "203.0.113.77"], "is not public"),
        (["100.64.1.1", "203.0.113.77"], "is not public"),
        (["2001:db8::1", "203.0.113.77"], "other address family"),
        (["seven", "203.0.113.77"], "seven"),
    ],
)
def test_what_was_reported_is_judged_at_once(texts: list[str], words: str) -> None:
    found = wrong_with(SETTLED, PLACE, texts)
    assert words in found
    assert bool(found) is bool(words)


def test_peers_lie_in_the_gateway_subnet() -> None:
    own = SETTLED.clouds["apps"].gateway.subnet.first
    inside = [str(own.address_at(n)) for n in (5, 6)]
    assert wrong_with(SETTLED, "clouds.apps.gateway.peers", inside) == ""
    assert "does not lie in" in wrong_with(
        SETTLED, "clouds.apps.gateway.peers", [inside[0], "10.9.9.9"]
    )


def test_another_clouds_address_and_a_cloud_without_a_gateway() -> None:
    crossing = settled_of(CROSSING)
    six = wrong_with(
        crossing, "clouds.crossing.gateway.addresses6", ["2001:db8:203::7", "2001:db8:203::8"]
    )
    assert six == ""
    assert "has no gateway" in wrong_with(crossing, "clouds.ledger.gateway.addresses", TOLD)


def test_a_placeholder_is_marked_wherever_it_stands_and_is_never_right() -> None:
    settled = settled_of(swap(("  apps:\n", "  apps:\n    gateway: {assigns: [addresses]}\n")))
    held = {str(a) for i in settled.clouds["apps"].instances for a in i}
    assert set(stand_ins(settled)) == held
    for place in ("quay-gw", "apps"):
        values = list(values_of(value_sheet(settled, place)))
        for value in values:
            bare = value.text.partition(f" ({NOT_YET_KNOWN}")[0]
            assert (NOT_YET_KNOWN in value.text) == bool(held & set(re.split(r"[ ,]+", bare)))
        made = against(Sheet(values), {v.name: v.text.partition(" (")[0] for v in values})
        open_ones = {one.name for one in made.left if one.why == NOT_ASSIGNED}
        assert any("address" in name for name in open_ones)
        assert made.good is None
    text = steps(settled, "quay-gw", Predictor(settled))
    assert sum(map(text.count, held)) == text.count(NOT_YET_KNOWN) > 0
    assert not stand_ins(settled_of())
