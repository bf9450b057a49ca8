"""A month of twenty tunnels in virtual time: lifetimes end, single failures come at random, no answer
is missing outside the predicted windows, and nothing grows."""

from __future__ import annotations

import gc
import random

import pytest
import yaml

from obrin.core.drill.elements import elements
from obrin.live.rehearse.play import Rehearsal
from obrin.live.rehearse.virtual_stage import VirtualStage
from tests.core.test_picture import many_sites
from tests.doubles import settled_of
from tests.live.virtual_world import VirtualWorld

DAY = 86_400.0
GROWTH = 1.1
"""So many times the objects that there are after a third of the time may be there in the end."""


def twenty_tunnels() -> str:
    data = yaml.safe_load(many_sites(9))
    for name, link in data["links"].items():
        link["bgp"] = {"hold-time": "180 s"}
        link["liveness"] = {"delay": "60 s"}
        if name.startswith("kiosk"):
            wish = {"from": f"{name}/till", "to": "apps/web", "flow": "icmp", "must": "work"}
            data["expectations"].append(wish)
    return yaml.safe_dump(data, sort_keys=False)


def lived_through(days: float, faults: int) -> None:
    settled = settled_of(twenty_tunnels())
    assert len(list(settled.tunnels())) == 20
    rehearsal = Rehearsal(VirtualStage(VirtualWorld(settled)))
    assert rehearsal.begin().good
    every, drawn = elements(settled), random.Random(days)
    held: list[int] = []
    for _ in range(faults):
        quiet = rehearsal.endure(days * DAY / faults)
        assert quiet.good, quiet
        failed = rehearsal.fail((drawn.choice(every),))
        assert failed.good, failed
        gc.collect()
        held.append(len(gc.get_objects()))
    settled_in = held[len(held) // 3]
    assert max(held) <= GROWTH * settled_in, held


@pytest.mark.long
def test_a_quarter_of_a_day() -> None:
    lived_through(0.25, faults=3)


@pytest.mark.slow
def test_thirty_days() -> None:
    lived_through(30.0, faults=60)
