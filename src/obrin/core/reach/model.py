"""A settled design ready to be asked: every table and filter made once, when first needed."""

from __future__ import annotations

from collections.abc import Collection

from obrin.core.address.table import PrefixTable
from obrin.core.design.settled import Settled
from obrin.core.reach.filters import RuleSet, filter_of
from obrin.core.routing.forwarding import Route
from obrin.core.routing.model import all_up, cloud_table, site_table


class ReachModel:
    """`up` holds the labels of the tunnels that are alive; all of them when left out."""

    def __init__(self, settled: Settled, up: Collection[str] | None = None) -> None:
        self.settled = settled
        self.up = all_up(settled) if up is None else up
        self._tables: dict[str, PrefixTable[Route]] = {}
        self._rules: dict[str, RuleSet] = {}

    def table(self, place: str) -> PrefixTable[Route]:
        """The forwarding table of a site gateway or a cloud gateway."""
        if place not in self._tables:
            make = cloud_table if place in self.settled.clouds else site_table
            self._tables[place] = make(self.settled, place, self.up)
        return self._tables[place]

    def rules(self, place: str) -> RuleSet:
        """The filter of a site gateway or of a cloud's subnets."""
        if place not in self._rules:
            self._rules[place] = RuleSet(filter_of(self.settled, place))
        return self._rules[place]
