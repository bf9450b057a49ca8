"""The settled design is complete: other states are made of it, compared and checked."""

from __future__ import annotations

import dataclasses
from collections.abc import Iterator
from pathlib import Path

import pytest

import obrin
from obrin.core.catalogue.offering import PRACTICE_CLOUD
from obrin.core.check.whole import check
from obrin.core.handover.pack import PackMaker
from obrin.core.handover.secrets import Secrets
from obrin.core.reach.matrix import matrix
from obrin.core.reach.model import ReachModel
from obrin.core.routing.difference import changes
from obrin.core.routing.model import state_of
from obrin.core.routing.tables import Row, table_names, table_rows
from obrin.core.settled.model import Settled
from tests.doubles import settled_of

CROSSING = (Path(obrin.__file__).parent / "demo" / "crossing.yaml").read_text()


def without(settled: Settled, link: str) -> Settled:
    """The state in which a link has been taken away, and nothing else."""
    return dataclasses.replace(
        settled, links={name: found for name, found in settled.links.items() if name != link}
    )


def test_nothing_reaches_back_to_what_was_written() -> None:
    settled = settled_of(CROSSING)
    assert "design" not in {field.name for field in dataclasses.fields(Settled)}
    assert settled == settled_of(CROSSING)
    assert settled != settled_of(CROSSING.replace("10.40.0.0/24", "10.41.0.0/24"))


@pytest.mark.parametrize("link", ["yard-crossing", "quay-crossing"])
def test_a_state_between_two_designs_is_as_whole_as_they_are(link: str) -> None:
    settled = settled_of(CROSSING)
    between = without(settled, link)
    labels = {tunnel.label for tunnel in settled.links[link].tunnels}
    assert labels.isdisjoint(between.index.by_label)
    assert labels <= settled.index.by_label.keys()  # the state that it was made of stays
    site = settled.links[link].site
    for gateway in settled.sites[site].gateways:
        assert not labels & {leg.label for leg in between.legs_at(gateway)}
    codes = {finding.code for finding in check(between, PRACTICE_CLOUD, Secrets())}
    assert "expectation-unmet" in codes
    broken = {cell.places for cell in matrix(ReachModel(between)) if cell.broken}
    assert any(site in places for places in broken)
    assert PackMaker(between).mirror_faults() == []
    assert changes(*(list(all_rows(state)) for state in (settled, between)))


def all_rows(settled: Settled) -> Iterator[Row]:
    stable = state_of(settled)
    for table in table_names(settled):
        yield from table_rows(settled, table, stable)
