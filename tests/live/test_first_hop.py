"""What makes hosts leave one gateway for another: packets go by what the design says, as the model
does."""

from __future__ import annotations

import pytest

from obrin.core.drill.elements import lost_ways
from tests.core.test_first_hop import CASES, GATEWAY, UPLINK, two
from tests.doubles import settled_of
from tests.live.virtual_world import VirtualWorld


@pytest.mark.parametrize(("follow", "internal", "without_uplink", "without_gateway"), CASES)
def test_packets_go_by_what_the_design_says(
    follow: str, internal: bool, without_uplink: bool, without_gateway: bool
) -> None:
    settled = settled_of(two(follow, internal))
    (wish,) = settled.own_expectations()
    for element, works in ((UPLINK, without_uplink), (GATEWAY, without_gateway)):
        world = VirtualWorld(settled)
        world.run(12.0)
        for label in lost_ways(settled, [element]):
            world.cut(label)
        if element is GATEWAY:
            world.kill("east")
        world.run(30.0)
        desk, web = (settled.host(ref, "")[0] for ref in (wish.source, wish.destination))
        asked = world.asked(world.host_at("quay", desk), 6, web, 443)
        assert (asked.answered_at is not None) is works, element
