"""Which pairs of networks the rules of filters speak of, without looking at every pair.

A rule at a place is of its networks on one side, and on the other of those that its prefix meets:
as they are, found in order of their addresses, or as some place knows them by another prefix. The
latter are few, and looked at for every rule.
"""

from __future__ import annotations

import bisect
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

from obrin.core.address.prefix import Address, Prefix
from obrin.core.address.table import PrefixTable
from obrin.core.design.places import NetworkRef
from obrin.core.reach.filters import Rule, filter_of
from obrin.core.settled.expected import Expected
from obrin.core.settled.model import Settled

Pair = tuple[NetworkRef, NetworkRef]


@dataclass(slots=True)
class Spoken:
    """Rules at the source's place and at the destination's, in their order, that may be of a pair;
    and what is wished of it."""

    near: list[Rule] = field(default_factory=list)
    far: list[Rule] = field(default_factory=list)
    wishes: list[Expected] = field(default_factory=list)


def pairs_spoken_of(settled: Settled, names: Sequence[NetworkRef]) -> dict[Pair, Spoken]:
    """Every pair that a rule may be of, and perhaps some of which it is not."""
    where = _Where(settled, names)
    at: dict[str, list[NetworkRef]] = {}
    for name in names:
        at.setdefault(name.place, []).append(name)
    found: dict[Pair, Spoken] = {}
    for place, own in at.items():
        for rule in _rules_at(settled, place):
            here = [n for n in own if _meets(settled, rule.source, n)]
            if here:
                for far in where.met(rule.destination, place):
                    for near in here:
                        found.setdefault((near, far), Spoken()).near.append(rule)
            here = [n for n in own if _meets(settled, rule.destination, n)]
            if here:
                for far in where.met(rule.source, place):
                    for near in here:
                        found.setdefault((far, near), Spoken()).far.append(rule)
    return found


def _rules_at(settled: Settled, place: str) -> Iterator[Rule]:
    """The rules at a place that begin flows, of all its gateways."""
    here = [place] if place in settled.clouds else settled.sites[place].gateways
    for name in here:
        for rule in filter_of(settled, name):
            if not rule.reply:
                yield rule


def _meets(settled: Settled, prefix: Prefix, network: NetworkRef) -> bool:
    return any(prefix.overlaps(own) for own in settled.prefixes_of(network))


class _Where:
    """Networks by their own prefixes; `otherwise` are those that somebody knows by another one."""

    def __init__(self, settled: Settled, names: Sequence[NetworkRef]) -> None:
        self._covering: PrefixTable[list[NetworkRef]] = PrefixTable()
        held: list[tuple[tuple[int, int], NetworkRef]] = []
        for name in names:
            for prefix in settled.prefixes_of(name):
                held.append(((prefix.bits, prefix.value), name))
                entry = self._covering.get(prefix)
                if entry is None:
                    self._covering[prefix] = [name]
                else:
                    entry.append(name)
        held.sort(key=lambda item: item[0])
        self._starts = [start for start, _ in held]
        self._names = [name for _, name in held]
        others = dict.fromkeys(_known_otherwise(settled))
        self._otherwise = [
            name
            for name in names
            if (name.place, name.network) in others or (name.place, "") in others
        ]

    def met(self, prefix: Prefix, place: str) -> Iterator[NetworkRef]:
        """Networks at other places that have something in common with a prefix, or may have for
        that place; each once."""
        found = dict.fromkeys(self._otherwise)
        for cover, names in self._covering.matches(Address(prefix.bits, prefix.value)):
            if cover.length <= prefix.length:
                found |= dict.fromkeys(names)
        first = bisect.bisect_left(self._starts, (prefix.bits, prefix.value))
        end = bisect.bisect_right(self._starts, (prefix.bits, prefix.last))
        found |= dict.fromkeys(self._names[first:end])
        return (name for name in found if name.place != place)


def _known_otherwise(settled: Settled) -> Iterator[tuple[str, str]]:
    """Places and networks of which some range is translated; of clouds, all that is in it."""
    for bundle in settled.bundles():
        for part in bundle.exposures:
            if part.translated:
                yield bundle.site, part.network
        for part in bundle.cloud_exposures:
            if part.translated:
                for cloud in settled.clouds.values():
                    if any(space.overlaps(part.real) for space in cloud.all_spaces):
                        yield cloud.name, ""
