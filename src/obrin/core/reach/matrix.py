"""Everything to everything: which flows pass between networks, and whether anybody asked for them.

Every rule that speaks of a pair, at either end, is tried as one packet between hosts that it names.
What passes is therefore something that a rule lets through at one end and some rule at the other.
"""

from __future__ import annotations

import itertools
from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

from obrin.core.address.prefix import Prefix
from obrin.core.address.space import free_blocks
from obrin.core.crew import HERE, Crew, Job, batches
from obrin.core.design.places import NetworkRef
from obrin.core.design.values import PROTOCOLS, Flow
from obrin.core.reach.filters import Rule
from obrin.core.reach.model import ReachModel
from obrin.core.reach.paths import all_networks
from obrin.core.reach.spoken import Spoken, pairs_spoken_of
from obrin.core.reach.trace import stopped, there_and_back, trace
from obrin.core.routing.packet import PacketKey
from obrin.core.settled.expected import FAMILY_NAMES, Expected
from obrin.core.settled.model import Settled, host_of

_NOTHING = Spoken()
SOURCES_AT_ONCE = 32
WISHED, WIDER, BROKEN, CLOSED = "as wished", "wider", "BROKEN", ""


@dataclass(frozen=True, slots=True)
class Cell:
    """The cell of one network to another: what passes, what of it nobody asked for, and broken
    wishes."""

    source: NetworkRef
    destination: NetworkRef
    allowed: tuple[str, ...]
    wider: tuple[str, ...]
    broken: tuple[str, ...]

    @property
    def places(self) -> tuple[str, str]:
        return self.source.place, self.destination.place

    @property
    def verdict(self) -> str:
        if self.broken:
            return BROKEN
        if self.wider:
            return WIDER
        return WISHED if self.allowed else CLOSED


class Matrix:
    """Source by source. Pairs that no rule and no wish speaks of, between which nothing passes,
    are in it only if `closed` ones are wanted; with a `place`, pairs that it is part of."""

    def __init__(
        self, model: ReachModel, place: str | None = None, *, closed: bool = False
    ) -> None:
        settled = model.settled
        self._model, self._place, self._closed = model, place, closed
        self.sources = all_networks(settled)
        order = {name: number for number, name in enumerate(self.sources)}
        self._spoken = pairs_spoken_of(settled, self.sources)
        for wish in settled.expectations:
            pair = wish.source.whole, wish.destination.whole
            if pair[0] in order and pair[1] in order and pair[0].place != pair[1].place:
                self._spoken.setdefault(pair, Spoken()).wishes.append(wish)
        self._targets: dict[NetworkRef, list[NetworkRef]] = {}
        for source, target in sorted(self._spoken, key=lambda p: (order[p[0]], order[p[1]])):
            self._targets.setdefault(source, []).append(target)

    def row(self, number: int) -> Iterator[Cell]:
        """Cells of the source with that number."""
        source = self.sources[number]
        for target in self.sources if self._closed else self._targets.get(source, ()):
            here = {source.place, target.place}
            if len(here) == 2 and (self._place is None or self._place in here):
                found = self._spoken.get((source, target), _NOTHING)
                yield _cell(self._model, source, target, found)


Given = tuple[Settled, frozenset[str], str | None, bool]


def matrix(
    model: ReachModel, place: str | None = None, *, closed: bool = False, crew: Crew = HERE
) -> Iterator[Cell]:
    """All cells, source by source."""
    whole = Matrix(model, place, closed=closed)
    given = model.settled, model.stable.lost, place, closed
    pieces = batches(range(len(whole.sources)), SOURCES_AT_ONCE)
    found = crew.each(_ROWS, given, pieces, whole)
    return itertools.chain.from_iterable(found)


def _matrix(given: Given) -> Matrix:
    settled, lost, place, closed = given
    model = ReachModel(settled)
    return Matrix(model.without(lost) if lost else model, place, closed=closed)


def _rows(whole: Matrix, numbers: Sequence[int]) -> list[Cell]:
    return [cell for number in numbers for cell in whole.row(number)]


_ROWS: Job[Given, Matrix, Sequence[int], list[Cell]] = Job(_matrix, _rows)


def count_pairs(settled: Settled, place: str | None = None) -> int:
    """Count pairs of networks at different places, both directions."""
    held = Counter(name.place for name in all_networks(settled))
    total = sum(held.values())
    if place is not None:
        return 2 * held[place] * (total - held[place])
    return sum(count * (total - count) for count in held.values())


