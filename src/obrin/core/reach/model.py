"""A settled design ready to be asked: every table and filter made once, when first needed."""

from __future__ import annotations

from collections.abc import Collection
from typing import Protocol

from obrin.core.address.prefix import Prefix
from obrin.core.address.table import PrefixTable
from obrin.core.design.settled import Settled
from obrin.core.reach.filters import RuleSet, filter_of
from obrin.core.routing.forwarding import Route
from obrin.core.routing.model import all_up, cloud_table, possible, shared_at, site_table
from obrin.core.routing.rib import Rib, Without


class Lookup(Protocol):
    """What a trace asks of a table."""

    def match(self, address: int) -> tuple[Prefix, Route] | None:
        """The longest match and its route."""


class ReachModel:
    """`up` holds the labels of the tunnels that are alive; all of them when left out."""

    def __init__(self, settled: Settled, up: Collection[str] | None = None) -> None:
        self.settled = settled
        self.up = all_up(settled) if up is None else up
        self._tables: dict[str, PrefixTable[Route]] = {}
        self._rules: dict[str, RuleSet] = {}

    def table(self, place: str) -> Lookup:
        """The forwarding table of a site gateway or a cloud gateway."""
        return self.whole_table(place)

    def whole_table(self, place: str) -> PrefixTable[Route]:
        """The same, to be gone through."""
        if place not in self._tables:
            make = cloud_table if place in self.settled.clouds else site_table
            self._tables[place] = make(self.settled, place, self.up)
        return self._tables[place]

    def rules(self, place: str) -> RuleSet:
        """The filter of a site gateway or of a cloud's subnets."""
        if place not in self._rules:
            self._rules[place] = RuleSet(filter_of(self.settled, place))
        return self._rules[place]


class FailedModel(ReachModel):
    """A model with some tunnels lost, on top of one with all up: nothing is made anew but what the
    lost ones carried, and that only when asked for."""

    def __init__(self, whole: ReachModel, ribs: dict[str, Rib], lost: Collection[str]) -> None:
        self.settled, self.lost = whole.settled, lost
        self._whole, self._ribs = whole, ribs

    def table(self, place: str) -> Lookup:
        if place not in self._ribs:
            routes, candidates = possible(self.settled, place)
            self._ribs[place] = Rib(routes, candidates, shared_at(self.settled, place))
        return Without(self._ribs[place], self.lost)

    def rules(self, place: str) -> RuleSet:
        return self._whole.rules(place)
