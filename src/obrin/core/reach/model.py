"""A settled design ready to be asked: its stable state, and every filter made once."""

from __future__ import annotations

from collections.abc import Collection

from obrin.core.address.prefix import Address, Prefix
from obrin.core.reach.filters import Rule, RuleSet, filter_of
from obrin.core.routing.forwarding import Route
from obrin.core.routing.model import state_of
from obrin.core.routing.stable import Stable
from obrin.core.settled.model import Settled

_EVERYTHING = RuleSet(
    Rule(name="any", source=Prefix(bits, 0, 0), destination=Prefix(bits, 0, 0))
    for bits in (32, 128)
)


class ReachModel:
    """`up` holds the labels of the tunnels and circuits that are alive; all when left out.

    An `open` one has no filters and no firewalls: what routes alone allow.
    """

    def __init__(
        self,
        settled: Settled,
        up: Collection[str] | None = None,
        *,
        of: ReachModel | None = None,
        stable: Stable | None = None,
        open: bool = False,
    ) -> None:
        self.settled = settled
        self.stable = stable or state_of(settled, up)
        self.open = open
        self._rules: dict[str, RuleSet] = {} if of is None else of._rules

    def without(self, lost: Collection[str]) -> ReachModel:
        """The same with some ways lost: nothing is made anew but what they carried, and that only
        when asked for."""
        stable = Stable(self.stable.network, self.stable.lost.union(lost), self.stable)
        return ReachModel(self.settled, of=self, stable=stable, open=self.open)

    def unfiltered(self) -> ReachModel:
        """The same, `open`."""
        return ReachModel(self.settled, of=self, stable=self.stable, open=True)

    def match(self, router: str, address: Address) -> tuple[Prefix, Route] | None:
        """The longest match at a router and its route."""
        return self.stable.match(router, address)

    def filter_by(self, place: str, rules: RuleSet) -> None:
        """Other rules at a place than those that the design has there."""
        self._rules[place] = rules

    def rules(self, place: str) -> RuleSet:
        """The filter of a site gateway or of a cloud's subnets."""
        if self.open:
            return _EVERYTHING
        if place not in self._rules:
            self._rules[place] = RuleSet(filter_of(self.settled, place))
        return self._rules[place]
