"""What the model lets pass is what packets do: all pairs of networks, wished or not."""

from __future__ import annotations

from dataclasses import replace

import pytest

from obrin.core.design.values import parse_flow
from obrin.core.reach.model import ReachModel
from obrin.core.reach.paths import all_networks, key_of, path_there_and_back
from tests.doubles import settled_of
from tests.live.buildable import Drawn
from tests.live.virtual_world import VirtualWorld

FLOWS = [parse_flow(text) for text in ("tcp/443", "tcp/85", "icmp", "udp/53")]


def differences(seed: int) -> list[str]:
    drawn = Drawn(seed, widely=True)
    settled = settled_of(drawn.text)
    world, model = VirtualWorld(settled), ReachModel(settled)
    world.run(12.0)
    found = []
    for source in all_networks(settled):
        for destination in all_networks(settled):
            if source.place == destination.place:
                continue
            for flow in FLOWS:
                for bits in settled.families:
                    ends = [(replace(ref, bits=bits), None) for ref in (source, destination)]
                    paths = path_there_and_back(model, *ends, flow)
                    key = key_of(settled, *ends, flow)
                    host = world.host_at(source.place, key.source)
                    asked = world.asked(
                        host, key.protocol, key.destination, flow.first_port, own=key.source_port
                    )
                    seen = asked.answered_at is not None
                    if seen is not paths.good:
                        why = paths.there.dropped or (paths.back and paths.back.dropped)
                        found.append(
                            f"{seed}: {flow} {ends[0][0]} > {ends[1][0]}: {seen}, model: {why}"
                        )
    return found


@pytest.mark.parametrize("first", range(0, 20, 5))
def test_packets_pass_where_the_model_says_so(first: int) -> None:
    for seed in range(first, first + 5):
        assert differences(seed) == []
