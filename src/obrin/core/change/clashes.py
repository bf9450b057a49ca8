"""Find tunnels and circuits of the old and the new design that have addresses in common.

The problem. While a change is under way, a device has old and new entries at once. Two interfaces
with overlapping blocks are one route to it: it takes one tunnel for the other. So the new one has
to wait until the old one is gone, and the order must know which pairs these are.

The idea. Prefixes are nested or disjoint. Sorted, each prefix comes right after those that cover
it; a stack of the open ones gives all pairs in one pass.

The invariant. Only pairs of an old and a new entry at one place count, and entries that are the
same in both designs are left out: they stay. Two instances of a cloud gateway are two devices.

The cost. One sort of the blocks of a place, and the pairs found.

Proven with the orders that follow from it: `tests/core/test_change.py`, and packets in
`tests/live/test_kinds_of_change.py`.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping

from obrin.core.address.prefix import Prefix
from obrin.core.change.place_parts import PlaceParts
from obrin.core.settled.links import SettledTunnel
from obrin.core.settled.model import Settled

Clash = tuple[str, str, str]
"""A place, and the labels of the old and of the new."""
_End = tuple[str, bool]
"""A label, and whether it is of the new design."""


def clashes_of(
    before: Settled, after: Settled, old: Mapping[str, PlaceParts], new: Mapping[str, PlaceParts]
) -> Iterator[Clash]:
    """Find the clashes at all places. Two instances of a cloud do not clash."""
    for place, parts in old.items():
        blocks: dict[int, list[tuple[Prefix, _End]]] = {}
        for settled, mine, other in ((before, parts, new[place]), (after, new[place], parts)):
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
