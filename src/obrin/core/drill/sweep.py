"""Try failures on the model: what is lost, what moves where and for how long, what is overloaded.

The problem. Three things at once of two thousand sites are billions of sets, and each one changes
routes everywhere.

The idea. Flows are followed once while all is up. A failure can only touch the flows whose ways it
takes away, so only those are followed again, on a state that stands on the whole one
(`routing/stable.py`). Failures that leave the same ways are tried once. Several at once are put
together from the single ones wherever these touch different flows.

The invariant. The outcome is what following every flow anew in the state would give.

The cost. For each failure: the flows that it touches.

Proven against working out everything from nothing: `tests/core/test_drill.py`,
`tests/core/test_joining.py`; and against packets: `tests/live/test_rehearse.py`.
"""

from __future__ import annotations

import itertools
from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass

from obrin.core.catalogue.offering import Offered
from obrin.core.drill.detection import Detector
from obrin.core.drill.elements import KINDS, Element, of_kinds, takes
from obrin.core.drill.load import Use, single_uses, uses
from obrin.core.drill.noticing import INTERNAL, Noticing, both
from obrin.core.reach.model import ReachModel
from obrin.core.reach.trace import far_key, probe_key, stopped, there_and_back
from obrin.core.settled.expected import Expected
from obrin.core.settled.model import Settled
from obrin.core.settled.ways import Neighbour


@dataclass(frozen=True, slots=True)
class Way:
    """How a flow goes: the ways there and back, in order; `stopped` says why it does not.
    `hangs_on` are the gateways that its hosts leave by, whatever their routes are."""

    flow: str
    load: float
    there: tuple[str, ...]
    back: tuple[str, ...]
    stopped: str = ""
    hangs_on: tuple[str, ...] = ()

    @property
    def all_of_it(self) -> tuple[str, ...]:
        """Everything that has to be up for it, each way at its place."""
        return (*self.hangs_on, *self.there, *self.back)

    @property
    def apart(self) -> bool:
        """Whether the answer takes another way."""
        return not self.stopped and self.there != self.back[::-1]

    def meets(self, lost: frozenset[str]) -> bool:
        """Whether it went over something that is lost."""
        return not lost.isdisjoint(self.all_of_it)


@dataclass(frozen=True, slots=True)
class Moved:
    """A flow that goes another way, and how long it is gone: `noticed` tells by what, in the
    shortest and the longest case; None where nothing notices."""

    flow: str
    before: str
    after: str
    noticed: Detector | None

    @property
    def seconds(self) -> float | None:
        """The longest time without it."""
        return None if self.noticed is None else self.noticed.longest


@dataclass(frozen=True, slots=True, kw_only=True)
class Outcome:
    """What one failure does. `too_much` are tunnels, uplinks and instances that get more than they
    carry, `fullest` the one with the least left, None where no loads are given; `apart` are flows
    whose two directions take different ways."""

    failed: tuple[Element, ...]
    lost: tuple[str, ...]
    moved: tuple[Moved, ...]
    too_much: tuple[str, ...]
    apart: tuple[str, ...]
    fullest: Use | None = None

    @property
    def keeps_the_promise(self) -> bool:
        return not self.lost and not self.too_much

    @property
    def seconds(self) -> float | None:
        """The longest outage of a flow that moves; None when one never comes back."""
        known = [m.seconds for m in self.moved]
        return None if None in known else max((s for s in known if s is not None), default=0.0)


