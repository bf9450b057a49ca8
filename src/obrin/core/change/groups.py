"""A large change taken apart: sites that no flow joins are looked at by themselves.

What happens at one site changes nothing for another, but by what both have at a cloud: that is
looked at for each site anew. Sites that expect something of each other, over a hub, stay together.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta
from functools import cached_property

from obrin.core.catalogue.offering import PRACTICE_CLOUD, Offered
from obrin.core.change.gaps import STEP_TIME, Gaps
from obrin.core.change.outlook import Outlooks
from obrin.core.change.states import CLEAR, LEG, Between, Done, Step
from obrin.core.settled.expected import Expected
from obrin.core.settled.links import SettledCircuit, SettledLink
from obrin.core.settled.model import Settled


class _Parts:
    """A design by sites, so that some of them are found without looking at all."""

    def __init__(self, settled: Settled) -> None:
        self._settled = settled
        self._wishes: dict[str, dict[Expected, None]] = {}
        for wish in settled.expectations:
            for place in (wish.source.place, wish.destination.place):
                self._wishes.setdefault(place, {})[wish] = None

    def of(self, sites: Collection[str], *, between_clouds: bool) -> Settled:
        """The design with these sites alone, and all clouds; what these expect of each other is
        looked at once."""
        settled = self._settled
        there = [settled.sites[name] for name in sites if name in settled.sites]
        bundles = [bundle for site in there for bundle in settled.bundles_of(site.name)]
        wishes = [self._wishes.get(name, {}) for name in sites]
        if between_clouds:
            wishes.append(dict.fromkeys(self._of_clouds()))
        return replace(
            settled,
            sites={site.name: site for site in there},
            gateways={name: settled.gateways[name] for site in there for name in site.gateways},
            links={b.name: b for b in bundles if isinstance(b, SettledLink)},
            circuits={b.name: b for b in bundles if isinstance(b, SettledCircuit)},
            expectations=tuple(dict.fromkeys(wish for held in wishes for wish in held)),
        )

    def _of_clouds(self) -> Iterator[Expected]:
        clouds = self._settled.clouds
        for name in clouds:
            for wish in self._wishes.get(name, {}):
                if {wish.source.place, wish.destination.place} <= clouds.keys():
                    yield wish


def joined_sites(before: Settled, after: Settled) -> list[list[str]]:
    """Sites that stay together, in the order of the designs."""
    sites = list(dict.fromkeys((*after.sites, *before.sites)))
    of = {name: name for name in sites}

    def root(name: str) -> str:
        while of[name] != name:
            of[name] = of[of[name]]
            name = of[name]
        return name

    for settled in (before, after):
        for wish in settled.own_expectations():
            one, other = wish.source.place, wish.destination.place
            if one in of and other in of:
                of[root(one)] = root(other)
    found: dict[str, list[str]] = {}
    for name in sites:
        found.setdefault(root(name), []).append(name)
    return list(found.values())


@dataclass(slots=True)
class Group:
    """`done` are the steps of it that are done, and what it alone would have to make ready: in the
    whole that is there already, for the sake of another, and stays. `steps` are all that touch it.
    """

    looks: Outlooks
    sites: frozenset[str]
    done: Done = frozenset()
    steps: frozenset[Step] = field(default_factory=frozenset)

    def after(self, step: Step) -> Done:
        return self.done | ({step} & self.steps)


class Groups:
    """A change with its groups; where there is one, that is all of it. `begins` (aware) is when the
    first step may be done, `each` what one takes."""

    def __init__(
        self,
        before: Settled,
        after: Settled,
        offering: Offered = PRACTICE_CLOUD,
        begins: datetime | None = None,
        each: timedelta = STEP_TIME,
    ) -> None:
        self.between = Between(before, after)
        self._before, self._after, self._offering = before, after, offering
        self.gaps = Gaps(self.between, each, begins)

    @cached_property
    def looks(self) -> Outlooks:
        """Outlooks on the change as a whole."""
        return Outlooks(self.between, self._offering)

    @cached_property
    def all(self) -> list[Group]:
        """Groups that change, in the order of the designs."""
        parts = joined_sites(self._before, self._after)
        if len(parts) <= 1:
            whole = frozenset(self.between.steps)
            return [Group(self.looks, frozenset(*parts), steps=whole)]
        return list(self._parts(parts))

    def _parts(self, parts: list[list[str]]) -> Iterator[Group]:
        touched = {self.between.site_of(label) for label in self.between.moving}
        gateways = {**self._before.gateways, **self._after.gateways}
        touched |= {gateways[s.place].site for s in self.between.steps if s.place in gateways}
        clouds = any(s.kind != LEG and s.place not in gateways for s in self.between.steps)
        before, after = _Parts(self._before), _Parts(self._after)
        first, whole = True, frozenset(self.between.steps)
        for sites in parts:
            if clouds or touched & set(sites):
                mine = Between(
                    before.of(sites, between_clouds=first), after.of(sites, between_clouds=first)
                )
                first = False
                steps = frozenset(mine.steps)
                looks = Outlooks(mine, self._offering)
                there = frozenset(step for step in steps - whole if step.kind != CLEAR)
                yield Group(looks, frozenset(sites), there, steps & whole)

    def is_gateway(self, place: str) -> bool:
        return place in self._after.gateways or place in self._before.gateways

    @cached_property
    def by_step(self) -> Mapping[Step, list[Group]]:
        """Which groups a step touches."""
        found: dict[Step, list[Group]] = {}
        for group in self.all:
            for step in group.steps:
                found.setdefault(step, []).append(group)
        return found
