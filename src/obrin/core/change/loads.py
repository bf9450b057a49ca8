"""What tunnels, uplinks and instances carry between two designs, where loads are given."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable

from obrin.core.catalogue.offering import Offered
from obrin.core.change.groups import Group, Groups
from obrin.core.change.outlook import plain
from obrin.core.drill.load import Use, loaded
from obrin.core.reach.model import ReachModel
from obrin.core.reach.trace import stopped, there_and_back
from obrin.core.settled.model import Settled

SLACK = 1e-9
"""Of sums that are added to and taken from."""


class Loads:
    """Of the state that the groups of a change are in; `follow` when some of them go on."""

    def __init__(self, groups: Groups, offering: Offered) -> None:
        self._groups, self._offering = groups, offering
        designs = groups.between.before, groups.between.after
        self._given = any(wish.load for settled in designs for wish in settled.expectations)
        self._rates: dict[str, float] = defaultdict(float)
        self._most: dict[str, float] = {}
        self._limits: dict[str, float | None] = {}
        self._parts: dict[int, list[Use]] = {}
        self._full: dict[str, None] = {}
        if self._given:
            after = groups.between.after
            every = loaded(after, offering, ((leg.label, 1.0) for leg in after.legs()))
            self._limits = {thing.words: thing.most for thing in every}
            self._add(self._of_others(), 1)
            self.follow(groups.all)
        self._usual = frozenset(self._full)

    def follow(self, groups: Iterable[Group]) -> None:
        """These are in another state than before."""
        for group in groups if self._given else ():
            self._add(self._parts.get(id(group), ()), -1)
            settled = group.looks.between.state(group.done)
            part = self._used(settled, group.looks.of(group.done).carried)
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

    def _used(self, settled: Settled, carried: Iterable[tuple[str, float]]) -> list[Use]:
        """By the names that things have in both designs. What a thing can carry is what the new one
        says of it."""
        found = []
        for thing, rate in loaded(settled, self._offering, carried).items():
            name = plain(thing.words)
            most = self._limits.get(name, thing.most)
            if most:
                found.append(Use(name, rate, most))
        return found

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
        return self._used(settled, carried)