class Sweep:
    """The flows that must work, and what becomes of them. Flows that are broken already are left
    out: `check` reports those. Without an offering, loads are not looked at."""

    def __init__(self, settled: Settled, offering: Offered | None = None) -> None:
        self.settled = settled
        self.offering = offering
        self._whole = ReachModel(settled)
        wishes = [w for w in settled.own_expectations() if w.must == "work"]
        self._keys = {id(wish): probe_key(settled, wish) for wish in wishes}
        pairs = [(self._way(self._whole, wish, flow_name(wish)), wish) for wish in wishes]
        self.flows = [(way, wish) for way, wish in pairs if not way.stopped]
        self._apart = [way.flow for way, _ in self.flows if way.apart]
        self._loaded = any(wish.load or wish.largest for _, wish in self.flows)
        self._takes = takes(settled)
        self._users: dict[str, list[int]] = {}
        for number, (way, _) in enumerate(self.flows):
            for label in set(way.all_of_it):
                self._users.setdefault(label, []).append(number)
        self._states: dict[frozenset[str], dict[int, Way]] = {}
        self._noticing = Noticing(settled)
        self._last: tuple[tuple[Element, ...], frozenset[str]] = (), frozenset()
        self._partly: dict[frozenset[str], ReachModel] = {}

    def try_one(self, failed: tuple[Element, ...]) -> Outcome:
        """One failure, of one element or several at once."""
        changed = self.changed(failed)
        lost, moved = [], []
        for number, after in changed.items():
            before = self.flows[number][0]
            if after.stopped:
                lost.append(before.flow)
            elif (before.there, before.back) != (after.there, after.back):
                moved.append(self._moved(number, failed, after))
        touched = {self.flows[number][0].flow for number in changed}
        apart = [flow for flow in self._apart if flow not in touched]
        apart += [w.flow for w in changed.values() if w.apart]
        used = self._uses(changed, failed)
        too_much = tuple(use.too_much for use in used if use.too_much)
        fullest = max(used, key=lambda use: use.share, default=None)
        return Outcome(
            failed=failed,
            lost=tuple(lost),
            moved=tuple(moved),
            too_much=too_much,
            apart=tuple(apart),
            fullest=fullest,
        )

    @property
    def loaded(self) -> bool:
        """Whether loads are looked at."""
        return self.offering is not None and self._loaded

    def breaks(self, failed: Sequence[Element]) -> bool:
        """Whether a failure breaks the promise."""
        changed = self.changed(failed)
        if any(way.stopped for way in changed.values()):
            return True
        return any(use.too_much for use in self._uses(changed, failed))

    def elements(self, kinds: Collection[str] = KINDS) -> list[Element]:
        """All that can fail, kind by kind."""
        return of_kinds(self._takes, kinds)

    def takes(self, element: Element) -> frozenset[str]:
        """The ways that it takes along when it fails."""
        return self._takes.get(element, frozenset())

    def changed(self, failed: Sequence[Element]) -> dict[int, Way]:
        """The flows that a failure touches, by number, with the ways that they then go.

        Several at once are put together from the single ones: a flow that only one of them touches,
        and that has got round it by tunnels which the others leave alone, goes as it went then.
        """
        takes = [self.takes(element) for element in failed]
        if len(takes) == 1:
            return self._single(takes[0])
        lost = frozenset[str]().union(*takes)
        model: ReachModel | None = None
        merged: dict[int, Way] = {}
        for taken in dict.fromkeys(takes):
            for number, way in self._single(taken).items():
                if number in merged or way.stopped or way.meets(lost):
                    model = model or self.model_without(lost)
                    way = self.way_in(model, number)
                merged[number] = way
        return dict(sorted(merged.items()))

    def model_without(self, lost: frozenset[str]) -> ReachModel:
        """The network while these ways are lost."""
        return self._whole.without(lost)

    def _single(self, lost: frozenset[str]) -> dict[int, Way]:
        if lost not in self._states:
            touched = sorted({n for label in lost for n in self._users.get(label, ())})
            model = self.model_without(lost)
            self._states[lost] = {n: self.way_in(model, n) for n in touched}
        return self._states[lost]

    def way_in(self, model: ReachModel, number: int) -> Way:
        """How a flow goes in it, followed anew."""
        way, wish = self.flows[number]
        return self._way(model, wish, way.flow)

    def _way(self, model: ReachModel, wish: Expected, name: str) -> Way:
        there, back = there_and_back(model, wish, self._keys[id(wish)])
        back_by = () if back is None else back.ways
        hangs_on = (*there.hangs_on, *(() if back is None else back.hangs_on))
        return Way(name, wish.load or 0.0, there.ways, back_by, stopped(there, back), hangs_on)

    def _moved(self, number: int, failed: Sequence[Element], after: Way) -> Moved:
        before = self.flows[number][0]
        was, now = _differ(before.there, after.there)
        if was == now:
            was, now = _differ(before.back, after.back)
        texts = " + ".join(was), " + ".join(now)
        return Moved(before.flow, *texts, self._noticed(number, failed, after))

    def _noticed(self, number: int, failed: Sequence[Element], after: Way) -> Detector | None:
        """Say when a flow is back that finds a way at last: once all has been noticed that it is
        sent into until then, one thing after the other."""
        lost = self._lost(tuple(failed))
        way, found = self.flows[number][0], None
        seen, then = set[str](), frozenset[str]()
        if any(element.kind == "gateway" for element in failed):
            found = self._noticing.first_hop(failed, self._left_by(number))
            if self._goes_by_hearsay(number, after, lost):
                found = both(found, INTERNAL)
        while met := [
            w for w in (*way.there, *way.back) if w in lost and w not in seen and w not in then
        ]:
            for label in met:
                detector = self._noticing.of(label)
                if detector is None:
                    return None
                found = both(found, detector)
                seen.add(label)
            then = self._noticing.by_then(lost, 0.0 if found is None else found.longest)
            whole = len(then) + len(seen - then) == len(lost)
            way = after if whole else self.way_in(self._without(then | seen), number)
        if found is None:
            return None
        new = {*after.there, *after.back} - {*self.flows[number][0].there}
        return Detector(found.name, found.shortest, found.longest + self._noticing.spare(new))

    def _lost(self, failed: tuple[Element, ...]) -> frozenset[str]:
        """The ways that a failure takes along; the same set for each of its flows."""
        if self._last[0] != failed:
            self._last = failed, frozenset[str]().union(*map(self.takes, failed))
        return self._last[1]

    def _goes_by_hearsay(self, number: int, after: Way, lost: frozenset[str]) -> bool:
        """Whether the gateway that hosts then use believes what it learned from the dead one: it
        would pass packets on to that."""
        wish, legs = self.flows[number][1], self.settled.index.by_label
        there, back = self._keys[id(wish)].destination, far_key(self.settled, wish).source
        ends = (
            (wish.source.place, after.there, there),
            (wish.destination.place, after.back, back),
        )
        for place, ways, target in ends:
            leg = legs.get(ways[0]) if ways and place in self.settled.sites else None
            found = None if leg is None else self._whole.match(leg.gateway, target)
            if found is not None and found[1].via in lost and found[1].via not in legs:
                return True
        return False

    def _left_by(self, number: int) -> set[str]:
        """The site gateways that hosts send a flow and its answers to."""
        (way, wish), legs = self.flows[number], self.settled.index.by_label
        ends = (wish.source.place, way.there), (wish.destination.place, way.back)
        firsts = (legs.get(ways[0]) for at, ways in ends if ways and at in self.settled.sites)
        found = {leg.gateway for leg in firsts if leg is not None}
        hops = map(self.settled.way, way.hangs_on)
        return found | {hop.gateway for hop in hops if isinstance(hop, Neighbour)}

    def _without(self, lost: frozenset[str]) -> ReachModel:
        if lost not in self._partly:
            self._partly[lost] = self.model_without(lost)
        return self._partly[lost]

    def _uses(self, changed: dict[int, Way], failed: Sequence[Element]) -> list[Use]:
        if self.offering is None or not self._loaded:
            return []
        lost = self._lost(tuple(failed))
        now = [
            (changed.get(number, way), wish.largest or 0.0)
            for number, (way, wish) in enumerate(self.flows)
        ]
        carried = [(leg, way.load) for way, _ in now if not way.stopped for leg in way.there]
        single = [(way.flow, way.there, most) for way, most in now if most and not way.stopped]
        return [
            *uses(self.settled, self.offering, carried, lost),
            *single_uses(self.settled, self.offering, single),
        ]


