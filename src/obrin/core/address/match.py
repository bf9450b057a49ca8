"""Find the longest match for many addresses at once, and for one at a time without compiled code.

The problem. Millions of addresses against tens of thousands of prefixes, in Python.

The idea. Nested prefixes cut the line of addresses into segments, each with one longest match
(`bulk.py`). IPv4 in bulk: a table with an entry for each of the 2^24 blocks of 256 addresses, and a
row of 256 for each block that is divided; two look-ups an address (the idea of DIR-24-8). IPv6 in
bulk: bisection in the places where the match changes, begun in a slot of equal width over the span.
One at a time: the same places in a plain list, searched by bisection.

The invariant. The answer is the longest prefix that covers the address; of equal ones the later.

The cost. IPv4 two array reads for each address and 64 MB; IPv6 a logarithm, less by the slots.

Proven against a plain search in `tests/core/test_bulk.py`. Source: Gupta, Lin and McKeown,
"Routing lookups in hardware at memory access speeds" (1998).
"""

from __future__ import annotations

from array import array
from bisect import bisect_left, bisect_right
from collections.abc import Callable, Sequence

import numpy as np
import numpy.typing as npt

from obrin.core.address.bulk import Index, PrefixSet, Words
from obrin.core.address.prefix import Prefix

Found = npt.NDArray[np.int32]
_SLOT_BITS = 19
_FEW = 64
_NO_SLOTS: Index = np.zeros(0, dtype=np.int64)


class BulkMatch:
    """Answers which prefix of a list is the longest that covers each of many addresses.

    Where a prefix stands in the list twice, the later one answers.
    """

    def __init__(self, prefixes: Sequence[Prefix]) -> None:
        made = PrefixSet(prefixes)
        self.bits = made.bits
        self._ties, self._slots = False, _NO_SLOTS
        starts, owner = made.segments()
        self._owner: Found = owner.astype(np.int32)
        if self.bits == 32:
            self._build_table(starts)
        elif len(prefixes):
            high, low = made.rank_words
            self._cut_words(starts, high, low)
        else:
            self._high = self._low = np.zeros(1, dtype=np.uint64)

    def _build_table(self, starts: Index) -> None:
        starts = np.minimum(starts, 1 << 32)
        # An owner answers for whole blocks from the first that begins in its reach.
        blocks = (starts + 255) >> 8
        counts = np.diff(np.append(blocks, 1 << 24))
        self._table: Found = np.repeat(self._owner, counts)
        divided = np.unique(starts[(starts & 255) != 0] >> 8)
        addresses = (divided[:, None] << 8) + np.arange(256, dtype=np.int64)
        where = np.searchsorted(starts, addresses.ravel(), side="right") - 1
        self._rows: Found = self._owner[where]
        # A divided block says where its row begins: -2 - row.
        self._table[divided] = -2 - np.arange(len(divided), dtype=np.int32)

    def _cut_words(self, starts: Index, high: Words, low: Words) -> None:
        if starts[-1] >= len(high):
            starts, self._owner = starts[:-1], self._owner[:-1]
        self._high, self._low = high[starts], low[starts]
        # Rank 0 is the lowest begin, not address 0: what lies below matches nothing.
        zero = np.zeros(1, dtype=np.uint64)
        self._high = np.concatenate((zero, self._high))
        self._low = np.concatenate((zero, self._low))
        self._owner = np.concatenate((np.array([-1], dtype=np.int32), self._owner))
        self._ties = bool(self._low.any())
        self._index_words()

    def match_ipv4(self, addresses: npt.NDArray[np.uint32]) -> Found:
        """Positions in the list, -1 where nothing covers; shape as given."""
        found = self._table.take(addresses >> np.uint32(8))
        divided = np.flatnonzero(found < -1)
        if len(divided):
            rows = (-2 - found[divided]).astype(np.int64) << 8
            found[divided] = self._rows[rows + (addresses[divided] & np.uint32(255))]
        return found

    def match_ipv6(self, high: Words, low: Words) -> Found:
        """The same for IPv6 addresses as two words of 64 bits, most significant first."""
        place = self._place(high)
        if self._ties:
            # Among places with the same high word the low word decides.
            below = np.flatnonzero((self._high[place] == high) & (self._low[place] > low))
            if len(below):
                begin = np.searchsorted(self._high, high[below], side="left") - 1
                place[below] = _bisect(self._low, low[below], begin, place[below])
        return self._owner[place]

    def _place(self, high: Words) -> Index:
        """The last place whose high word is not above."""
        if not len(self._slots):
            return np.searchsorted(self._high, high, side="right") - 1
        inside = np.clip(high, self._high[1], self._high[-1])
        slot = ((inside - self._high[1]) >> self._shift).astype(np.int64)
        begin, end = self._slots[slot] - 1, self._slots[slot + 1]
        place = _bisect(self._high, high, begin, end)
        return np.maximum(place, 0)

    def _index_words(self) -> None:
        """Slots of equal width over the span of the high words, unless many fall into one."""
        if len(self._high) < 2:
            return
        span = int(self._high[-1] - self._high[1])
        self._shift = np.uint64(max(span.bit_length() - _SLOT_BITS, 0))
        count = (span >> int(self._shift)) + 1
        edges = self._high[1] + (np.arange(count, dtype=np.uint64) << self._shift)
        slots = np.append(np.searchsorted(self._high, edges, side="left"), len(self._high))
        if int(np.diff(slots).max()) <= _FEW:
            self._slots = slots


