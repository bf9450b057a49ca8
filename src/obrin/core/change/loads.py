"""What tunnels, uplinks and instances carry between two designs, where loads are given."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable

from obrin.core.catalogue.offering import Offered
from obrin.core.change.as_design import state
from obrin.core.change.carrying import SLACK, Limits
from obrin.core.change.groups import Group, Groups
from obrin.core.drill.load import Use
from obrin.core.reach.model import ReachModel
from obrin.core.reach.trace import stopped, there_and_back


class Loads:
    """Loads in the state that the groups of a change are in. Call `follow` when some of them go
    on."""

    def __init__(self, groups: Groups, offering: Offered) -> None:
        self._groups = groups
        self._known = Limits(groups.between, offering)
        designs = groups.between.before, groups.between.after
        self._given = any(wish.load for settled in designs for wish in settled.expectations)
        self._rates: dict[str, float] = defaultdict(float)
        self._most: dict[str, float] = {}
        self._parts: dict[int, list[Use]] = {}
        self._full: dict[str, None] = {}
        if self._given:
            self._add(self._of_others(), 1)
            self.follow(groups.all)
        self._usual = frozenset(self._full)

    def follow(self, groups: Iterable[Group]) -> None:
        """These are in another state than before."""
        for group in groups if self._given else ():
            self._add(self._parts.get(id(group), ()), -1)
            settled = state(group.looks.between, group.done)
            part = list(self._known.used(settled, group.looks.of(group.done).carried))
            self._parts[id(group)] = part
            self._add(part, 1)

    def now(self) -> dict[str, float]:
        """Mbit/s by what carries them, where its limit is known."""
        return {name: rate for name, rate in self._rates.items() if rate > SLACK}

    def too_much(self) -> tuple[str, ...]:
        """What gets more than it carries, and did not before the change; in words."""
        full = (name for name in sorted(self._full) if name not in self._usual)
        return tuple(Use(n, round(self._rates[n], 6), self._most[n]).too_much for n in full)

    def _add(self, part: Iterable[Use], sign: int) -> None:
        for use in part:
            self._rates[use.name] += sign * use.rate
            self._most[use.name] = use.most
            if self._rates[use.name] > use.most + SLACK:
                self._full[use.name] = None
            else:
                self._full.pop(use.name, None)

    def _of_others(self) -> list[Use]:
        """Flows of sites to which nothing happens."""
        settled = self._groups.between.before
        touched = frozenset[str]().union(*(group.sites for group in self._groups.all))
        model, carried = ReachModel(settled), list[tuple[str, float]]()
        for wish in settled.own_expectations():
            ends = {wish.source.place, wish.destination.place}
            elsewhere = ends & settled.sites.keys() and not ends & touched
            if wish.must != "work" or not wish.load or not elsewhere:
                continue
            there, back = there_and_back(model, wish)
            if not stopped(there, back):
                carried += ((way, wish.load) for way in there.ways)
        return list(self._known.used(settled, carried))
