"""Every state between two designs: what each place is configured with, and which tunnels carry.

A step is what one owner does at one place: make ready (the ground and the filter rules of both
designs), change one end of a tunnel or circuit, and clear away (what only the old design has). A
state is the set of steps that are done.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass, replace
from functools import cached_property

from obrin.core.change.clashes import Clash, clashes_of
from obrin.core.change.ground import entered, speaking_as, union
from obrin.core.change.joins import fits, joined, known_as, same_routing
from obrin.core.change.place_parts import Ground, PlaceParts, alike, both_rules, parts_of
from obrin.core.design.places import NetworkRef
from obrin.core.design.windows import Window
from obrin.core.design.wishes import HostRule
from obrin.core.handover.sheet.sheet import own_values
from obrin.core.settled.clouds import SettledCloud
from obrin.core.settled.model import Settled
from obrin.core.settled.sessions import sessions_of
from obrin.core.settled.sites import SettledGateway
from obrin.core.settled.windows import windows_of

READY, LEG, CLEAR = "make ready", "change", "clear away"
OLD, NEW, BOTH, NONE = "old", "new", "both", "none"
"""Which design a tunnel follows. BOTH is on its way and carries what both have; NONE carries
nothing."""


@dataclass(frozen=True, slots=True, order=True)
class Step:
    """`leg` is the label of a tunnel or circuit, of a step that changes one end of it."""

    kind: str
    place: str
    leg: str = ""

    @property
    def name(self) -> str:
        """A name that stays the same from run to run."""
        return f"{self.place}/{self.kind.replace(' ', '-')}{'/' + self.leg if self.leg else ''}"


Done = frozenset[Step]
End = tuple[str, dict[str, PlaceParts]]
"""A place, and the design by which it has an end of something: what that configures at all
places."""


@dataclass(frozen=True, slots=True)
class Flow:
    """Something that must work, or must not, in both designs."""

    source: str
    destination: str
    service: str
    must: str

    @property
    def words(self) -> str:
        return f"{self.source} > {self.destination} {self.service}"


class Between:
    """Two designs and everything between them."""

    def __init__(self, before: Settled, after: Settled) -> None:
        self.before, self.after = before, after

    @cached_property
    def places(self) -> list[str]:
        """Clouds first, then gateways, each in the order of the designs."""
        found = [*self.after.clouds, *self.before.clouds]
        found += [*self.after.gateways, *self.before.gateways]
        return list(dict.fromkeys(found))

    @cached_property
    def _parts(self) -> dict[str, tuple[PlaceParts, PlaceParts]]:
        """At a site, an AS number is configured with the first session and goes with the last: a
        gateway has that of the other design where its own has none."""
        found = {}
        for place in self.places:
            old, new = parts_of(self.before, place), parts_of(self.after, place)
            if place not in self.after.clouds and place not in self.before.clouds:
                old, new = old.speaking_as(new), new.speaking_as(old)
            found[place] = old, new
        return found

    @cached_property
    def old(self) -> dict[str, PlaceParts]:
        return {place: parts[0] for place, parts in self._parts.items()}

    @cached_property
    def new(self) -> dict[str, PlaceParts]:
        return {place: parts[1] for place, parts in self._parts.items()}

    @cached_property
    def steps(self) -> list[Step]:
        """All that is to be done, in no order."""
        found: list[Step] = []
        for place in self.places:
            old, new = self.old[place], self.new[place]
            both = self._both(place)
            if both != self._grounds(self.before, place, old) or self._adds_rules(place):
                found.append(Step(READY, place))
            for leg in dict.fromkeys((*new.legs, *old.legs)):
                if old.legs.get(leg) != new.legs.get(leg):
                    found.append(Step(LEG, place, leg))
            if both != self._grounds(self.after, place, new) or self._drops_rules(place):
                found.append(Step(CLEAR, place))
        return found

    def _adds_rules(self, place: str) -> bool:
        old, new = self.old[place].rules, self.new[place].rules
        return not alike(both_rules(old, new), old)

    def _drops_rules(self, place: str) -> bool:
        old, new = self.old[place].rules, self.new[place].rules
        return not alike(both_rules(old, new), new)

    def renumbers(self, place: str) -> bool:
        """Whether its speaker gets another AS number."""
        old, new = self.old[place].ground.speaker, self.new[place].ground.speaker
        return old is not None and new is not None and old[0] != new[0]

    @cached_property
    def needed_before(self) -> dict[Step, frozenset[Step]]:
        """What has to be done before a step: a place has its AS number before its first session,
        and keeps it until its last session is gone."""
        found: dict[Step, frozenset[Step]] = {}
        for step in self.steps:
            old, new = (side[step.place].ground.speaker for side in (self.old, self.new))
            mine = (s for s in self.steps if s.place == step.place)
            if step.kind == LEG and old is None and new is not None:
                found[step] = frozenset(s for s in mine if s.kind == READY)
            elif step.kind == CLEAR and old is not None and new is None:
                found[step] = frozenset(s for s in mine if s.kind == LEG)
        return found

    @cached_property
    def _clashes(self) -> list[Clash]:
        return list(clashes_of(self.before, self.after, self.old, self.new))

    def clashing(self, done: Done) -> list[Clash]:
        """Which of old and new are there at once, though they have addresses in common."""
        return [
            (place, one, other)
            for place, one, other in self._clashes
            if self._of(place, one, done) is self.old and self._of(place, other, done) is self.new
        ]

    # What is configured

    def parts(self, place: str, done: Done) -> PlaceParts:
        """The configuration of a place in a state."""
        old, new = self.old[place], self.new[place]
        rules = {OLD: old.rules, BOTH: both_rules(old.rules, new.rules), NEW: new.rules}[
            self.phase(place, done)
        ]
        legs = {}
        for leg in dict.fromkeys((*new.legs, *old.legs)):
            record = self._of(place, leg, done)[place].legs.get(leg)
            if record is not None:
                legs[leg] = record
        return PlaceParts(ground=self.ground_at(place, done), rules=rules, legs=legs)

    def _of(self, place: str, leg: str, done: Done) -> dict[str, PlaceParts]:
        """The design by which a place has one end of a leg; the new one where it is the same."""
        changed = self.old[place].legs.get(leg) != self.new[place].legs.get(leg)
        return self.old if changed and Step(LEG, place, leg) not in done else self.new

    def ground_at(self, place: str, done: Done) -> Ground:
        """What is configured there beside tunnels and filter rules in a state."""
        old, new = self.old[place].ground, self.new[place].ground
        return {OLD: old, BOTH: new.with_old(old), NEW: new}[self.phase(place, done)]

    @cached_property
    def _grounded(self) -> dict[str, frozenset[str]]:
        """What is to be done at a place beside its tunnels."""
        found: dict[str, set[str]] = {}
        for step in self.steps:
            if step.kind != LEG:
                found.setdefault(step.place, set()).add(step.kind)
        return {place: frozenset(kinds) for place, kinds in found.items()}

    @cached_property
    def moving(self) -> frozenset[str]:
        """Labels of tunnels and circuits that change."""
        return frozenset(step.leg for step in self.steps if step.kind == LEG)

    def phase(self, place: str, done: Done) -> str:
        """Which design a place follows, apart from its tunnels."""
        here = self._grounded.get(place, frozenset())
        if all(Step(kind, place) in done for kind in here):
            return NEW
        return OLD if READY in here and Step(READY, place) not in done else BOTH

    # The ground in the model

    def _both(self, place: str) -> tuple[object, ...]:
        ground = self.new[place].ground.with_old(self.old[place].ground)
        hosts = {**_cloud_hosts(self.before, place), **_cloud_hosts(self.after, place)}
        both = union(self.ground(self.before, place), self.ground(self.after, place))
        if isinstance(both, SettledGateway):
            old, new = (_own(s, place) for s in (self.before, self.after))
            merged = _own(self.merged(place), place)
            return {**old, **new, **merged}, ground, hosts
        return entered(both), ground, hosts

    def _grounds(self, settled: Settled, place: str, parts: PlaceParts) -> tuple[object, ...]:
        ground = self.ground(settled, place)
        own = _own(settled, place) if isinstance(ground, SettledGateway) else entered(ground)
        return own, parts.ground, _cloud_hosts(settled, place)

    def merged(self, place: str) -> Settled:
        """The new design with what both have at this place."""
        both = union(self.ground(self.before, place), self.ground(self.after, place))
        sites = {**self.before.sites, **self.after.sites}
        if isinstance(both, SettledCloud):
            return replace(self.after, clouds={**self.after.clouds, place: both}, sites=sites)
        if isinstance(both, SettledGateway):
            gateways = {**self.after.gateways, place: both}
            return replace(self.after, gateways=gateways, sites=sites)
        return self.after

    @staticmethod
    def ground(settled: Settled, place: str) -> object:
        """What a design has there; None where it has nothing."""
        return settled.clouds.get(place) or settled.gateways.get(place)

    def standing(self, place: str, done: Done) -> object:
        """The cloud or gateway that stands there in a state, without its links; None where none
        does."""
        old, new = self.ground(self.before, place), self.ground(self.after, place)
        phase = self.phase(place, done)
        stands = {OLD: old, NEW: new, BOTH: union(old, new)}[phase]
        return speaking_as(stands, old if phase == NEW else new)

    @cached_property
    def legs(self) -> list[str]:
        """Labels of all tunnels and circuits of both designs."""
        return list(dict.fromkeys(leg.label for s in (self.after, self.before) for leg in s.legs()))

    def version(self, label: str, done: Done) -> str:
        """Which design a tunnel or circuit follows, by what is configured at both ends."""
        if label not in self.moving:
            return NEW
        gateways, clouds = self._ends_of(label)
        here, there = self._end(label, gateways, done), self._end(label, clouds, done)
        if here is None or there is None or not self._work_together(label, here, there, done):
            return NONE
        if here[1] is there[1]:
            return NEW if here[1] is self.new else OLD
        return BOTH

    def moved(self, labels: Collection[str], done: Done) -> bool:
        """Whether nothing is left to be changed at either end of any of them."""
        ends = ((p, label) for label in labels for part in self._ends_of(label) for p in part)
        return all(self._of(place, label, done) is self.new for place, label in ends)

    def _end(self, label: str, places: Iterable[str], done: Done) -> End | None:
        """The one place that has an end of it now; None where none has, or two have."""
        sides = ((place, self._of(place, label, done)) for place in places)
        found = [(place, side) for place, side in sides if label in side[place].legs]
        return found[0] if len(found) == 1 else None

    def _work_together(self, label: str, here: End, there: End, done: Done) -> bool:
        (gateway, mine), (cloud, theirs) = here, there
        has, other = mine[gateway].legs[label], theirs[cloud].legs[label]
        meant = theirs[gateway].legs.get(label)
        speakers = (self.ground_at(place, done).speaker for place in (gateway, cloud))
        as_known = all(map(known_as, speakers, (has, other), (other, has)))
        return as_known and meant is not None and fits(has, meant, other)

    def holders(self, label: str, done: Done) -> list[str]:
        """The places that have an end of a tunnel or circuit in a state."""
        places = (p for part in self._ends_of(label) for p in part)
        return [p for p in places if label in self._of(p, label, done)[p].legs]

    def _ends_of(self, label: str) -> tuple[list[str], list[str]]:
        """The gateways and the clouds that have an end of it in either design."""
        legs = [
            s.index.by_label[label] for s in (self.before, self.after) if label in s.index.by_label
        ]
        return list(dict.fromkeys(x.gateway for x in legs)), list(
            dict.fromkeys(x.cloud for x in legs)
        )

    @cached_property
    def flows(self) -> list[Flow]:
        """What both designs say of the same networks, in both the same."""
        mine, other = (
            {(str(w.source), str(w.destination), w.service): w.must for w in s.own_expectations()}
            for s in (self.after, self.before)
        )
        return [Flow(*key, must) for key, must in mine.items() if other.get(key) == must]

    @cached_property
    def loads(self) -> Mapping[Flow, float]:
        """Mbit/s of those that are given one now."""
        wishes = self.after.own_expectations()
        return {
            Flow(str(w.source), str(w.destination), w.service, w.must): w.load
            for w in wishes
            if w.load
        }

    def one_sided(self, label: str, done: Done) -> bool | None:
        """Say where one end routes into it statically, and the other neither does nor hears it:
        whether packets arrive all the same. Else None."""
        gateways, clouds = self._ends_of(label)
        here, there = self._end(label, gateways, done), self._end(label, clouds, done)
        if here is None or there is None or here[1] is there[1]:
            return None
        (gateway, mine), (cloud, theirs) = here, there
        has, meant = mine[gateway].legs[label], theirs[gateway].legs.get(label)
        if meant is None or same_routing(has, meant):
            return None
        return joined(has, meant, theirs[cloud].legs[label])

    def is_joined(self, label: str, done: Done) -> bool:
        """Whether packets that one end sends arrive at the other, whatever routes there are."""
        gateways, clouds = self._ends_of(label)
        here, there = self._end(label, gateways, done), self._end(label, clouds, done)
        if here is None or there is None:
            return False
        (gateway, mine), (cloud, theirs) = here, there
        has, meant = mine[gateway].legs[label], theirs[gateway].legs.get(label)
        return meant is not None and joined(has, meant, theirs[cloud].legs[label])

    def windows(self, place: str) -> tuple[Window, ...]:
        """The windows in which something may be changed there: by the new design, by the old
        where that has no such place. None where it may be at any time."""
        there = place in self.after.clouds or place in self.after.gateways
        return windows_of(self.after if there else self.before, place)

    def site_of(self, label: str) -> str:
        """The site that a tunnel or circuit is of."""
        held = (s for s in (self.after, self.before) if label in s.index.by_label)
        settled = next(held)
        return settled.gateways[settled.index.by_label[label].gateway].site

    def key_of(self, done: Done) -> object:
        """The same for states that do the same."""
        versions = tuple(self.version(label, done) for label in self.legs)
        halves = tuple(self.one_sided(label, done) for label in sorted(self.moving))
        phases = tuple(self.phase(place, done) for place in self.places)
        moved = tuple(self.moved((label,), done) for label in self._in_one_session)
        return versions, halves, tuple(self.clashing(done)), phases, moved

    @cached_property
    def _in_one_session(self) -> list[str]:
        """Tunnels that move and share a BGP session with another: what a session does depends on
        what is left to be changed at any of them."""
        links = (*self.before.links.values(), *self.after.links.values())
        shared = (s.tunnels for link in links for s in sessions_of(link) if len(s.tunnels) > 1)
        labels = {tunnel.label for tunnels in shared for tunnel in tunnels}
        return sorted(self.moving & labels)


def _own(settled: Settled, place: str) -> dict[str, str]:
    """What somebody enters at a site's gateway whatever tunnels there are."""
    return dict(own_values(settled, place)) if place in settled.gateways else {}


def _cloud_hosts(settled: Settled, place: str) -> dict[str, object]:
    """What the firewalls of a cloud's hosts let in, by subnet; they follow from other places,
    too."""
    if place not in settled.clouds:
        return {}
    known = {*settled.sites, *settled.clouds}

    def senders(rule: HostRule) -> object:
        there = not isinstance(rule.source, NetworkRef) or rule.source.place in known
        return settled.host_senders(rule, place) if there else None

    return {
        name.network: [(rule.allow, senders(rule)) for rule in accepts]
        for name, accepts in settled.hosts_accept_at(place)
    }