def _bisect(words: Words, wanted: Words, begin: Index, end: Index) -> Index:
    """Find for each wanted the last place from `begin` on and before `end` whose word is not above.

    `begin` itself is taken to be such a place. All searches take a step at a time together.
    """
    for _ in range(int((end - begin).max()).bit_length()):
        middle = (begin + end) >> 1
        fits = words[middle] <= wanted
        open_ = end - begin > 1
        begin = np.where(fits & open_, middle, begin)
        end = np.where(fits | ~open_, end, middle)
    return begin


class FixedMatch:
    """Longest match one address at a time, for a list that does not change any more.

    The places where the match changes stand in one sorted list; an index of equal slots over their
    span tells which few of them are to be searched.
    """

    def __init__(self, prefixes: Sequence[Prefix]) -> None:
        made = PrefixSet(prefixes)
        starts, owner = made.segments()
        places = [a for a in made.addresses(starts) if a < 1 << made.bits]
        listed = list(prefixes)
        found = [None, *(listed[n] if n >= 0 else None for n in owner.tolist())]
        self.match = _matcher(places, found[: len(places) + 1])
        """The longest prefix that covers an address given as an integer, or None."""


def _matcher(starts: list[int], owners: list[Prefix | None]) -> Callable[[int], Prefix | None]:
    """A function over local names, which are found faster than attributes."""
    base, span = starts[0], starts[-1] - starts[0]
    # Some slots for each place, but no more than help.
    bits = min(_SLOT_BITS, len(starts).bit_length() + 2)
    shift = max(span.bit_length() - bits, 0)
    count = (span >> shift) + 1
    # Slot n is searched from the first place in it to the first after it. Flat arrays, because
    # most of the time goes into waiting for memory.
    edges = [bisect_left(starts, base + (n << shift)) for n in range(count)]
    slots = array("i", [*edges, len(starts)])
    places = array("q", starts) if starts[-1] < 1 << 63 else starts

    def match(address: int) -> Prefix | None:
        slot = (address - base) >> shift
        if 0 <= slot < count:
            return owners[bisect_right(places, address, slots[slot], slots[slot + 1])]
        # Below the first place nothing matches; above the last, what begins there.
        return None if slot < 0 else owners[-1]

    return match
