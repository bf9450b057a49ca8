"""What works in a state between two designs, by the same model as a whole design.

Where the model could be wrong for some packets of a flow, since two tunnels treat them differently,
the flow is taken not to work: that is promised to nobody.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field

from obrin.core.catalogue.offering import PRACTICE_CLOUD, Offered
from obrin.core.change.as_design import state
from obrin.core.change.breaks import Break, Down, downs
from obrin.core.change.carrying import Limits, designed
from obrin.core.change.states import BOTH, NEW, NONE, OLD, Between, Done, Flow, Step
from obrin.core.reach.filters import RuleSet
from obrin.core.reach.model import ReachModel
from obrin.core.reach.trace import stopped, there_and_back
from obrin.core.settled.expected import Expected
from obrin.core.settled.model import Settled
from obrin.core.settled.sessions import sessions_of

ONE_SESSION = "one BGP session goes over tunnels of the old and the new design"
ROUTED_APART = "one end still routes statically into a tunnel that does not come up"
TRANSLATED_APART = "its tunnels translate differently, so an answer may not fit its question"
ALIKE_INSIDE = "an old and a new tunnel have the same addresses at one device"
NOT_THERE = "the network is not there"
UNPROMISED = frozenset({ONE_SESSION, ROUTED_APART, TRANSLATED_APART, ALIKE_INSIDE})


DOWN = 1 / 60_000
"""A tunnel that is down, beside a flow that is lost."""


def interruption(wrong: int, down: int) -> float:
    """What a state interrupts, in flows that are lost."""
    return wrong + DOWN * down


@dataclass(frozen=True)
class Outlook:
    """`works` are the flows that work, with the tunnel or circuit that each takes; `why` says of
    those that do not. `carried` are the loads of those that work, by the names that ways have in
    this state, and `full` what gets more by these than it carries. `down` is how many tunnels and
    circuits carry nothing meanwhile, of those that both designs have."""

    works: Mapping[Flow, str]
    why: Mapping[Flow, str] = field(default_factory=dict)
    carried: tuple[tuple[str, float], ...] = ()
    full: frozenset[str] = frozenset()
    down: int = 0


class Outlooks:
    """Looked up for many states; those that do the same are looked at once."""

    def __init__(self, between: Between, offering: Offered = PRACTICE_CLOUD) -> None:
        self.between = between
        self._offering, self._limits = offering, Limits(between, offering)
        self._held: dict[object, Outlook] = {}
        self._by_done: dict[Done, Outlook] = {}
        self._downs: dict[object, list[Down]] = {}

    def of(self, done: Done) -> Outlook:
        found = self._by_done.get(done)
        if found is None:
            found = self._by_done[done] = self._of(done)
        return found

    def _of(self, done: Done) -> Outlook:
        key = self.between.key_of(done)
        if key not in self._held:
            self._held[key] = _look(self.between, done, self._limits)
        return self._held[key]

    def without(self, done: Done, labels: frozenset[str]) -> Outlook:
        """The outlook while some tunnels and circuits are down."""
        key = self.between.key_of(done), labels
        if key not in self._held:
            self._held[key] = _look(self.between, done, self._limits, labels)
        return self._held[key]

    def breaks(self, step: Step, done: Done) -> list[Break]:
        """What works before a step and after it, and stops while it is done; `done` are the steps
        before it. Of several reasons the longest counts."""
        then, place = done | {step}, step.place
        key = step, self.between.phase(place, done), self.between.phase(place, then)
        if key not in self._downs:
            found = downs(self.between, step, done, self._offering)
            self._downs[key] = sorted(found, key=lambda down: down.seconds)
        breaks: dict[Flow, Break] = {}
        for down in self._downs[key]:
            before, after = self.of(done).works, self.of(then).works
            meanwhile = self.without(then, down.labels).works
            for flow in self.between.flows:
                if flow.must == "work" and flow in before and flow in after.keys() - meanwhile:
                    breaks[flow] = Break(flow, down.seconds, down.why)
        return list(breaks.values())

    def lost(self, done: Done) -> list[Flow]:
        """What must work and does not."""
        works = self.of(done).works
        return [f for f in self.between.flows if f.must == "work" and f not in works]

    def opened(self, done: Done) -> list[Flow]:
        """What must not work, and does."""
        works = self.of(done).works
        return [f for f in self.between.flows if f.must == "not" and f in works]

    def overfull(self, done: Done) -> int:
        """How many things get more than they carry, that do not before the change."""
        return len(self.of(done).full - self.of(frozenset()).full)

    def wrong(self, done: Done) -> int:
        """How many flows are not as both designs wish."""
        return len(self.lost(done)) + len(self.opened(done))

    def down(self, done: Done) -> int:
        """How many tunnels and circuits carry nothing meanwhile."""
        return self.of(done).down

    def price(self, done: Done) -> float:
        """Loss by what is interrupted."""
        return interruption(self.wrong(done), self.down(done))


def _look(
    between: Between, done: Done, limits: Limits, without: frozenset[str] = frozenset()
) -> Outlook:
    settled = state(between, done, without)
    model = ReachModel(settled)
    for place in between.places:
        model.filter_by(place, RuleSet(between.parts(place, done).rules))
    wishes = {(str(w.source), str(w.destination), w.service): w for w in settled.own_expectations()}
    apart = dict(_apart(between, settled, done))
    works: dict[Flow, str] = {}
    why: dict[Flow, str] = {}
    carried: list[tuple[str, float]] = []
    for flow in between.flows:
        wish = wishes.get((flow.source, flow.destination, flow.service))
        found, ways = _tried(model, wish)
        ends = flow.source, flow.destination
        doubts = (apart.get(name) for end in ends for name in (end, end.partition("/")[0]))
        if not found or flow.must == "work":
            found = next(filter(None, doubts), found)
        if found:
            why[flow] = found
        else:
            works[flow] = " + ".join(designed(settled, way) for way in ways)
            if load := between.loads.get(flow):
                carried += ((way, load) for way in ways)
    full = limits.full(settled, carried) if carried else frozenset()
    return Outlook(works, why, tuple(carried), full, _down(between, done))


def _down(between: Between, done: Done) -> int:
    known = (s.index.by_label for s in (between.before, between.after))
    both = between.moving.intersection(*known)
    return sum(1 for label in both if between.version(label, done) == NONE)


def _apart(between: Between, settled: Settled, done: Done) -> Iterator[tuple[str, str]]:
    """Sites and networks of which nothing is promised, with the reason."""
    for link in (*between.before.links.values(), *between.after.links.values()):
        for session in sessions_of(link):
            labels = {tunnel.label for tunnel in session.tunnels}
            versions = {between.version(name, done) for name in labels}
            apart = len(labels) > 1 and labels & between.moving
            if apart and versions not in ({OLD}, {NEW}) and not between.moved(labels, done):
                yield link.site, ONE_SESSION
    for _, one, other in between.clashing(done):
        yield from ((between.site_of(label), ALIKE_INSIDE) for label in (one, other))
    for label in between.moving:
        arrive = between.one_sided(label, done)
        if arrive is False:
            yield between.site_of(label), ROUTED_APART
        if arrive or between.version(label, done) == BOTH:
            for network in _seen_otherwise(between, label):
                yield network, TRANSLATED_APART
    seen: dict[tuple[str, str, object], set[object]] = {}
    for bundle in settled.bundles():
        for part in bundle.exposures:
            key = bundle.cloud, f"{bundle.site}/{part.network}", part.real
            seen.setdefault(key, set()).add(part.seen)
    for (_, network, _), ranges in seen.items():
        if len(ranges) > 1:
            yield network, TRANSLATED_APART


def _seen_otherwise(between: Between, label: str) -> Iterator[str]:
    """Networks that the two designs translate differently on a tunnel or circuit."""
    old, new = (
        {(part.network, part.real): part.seen for part in s.bundle(s.leg(label)).exposures}
        for s in (between.before, between.after)
    )
    for key, seen in new.items():
        if old.get(key, seen) != seen:
            yield f"{between.site_of(label)}/{key[0]}"


def _tried(model: ReachModel, wish: Expected | None) -> tuple[str, tuple[str, ...]]:
    """Why a flow does not work, and the ways that it takes."""
    if wish is None:
        return NOT_THERE, ()
    try:
        there, back = there_and_back(model, wish)
    except (KeyError, IndexError):
        return NOT_THERE, ()
    return stopped(there, back), there.ways
