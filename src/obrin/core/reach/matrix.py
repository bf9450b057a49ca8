"""Everything to everything: which flows pass between networks, and whether anybody asked for them.

Every rule that speaks of a pair, at either end, is tried as one packet between hosts that it names.
What passes is therefore something that a rule lets through at one end and some rule at the other.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from obrin.core.address.prefix import Prefix
from obrin.core.address.translation import inward, outward
from obrin.core.design.model import Expectation
from obrin.core.design.places import NetworkRef
from obrin.core.design.values import PROTOCOLS, Flow
from obrin.core.reach.filters import Rule, filter_of
from obrin.core.reach.model import ReachModel
from obrin.core.reach.paths import all_networks
from obrin.core.reach.trace import stopped, there_and_back, trace
from obrin.core.routing.packet import PacketKey
from obrin.core.settled.model import Settled, host_of

WISHED, WIDER, BROKEN, CLOSED = "as wished", "wider", "BROKEN", ""


@dataclass(frozen=True, slots=True)
class Cell:
    """From one network to another: what passes, what of it nobody asked for, and broken wishes."""

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


def matrix(model: ReachModel) -> list[Cell]:
    """All pairs of networks at different places, source by source."""
    settled = model.settled
    names = all_networks(settled)
    rules = {name: tuple(_rules_at(settled, name.place)) for name in names}
    wishes: dict[tuple[NetworkRef, NetworkRef], list[Expectation]] = {}
    for wish in settled.expectations:
        wishes.setdefault((wish.source, wish.destination), []).append(wish)
    return [
        _cell(
            model,
            source,
            destination,
            rules[source],
            rules[destination],
            wishes.get((source, destination), []),
        )
        for source in names
        for destination in names
        if source.place != destination.place
    ]


def _rules_at(settled: Settled, place: str) -> Iterator[Rule]:
    """The rules at a place that begin flows, of all its gateways."""
    here = [place] if place in settled.clouds else settled.sites[place].gateways
    for name in here:
        for rule in filter_of(settled, name):
            if not rule.reply:
                yield rule


def _cell(
    model: ReachModel,
    source: NetworkRef,
    destination: NetworkRef,
    near: tuple[Rule, ...],
    far: tuple[Rule, ...],
    wishes: list[Expectation],
) -> Cell:
    settled = model.settled
    allowed: dict[str, Flow] = {}
    tried = [(rule, _packet(settled, source, destination, rule)) for rule in near]
    tried += [(rule, _packet_there(settled, source, destination, rule)) for rule in far]
    for rule, key in tried:
        if key is None:
            continue
        flow = rule.flow
        if str(flow) not in allowed and not trace(model, source, key).dropped:
            allowed[str(flow)] = flow
    asked = [wish.flow for wish in wishes if wish.must == "work"]
    wider = [text for text, flow in allowed.items() if not any(_within(flow, a) for a in asked)]
    broken = []
    for wish in wishes:
        works = not stopped(*there_and_back(model, wish))
        if works != (wish.must == "work"):
            broken.append(f"{wish.flow} must {'work' if wish.must == 'work' else 'not'}")
    return Cell(source, destination, tuple(allowed), tuple(wider), tuple(broken))


def _packet(
    settled: Settled, source: NetworkRef, destination: NetworkRef, rule: Rule
) -> PacketKey | None:
    """A packet between the two that the rule lets through; None when it does not speak of them."""
    here, there = source.place, destination.place
    own = _meet(rule.source, [settled.network(source)])
    far = _meet(rule.destination, settled.seen_as(destination, here))
    if own is None or far is None:
        return None
    sender, _ = settled.host(source, there)
    _, target = settled.host(destination, here)
    return PacketKey.first_of(
        rule.flow,
        sender if own.holds(sender) else host_of(own),
        target if far.holds(target) else host_of(far),
    )


def _packet_there(
    settled: Settled, source: NetworkRef, destination: NetworkRef, rule: Rule
) -> PacketKey | None:
    """The same for a rule at the far end, which speaks of addresses as they are known there."""
    here, there = source.place, destination.place
    own = _meet(rule.source, settled.seen_as(source, there))
    far = _meet(rule.destination, [settled.network(destination)])
    if own is None or far is None:
        return None
    real, seen = settled.host(source, there)
    far_real, far_seen = settled.host(destination, here)
    if not own.holds(seen):
        seen = host_of(own)
        real = inward(tuple(settled.exposures(source, there)), seen)
    if not far.holds(far_real):
        far_real = host_of(far)
        far_seen = outward(tuple(settled.exposures(destination, here)), far_real)
    return PacketKey.first_of(rule.flow, real, far_seen)


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
