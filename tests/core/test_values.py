"""Every value of every sheet has a name of its own, the same from run to run."""

from __future__ import annotations

import csv
import io

import pytest

from obrin.core.handover.pack import gateways_of, make_pack
from obrin.core.handover.sheet.blocks import values_of
from obrin.core.handover.sheet.sheet import value_sheet
from tests.core.test_healthy import secrets_of
from tests.core.test_picture import CROSSING
from tests.doubles import DESIGN, settled_of
from tests.healthy import Healthy


def named_once(text: str) -> None:
    settled = settled_of(text)
    for place in gateways_of(settled):
        names = [value.name for value in values_of(value_sheet(settled, place))]
        assert len(set(names)) == len(names), sorted(n for n in names if names.count(n) > 1)
        again = [value.name for value in values_of(value_sheet(settled_of(text), place))]
        assert names == again
        assert all(" " not in name and name == name.lower() for name in names)


@pytest.mark.parametrize("first", range(0, 60, 15))
def test_no_two_values_have_one_name(first: int) -> None:
    for seed in range(first, first + 15):
        named_once(str(Healthy(seed)))


def test_the_crossing_too() -> None:
    named_once(CROSSING)


def test_the_file_has_them_all() -> None:
    settled = settled_of(DESIGN)
    pack = make_pack(settled, "quay-gw", secrets_of(settled))
    rows = list(csv.DictReader(io.StringIO(pack.values)))
    found = {row["name"]: row["value"] for row in rows}
    assert found["tunnels.remote-address.quay-apps/a"] == "203.0.113.1"
    assert found["gateway.bgp-as-number"] == str(settled.gateways["quay-gw"].asn)
    assert len(found) == len(rows)
