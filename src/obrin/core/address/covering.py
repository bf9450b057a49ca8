"""Fewer prefixes for what is advertised, by covering what lies between and is nobody's.

The problem. A site advertises thirty prefixes where four would do, because gaps lie between them. A
wider prefix is right only if it attracts no traffic for somebody else.

The idea. Candidates are the covers of neighbours in the sorted list. A cover is kept if nothing
that is known to belong to others lies in it, and if it is not much larger than what is in it
(DENSE).

The invariant. Every address that was advertised is covered, and none that somebody else has.

Proven: `tests/core/test_blocks.py`.
"""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Iterable, Iterator
from itertools import accumulate

from obrin.core.address.prefix import Prefix
from obrin.core.address.space import smallest_cover, summaries

DENSE = 8
"""A cover is at most so many times as large as what is advertised of it: room to grow, not more."""


class Ranges:
    """All ranges that somebody has, sorted once to be asked what lies where."""

    def __init__(self, ranges: Iterable[Prefix]) -> None:
        self.held = set(ranges)
        self.ordered = sorted(self.held, key=lambda p: (p.bits, p.value, p.length))
        self._starts = [(p.bits, p.value) for p in self.ordered]
        self._shapes = {(p.bits, p.length) for p in self.held}

    def between(self, bits: int, first: int, end: int) -> tuple[int, int]:
        """Positions of those that begin from `first` on and before `end`."""
        low = bisect_left(self._starts, (bits, first))
        return low, bisect_left(self._starts, (bits, end))

    def before(self, block: Prefix) -> Prefix | None:
        """The last one that begins at or before the block's begin."""
        at = bisect_right(self._starts, (block.bits, block.value))
        return self.ordered[at - 1] if at else None

    def around(self, block: Prefix) -> Iterator[Prefix]:
        """Prefixes larger than the block that cover it."""
        for bits, length in self._shapes:
            if bits == block.bits and length < block.length:
                wider = block.widened(length)
                if wider in self.held:
                    yield wider


def covering(advertised: Iterable[Prefix], known: Ranges) -> tuple[Prefix, ...]:
    """Prefixes that cover what is advertised, and nothing that is known and not advertised, in
    order.

    They are neither wider than needed for that, nor more than DENSE times what they cover.
    """
    exact = summaries(advertised)
    mine = Ranges(exact)
    sums = [0, *accumulate(p.size for p in exact)]

    def addresses_in(cover: Prefix) -> int:
        first, last = mine.between(cover.bits, cover.value, cover.last + 1)
        return sums[last] - sums[first]

    def foreign(block: Prefix) -> bool:
        own = mine.before(block)
        return own is None or not own.covers(block)

    def good(cover: Prefix, one: Prefix, two: Prefix) -> bool:
        """The two are good; what is new in the cover lies before, between and behind them."""
        if cover.size > DENSE * addresses_in(cover):
            return False
        if any(foreign(wide) for part in (one, two) for wide in known.around(part)):
            return False
        gaps = (
            (cover.value, one.value),
            (one.last + 1, two.value),
            (two.last + 1, cover.last + 1),
        )
        return not any(
            foreign(known.ordered[at])
            for first, end in gaps
            for at in range(*known.between(cover.bits, first, end))
        )

    found: list[Prefix] = []
    for block in exact:
        found.append(block)
        while len(found) > 1 and found[-2].bits == block.bits:
            cover = smallest_cover(found[-2:])
            if not good(cover, found[-2], found[-1]):
                break
            found[-2:] = [cover]
    return tuple(found)
