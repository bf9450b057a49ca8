"""Tunnels and circuits of the old and the new design that have addresses in common: a device that
has both at once takes one for the other."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping

from obrin.core.address.prefix import Prefix
from obrin.core.change.records import Told
from obrin.core.settled.links import SettledTunnel
from obrin.core.settled.model import Settled

Clash = tuple[str, str, str]
"""A place, and the labels of the old and of the new."""
_End = tuple[str, bool]
"""A label, and whether it is of the new design."""


def clashes_of(
    before: Settled, after: Settled, old: Mapping[str, Told], new: Mapping[str, Told]
) -> Iterator[Clash]:
    """Find the clashes at all places. Two instances of a cloud do not clash."""
    for place, told in old.items():
        blocks: dict[int, list[tuple[Prefix, _End]]] = {}
        for settled, mine, other in ((before, told, new[place]), (after, new[place], told)):
            for label, record in mine.legs.items():
                if other.legs.get(label) == record:
                    continue
                leg = settled.index.by_label[label]
                instance = 0
                if isinstance(leg, SettledTunnel) and place == leg.cloud:
                    instance = leg.instance
                for block in record.interface.networks:
                    blocks.setdefault(instance, []).append((block, (label, settled is after)))
        for held in blocks.values():
            for (one, is_new), (two, is_newer) in _overlapping(held):
                if is_new is not is_newer and one != two:
                    yield (place, two, one) if is_new else (place, one, two)


def _overlapping(blocks: Iterable[tuple[Prefix, _End]]) -> Iterator[tuple[_End, _End]]:
    """Pair the ends whose prefixes overlap. Of two that do, one covers the other."""
    above: list[tuple[Prefix, _End]] = []
    for block, end in sorted(blocks):
        while above and not above[-1][0].covers(block):
            above.pop()
        yield from ((wide, end) for _, wide in above)
        above.append((block, end))
