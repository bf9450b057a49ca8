"""Whole networks, not one host: an expectation holds if every address of both networks does.

A network is cut where anything that decides has a boundary inside it: what of it uses a link, a
filter rule, a route of its own in a subnet's table, a route that is learned. Within a block all
addresses are treated alike, so one of each is tried. Most networks are one block.
"""

from __future__ import annotations

import itertools
from bisect import bisect_left, bisect_right
from collections.abc import Iterable, Iterator

from obrin.core.address.prefix import Address, Prefix
from obrin.core.address.space import free_blocks
from obrin.core.check.finding import Finding, Severity
from obrin.core.design.places import NetworkRef
from obrin.core.reach.model import ReachModel
from obrin.core.reach.paths import key_of
from obrin.core.reach.trace import stopped, there_and_back
from obrin.core.settled.expected import Expected
from obrin.core.settled.model import Settled

MOST_PAIRS = 64
"""Pairs of blocks that are tried for one expectation."""


class Parts:
    """Every boundary of a design, once; then the blocks of each network."""

    def __init__(self, model: ReachModel) -> None:
        self._model = model
        self._settled = settled = model.settled
        self._cuts = sorted(set(_cuts(settled, model)))
        self._blocks: dict[NetworkRef, tuple[Prefix, ...]] = {}

    def blocks(self, network: NetworkRef) -> tuple[Prefix, ...]:
        """Disjoint, together the whole network, the one of the usual host among them."""
        if network not in self._blocks:
            whole = self._settled.network(network)
            low = bisect_left(self._cuts, Prefix(whole.bits, whole.value, 0))
            high = bisect_right(self._cuts, Prefix(whole.bits, whole.last, whole.bits))
            inside = [p for p in self._cuts[low:high] if p != whole and whole.covers(p)]
            self._blocks[network] = tuple(_cut(whole, inside))
        return self._blocks[network]

    def broken(self, wish: Expected) -> Iterator[tuple[Prefix, Prefix, str]]:
        """Blocks of the source and of the destination between which it does not hold, and why."""
        pairs = itertools.product(self.blocks(wish.source), self.blocks(wish.destination))
        for source, destination in itertools.islice(pairs, MOST_PAIRS):
            ends = (wish.source, _middle(source)), (wish.destination, _middle(destination))
            key = key_of(self._settled, *ends, wish.flow)
            reason = stopped(*there_and_back(self._model, wish, key))
            if reason:
                yield source, destination, reason


def _cuts(settled: Settled, model: ReachModel) -> Iterator[Prefix]:
    for bundle in settled.bundles():
        for part in (*bundle.exposures, *bundle.cloud_exposures):
            yield part.real
    for cloud in settled.clouds.values():
        for subnet in cloud.subnets.values():
            yield from (prefix for prefix, _ in subnet.routes)
    for _, accepts in settled.all_hosts_accept():
        for host_rule in accepts:
            if host_rule.source is not None:
                yield from settled.prefixes_of(host_rule.source)
    given = [name for name, cloud in settled.clouds.items() if cloud.filters is not None]
    given += [name for name, gateway in settled.gateways.items() if gateway.filters is not None]
    for place in given:  # what is made from expectations has no other boundaries than theirs
        for rule in model.rules(place).rules:
            yield from (rule.source, rule.destination)


def _cut(whole: Prefix, inside: Iterable[Prefix]) -> Iterator[Prefix]:
    """Disjoint blocks: each prefix less what lies in it, and what is left of the whole."""
    found = [whole, *inside]
    for prefix in found:
        smaller = [p for p in found if p != prefix and prefix.covers(p)]
        yield from free_blocks([prefix], smaller) if smaller else [prefix]


def _middle(block: Prefix) -> Address:
    """A host of a block; not its first address, which may be the gateway's own."""
    return block.address_at(block.size // 2)


def parts(index: int, wish: Expected, found: Parts) -> Iterator[Finding]:
    """Findings about the parts of networks for which an expectation fails though it holds for
    the usual host."""
    if len(found.blocks(wish.source)) == len(found.blocks(wish.destination)) == 1:
        return
    broken = list(found.broken(wish))
    if not broken:
        return
    named, network = {source for source, _, _ in broken}, wish.source
    if named == {*found.blocks(wish.source)}:
        named, network = {destination for _, destination, _ in broken}, wish.destination
    listed = ", ".join(map(str, sorted(named)))
    yield Finding(
        Severity.WARNING,
        "expectation-part",
        ("expectations", index),
        f"{wish.words} works for a part only, and not for {listed} of {network}: {broken[0][2]}",
        "hosts there get no answer, while others in the same network do",
        "treat the whole network alike, or make the part a network of its own",
    )
