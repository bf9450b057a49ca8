"""A design as boxes and lines: everything stands in one box, every line ends at a row, and what is
folded is alike."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
import yaml

import obrin
from obrin.core.picture.network import DOWN, FEW, LOST, UP, Picture, picture
from obrin.core.settled.model import Settled
from tests.doubles import DESIGN, settled_of
from tests.healthy import Healthy

CROSSING = (Path(obrin.__file__).parent / "demo" / "crossing.yaml").read_text()


def many_sites(count: int) -> str:
    """A design with so many sites more, of two kinds by turns."""
    data = yaml.safe_load(DESIGN)
    for number in range(count):
        name = f"kiosk-{number}"
        uplink = {
            "address": f"198.51.{number // 200}.{number % 200 + 30}",
            "provider": ("one", "two")[number % 2],
        }
        data["sites"][name] = {
            "networks": {"till": {"hosts": 10}},
            "gateways": {f"{name}-box": {"uplinks": {"line": uplink}}},
        }
        ends = {"gateway": f"{name}-box", "uplink": "line"}
        tunnels = {"a": {**ends, "instance": 1}, "b": {**ends, "instance": 2}}
        data["links"][name] = {"site": name, "cloud": "apps", "tunnels": tunnels}
    return json.dumps(data)  # which is YAML, and soon written


def whole(settled: Settled, drawn: Picture) -> None:
    """Nothing is missing, and nothing leads to nowhere."""
    counted = sum(box.stands_for for box in drawn.boxes)
    assert counted == len(settled.sites) + len(settled.clouds)
    boxes = {box.name: box for box in drawn.boxes}
    assert len(boxes) == len(drawn.boxes)
    for line in drawn.lines:
        for end in line.ends:
            assert [row.port for row in boxes[end].rows].count(line.way) == 1, line
    ports = [row.port for box in drawn.boxes for row in box.rows if row.port]
    assert sorted(ports) == sorted(2 * [line.way for line in drawn.lines])
    ways = len(list(settled.legs())) + len(list(settled.attachments()))
    assert sum(line.stands_for for line in drawn.lines) == ways
    text = "\n".join(row.text for box in drawn.boxes for row in box.rows)
    for gateway in settled.gateways.values():
        site = settled.sites[gateway.site]
        if site.name in boxes and boxes[site.name].stands_for == 1:
            assert gateway.name in text
    assert all(cloud in text for cloud in settled.clouds)


@pytest.mark.parametrize("text", [DESIGN, CROSSING, many_sites(40)], ids=["one", "hub", "many"])
def test_everything_is_there_once(text: str) -> None:
    settled = settled_of(text)
    whole(settled, picture(settled, {}))


@pytest.mark.parametrize("first", range(0, 40, 10))
def test_whatever_is_drawn_is_whole(first: int) -> None:
    for seed in range(first, first + 10):
        settled = settled_of(str(Healthy(seed)))
        states = {leg.label: (UP, DOWN, LOST)[n % 3] for n, leg in enumerate(settled.legs())}
        drawn = picture(settled, states)
        whole(settled, drawn)
        assert {line.way: line.state for line in drawn.lines if line.way in states} == states


def test_few_sites_are_never_folded_and_many_are_unless_they_differ() -> None:
    few = settled_of(many_sites(FEW - 1))
    assert len(picture(few, {}).boxes) == FEW + 1
    lots = settled_of(many_sites(20))
    folded = picture(lots, {})
    assert sorted(box.stands_for for box in folded.boxes) == [1, 1, 10, 10]
    apart = picture(lots, {"kiosk-3/a": DOWN})
    assert sorted(box.stands_for for box in apart.boxes) == [1, 1, 1, 9, 10]
    (row,) = [row for box in apart.boxes for row in box.rows if DOWN in row.text]
    assert row.port == "kiosk-3/a"


def test_a_hub_says_who_fills_its_tables_and_a_gateway_with_whom_it_speaks() -> None:
    drawn = picture(settled_of(CROSSING), {})
    text = [row.text for box in drawn.boxes for row in box.rows]
    assert "yard: 1 fill it, for yard-crossing" in text
    assert (
        "head: 3 fill it, for 2 users" in text
        or "head: 3 fill it, for harbour-crossing, harbour-line" in text
    )
    assert "internal BGP with hh-west" in text
    assert any(row.startswith("instance 1, zone a  203.0.113.") for row in text)
    assert "of the accounts office" in text