def failures(found: Sequence[Element], depth: int) -> Iterator[tuple[Element, ...]]:
    """All sets of up to `depth` elements, the small ones first."""
    for size in range(1, depth + 1):
        yield from itertools.combinations(found, size)


class ShortList:
    """Failures that break the promise, but for those in which a smaller one does so already.

    Fed with the small failures first, as `failures` gives them.
    """

    def __init__(self) -> None:
        self._broken: set[frozenset[Element]] = set()

    def takes(self, outcome: Outcome) -> bool:
        """Whether this one belongs to the list."""
        if outcome.keeps_the_promise:
            return False
        smaller = (
            frozenset(part)
            for size in range(1, len(outcome.failed))
            for part in itertools.combinations(outcome.failed, size)
        )
        if any(part in self._broken for part in smaller):
            return False
        self._broken.add(frozenset(outcome.failed))
        return True


def flow_name(wish: Expected) -> str:
    """How a flow is called in drills."""
    return f"{wish.service} {wish.source} > {wish.destination}"


def _differ(
    before: tuple[str, ...], after: tuple[str, ...]
) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """Strip what both begin and end with alike."""
    while before and after and before[0] == after[0]:
        before, after = before[1:], after[1:]
    while before and after and before[-1] == after[-1]:
        before, after = before[:-1], after[:-1]
    return before, after
