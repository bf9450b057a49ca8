"""Which prefixes lie inside which, one by one: for the few thousand of a design this is done before
NumPy is loaded (`bulk` has the same for a hundred thousand and more)."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from obrin.core.address.prefix import Prefix


def overlapping_pairs(prefixes: Sequence[Prefix]) -> Iterator[tuple[int, int]]:
    """Positions of all pairs of one family of which the first covers the second, in the order of
    addresses, the shorter before the longer. Of two that are alike, the one given first covers."""
    order = sorted(range(len(prefixes)), key=prefixes.__getitem__)
    for place, outer in enumerate(order):
        bits, last = prefixes[outer].bits, prefixes[outer].last
        for number in range(place + 1, len(order)):
            inner = order[number]
            if prefixes[inner].bits != bits or prefixes[inner].value > last:
                break
            yield outer, inner
