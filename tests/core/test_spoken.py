"""What is skipped in large designs is nothing: pairs without a rule, prefixes far from a router."""

from __future__ import annotations

import pytest

from obrin.core.reach.filters import filter_of
from obrin.core.reach.matrix import _cell, count_pairs, matrix
from obrin.core.reach.model import ReachModel
from obrin.core.reach.paths import all_networks
from obrin.core.reach.spoken import Spoken
from obrin.core.routing.model import state_of
from tests.doubles import settled_of
from tests.live.buildable import Drawn


@pytest.mark.parametrize("first", range(0, 40, 10))
def test_pairs_that_no_rule_speaks_of_are_closed(first: int) -> None:
    """Every cell is that which all rules of both places make."""
    for seed in range(first, first + 10):
        settled = settled_of(Drawn(seed, widely=seed % 2 == 0).text)
        model = ReachModel(settled)
        names = all_networks(settled)
        rules = {name: [r for _, r in _beginning(settled, name.place)] for name in names}
        wishes: dict = {}
        for wish in settled.expectations:
            wishes.setdefault((wish.source.whole, wish.destination.whole), []).append(wish)
        brute = [
            _cell(model, a, b, Spoken(rules[a], rules[b], wishes.get((a, b), [])))
            for a in names
            for b in names
            if a.place != b.place
        ]
        assert list(matrix(model, closed=True)) == brute
        assert [c for c in matrix(model) if c.verdict] == [c for c in brute if c.verdict]
        assert count_pairs(settled) == len(brute)
        place = names[0].place
        assert count_pairs(settled, place) == len([c for c in brute if place in c.places])


def _beginning(settled, place):
    here = [place] if place in settled.clouds else settled.sites[place].gateways
    return [(name, r) for name in here for r in filter_of(settled, name) if not r.reply]


@pytest.mark.parametrize("seed", range(20))
def test_a_router_has_nothing_of_prefixes_that_are_not_near(seed: int) -> None:
    settled = settled_of(Drawn(seed).text)
    stable = state_of(settled)
    for router in settled.index.routers:
        near = set(stable.network.near(router))
        for prefix, _ in stable.network.known.items():
            heard = stable.heard(router, prefix)
            something = (
                stable.route(router, prefix) or heard.static or heard.decision or heard.refused
            )
            assert not something or prefix in near
