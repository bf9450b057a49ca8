"""What a cloud told of itself, judged as it is typed."""

from __future__ import annotations

import pytest

from obrin.core.check.space.assigned import wrong_with
from tests.core.test_picture import CROSSING
from tests.doubles import settled_of

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