def _cell(
    model: ReachModel,
    source: NetworkRef,
    destination: NetworkRef,
    spoken: Spoken,
) -> Cell:
    settled, wishes = model.settled, spoken.wishes
    allowed: dict[str, bool] = {}
    asked = [wish for wish in wishes if wish.must == "work"]
    tried = [(rule, _named(settled, source, destination, rule)) for rule in spoken.near]
    tried += [(rule, _named_there(settled, source, destination, rule)) for rule in spoken.far]
    tried += [
        (rule, replace(named, source=inner))
        for rule, named in tried
        if named is not None
        for sender in _let_in(settled, destination)
        if (inner := _meet(sender, [named.source])) not in (None, named.source)
    ]
    for rule, named in tried:
        text = _service(settled, rule)
        if named is None or allowed.get(text):
            continue
        packet = named.packet(settled, source, destination, rule.flow)
        if not trace(model, source, packet, meant=destination).dropped:
            allowed[text] = _wider(model, source, destination, named, rule.flow, asked)
    broken = []
    for wish in wishes:
        works = not stopped(*there_and_back(model, wish))
        if works != (wish.must == "work"):
            broken.append(f"{wish.service} must {'work' if wish.must == 'work' else 'not'}")
    wider = tuple(text for text, more in allowed.items() if more)
    return Cell(source, destination, tuple(allowed), wider, tuple(broken))


def _service(settled: Settled, rule: Rule) -> str:
    """What it lets begin, with the family where there are two."""
    if len(settled.families) == 1:
        return str(rule.flow)
    return f"{rule.flow} over {FAMILY_NAMES[rule.source.bits]}"


def _let_in(settled: Settled, network: NetworkRef) -> list[Prefix]:
    """Senders that the firewalls of its hosts name."""
    accepts = settled.hosts_accept(network) or ()
    sources = [rule.source for rule in accepts if rule.source is not None]
    return [prefix for source in sources for prefix in settled.prefixes_of(source)]


@dataclass(frozen=True, slots=True)
class _Named:
    """What of two networks a rule speaks of: of the source as it is, of the destination as the
    source's place knows it."""

    source: Prefix
    destination: Prefix

    def packet(
        self, settled: Settled, source: NetworkRef, destination: NetworkRef, flow: Flow
    ) -> PacketKey:
        """The first of a flow, between the usual hosts where the rule speaks of them."""
        bits = self.source.bits
        sender, _ = settled.host(replace(source, bits=bits), destination.place)
        _, target = settled.host(replace(destination, bits=bits), source.place)
        return PacketKey.first_of(
            flow,
            sender if self.source.holds(sender) else host_of(self.source),
            target if self.destination.holds(target) else host_of(self.destination),
        )


def _wider(
    model: ReachModel,
    source: NetworkRef,
    destination: NetworkRef,
    named: _Named,
    flow: Flow,
    asked: list[Expected],
) -> bool:
    """Whether a flow that passes is more than what was asked for: other ports, or, where only some
    hosts were meant, other hosts."""
    bits = named.source.bits
    mine = [wish for wish in asked if wish.bits == bits and _within(flow, wish.flow)]
    if not mine:
        return True
    if any(wish.source.part is None and wish.destination.part is None for wish in mine):
        return False
    settled = model.settled
    senders = [settled.network(wish.source) for wish in mine]
    targets = [p for wish in mine for p in settled.seen_as(wish.destination, source.place)]
    usual = host_of(_meet(senders[0], [named.source]) or named.source)
    other = host_of(_meet(targets[0], [named.destination]) or named.destination)
    beyond = [(host_of(p), other) for p in free_blocks([named.source], senders)]
    beyond += [(usual, host_of(p)) for p in free_blocks([named.destination], targets)]
    return any(
        not trace(
            model, source, PacketKey.first_of(flow, sender, target), meant=destination
        ).dropped
        for sender, target in beyond
    )


def _named(
    settled: Settled, source: NetworkRef, destination: NetworkRef, rule: Rule
) -> _Named | None:
    """What a rule at the source's place speaks of; None when it is not of the two."""
    own = _meet(rule.source, settled.prefixes_of(source))
    far = _meet(rule.destination, settled.seen_as(destination, source.place))
    return None if own is None or far is None else _Named(own, far)


def _named_there(
    settled: Settled, source: NetworkRef, destination: NetworkRef, rule: Rule
) -> _Named | None:
    """The same for a rule at the far end, which speaks of addresses as they are known there."""
    own = _meet(rule.source, settled.seen_as(source, destination.place))
    far = _meet(rule.destination, settled.prefixes_of(destination))
    if own is None or far is None:
        return None
    mine = settled.exposures(source, destination.place)
    theirs = settled.exposures(destination, source.place)
    return _Named(
        next((e.inward_prefix(own) for e in mine if e.seen.covers(own)), own),
        next((e.outward_prefix(far) for e in theirs if e.real.covers(far)), far),
    )


def _meet(one: Prefix, others: list[Prefix]) -> Prefix | None:
    """What a prefix has in common with one of several."""
    for other in others:
        if one.overlaps(other):
            return one if other.covers(one) else other
    return None


def _within(flow: Flow, asked: Flow) -> bool:
    """Whether a flow is all inside one that was asked for."""
    if asked.protocol is None:
        return True
    if flow.protocol != asked.protocol:
        return False
    if flow.protocol == PROTOCOLS["icmp"]:
        return True
    return asked.first_port <= flow.first_port and flow.last_port <= asked.last_port
