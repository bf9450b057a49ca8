"""Prefix sets in bulk on NumPy: overlaps, free room, and longest match for many addresses at once.

A `PrefixSet` holds one family, sorted by first address, then shortest first, so that every prefix
stands before all prefixes inside it, and these follow it without a gap. An IPv6 address is two
64-bit words, `high` and `low`. Positions are always those of the list that was given.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property

import numpy as np
import numpy.typing as npt

from obrin.core.address.prefix import Prefix

Words = npt.NDArray[np.uint64]
Index = npt.NDArray[np.int64]

_WORD = (1 << 64) - 1
_MIXED = "a prefix set holds one family; sort IPv4 from IPv6 first"


def _words(values: Sequence[int]) -> tuple[Words, Words]:
    """128-bit integers as their high and low words."""
    raw = b"".join([value.to_bytes(16, "big") for value in values])
    pairs = np.frombuffer(raw, dtype=">u8").reshape(-1, 2).astype(np.uint64)
    return pairs[:, 0].copy(), pairs[:, 1].copy()


def _host_mask(lengths: Index, bits: int) -> Words:
    """Host mask of one word: ones beyond each length, clipped to the word."""
    free = np.clip(bits - lengths, 0, 64).astype(np.uint64)
    full = np.uint64(_WORD)
    return np.where(free == 64, full, (np.uint64(1) << np.minimum(free, np.uint64(63))) - 1)


class PrefixSet:
    """Prefixes of one family. Raises ValueError when families are mixed."""

    def __init__(self, prefixes: Sequence[Prefix]) -> None:
        self.bits = prefixes[0].bits if prefixes else 32
        if self.bits == 32:
            self._sort_ipv4(prefixes)
        else:
            self._sort_ipv6(prefixes)

    def _sort_ipv4(self, prefixes: Sequence[Prefix]) -> None:
        # One pass over the objects: address, length and family of each in one number.
        try:
            keys = np.array([v << 14 | n << 8 | b for b, v, n in prefixes], dtype=np.int64)
        except OverflowError:
            raise ValueError(_MIXED) from None
        if ((keys & 255) != 32).any():
            raise ValueError(_MIXED)
        # Address and length above, the position below: sorting keeps the order of equals.
        width = len(prefixes).bit_length()
        if width <= 63 - 38:
            ordered = np.sort(keys >> 8 << width | np.arange(len(keys), dtype=np.int64))
            self.order: Index = ordered & ((1 << width) - 1)
            ordered >>= width
        else:
            self.order = np.argsort(keys, kind="stable")
            ordered = keys[self.order] >> 8
        self.lengths: Index = ordered & 63
        first = ordered >> 6
        self.places = first, first + (np.int64(1) << (32 - self.lengths))

    def _sort_ipv6(self, prefixes: Sequence[Prefix]) -> None:
        if {p[0] for p in prefixes} != {128}:
            raise ValueError(_MIXED)
        lengths = np.array([p[2] for p in prefixes], dtype=np.int64)
        if len(lengths) and int(lengths.max()) <= 64:
            high = np.array([p[1] >> 64 for p in prefixes], dtype=np.uint64)
            low = np.zeros(1, dtype=np.uint64).repeat(len(high))
            self.order = np.lexsort((lengths, high))
        else:
            high, low = _words([p[1] for p in prefixes])
            self.order = np.lexsort((lengths, low, high))
        self.lengths = lengths[self.order]
        self._high, self._low = high[self.order], low[self.order]

    @cached_property
    def places(self) -> tuple[Index, Index]:
        """Begin of each prefix and the place after its end, in sorted order.

        IPv4 places are addresses. IPv6 ones are ranks among all begins and ends, so that one word
        is enough; the place after the last address of all carries over.
        """
        high, low, lengths = self._high, self._low, self.lengths
        last_high = high | _host_mask(np.minimum(lengths, 64), 64)
        last_low = low | _host_mask(np.maximum(lengths - 64, 0), 64)
        carry = last_low == _WORD
        over = carry & (last_high == _WORD)
        one = np.uint64(1)
        beyond = np.concatenate((np.zeros(len(high), dtype=np.bool_), over))
        highs = np.concatenate((high, last_high + carry.astype(np.uint64)))
        lows = np.concatenate((low, last_low + one))
        order = np.lexsort((lows, highs, beyond))
        highs, lows, beyond = highs[order], lows[order], beyond[order]
        fresh = np.ones(len(order), dtype=np.bool_)
        same = (highs[1:] == highs[:-1]) & (lows[1:] == lows[:-1]) & (beyond[1:] == beyond[:-1])
        fresh[1:] = ~same
        ranks = np.empty(len(order), dtype=np.int64)
        ranks[order] = np.cumsum(fresh) - 1
        self.rank_words: tuple[Words, Words] = highs[fresh & ~beyond], lows[fresh & ~beyond]
        """High and low word of each rank, but for the one beyond the last address."""
        return ranks[: len(high)], ranks[len(high) :]

    def __len__(self) -> int:
        return len(self.order)

    @cached_property
    def _inside_until(self) -> Index:
        """Find for each sorted place the place after the last prefix inside it."""
        if self.bits == 128 and len(self) and int(self.lengths.max()) <= 64:
            last = self._high | _host_mask(self.lengths, 64)
            return np.searchsorted(self._high, last, side="right")
        first, end = self.places
        return np.searchsorted(first, end, side="left")

    def overlap_count(self) -> int:
        """How many pairs overlap; cheap even where there are too many to list."""
        places = np.arange(len(self), dtype=np.int64)
        return int((self._inside_until - places - 1).sum())

    @cached_property
    def _pairs(self) -> Index:
        places = np.arange(len(self), dtype=np.int64)
        counts = self._inside_until - places - 1
        total = int(counts.sum())
        found = np.empty((2, total), dtype=np.int64)
        outer = np.repeat(places, counts)
        found[0] = self.order[outer]
        ends = np.cumsum(counts)
        inner = np.arange(total, dtype=np.int64) - np.repeat(ends - counts, counts) + outer + 1
        found[1] = self.order[inner]
        found.flags.writeable = False
        return found

    def overlaps(self) -> Index:
        """All overlapping pairs, shape (2, pairs): row 0 covers row 1. Kept once computed."""
        return self._pairs

    def parents(self) -> Index:
        """Find for each prefix given the position of the longest other one that covers it, or
        -1."""
        found = np.full(len(self), -1, dtype=np.int64)
        open_above: list[int] = []
        until = self._inside_until.tolist()
        order = self.order.tolist()
        for place in range(len(order)):
            while open_above and until[open_above[-1]] <= place:
                open_above.pop()
            if open_above:
                found[order[place]] = order[open_above[-1]]
            open_above.append(place)
        return found

    def free_ranges(self, pool: Prefix) -> list[tuple[int, int]]:
        """Maximal (first, last) ranges of a pool of the same family that no prefix covers.

        Raises ValueError when the families differ.
        """
        if len(self) and pool.bits != self.bits:
            raise ValueError(_MIXED)
        if not len(self):
            return [(pool.value, pool.last)]
        first, end = self.places
        reach = np.maximum.accumulate(end)
        gaps = np.flatnonzero(first[1:] > reach[:-1])
        begins = [0, *self.addresses(reach[gaps]), *self.addresses(reach[-1:])]
        ends = [*self.addresses(first[:1]), *self.addresses(first[1:][gaps]), 1 << self.bits]
        found = []
        for low, high in zip(begins, ends, strict=True):
            low, last = max(low, pool.value), min(high - 1, pool.last)
            if low <= last:
                found.append((low, last))
        return found

    def addresses(self, places: Index) -> list[int]:
        """Places as addresses; the one after the last address of all is 2^bits."""
        if self.bits == 32:
            plain: list[int] = places.tolist()
            return plain
        high, low = self.rank_words
        return [
            int(high[p]) << 64 | int(low[p]) if p < len(high) else 1 << 128 for p in places.tolist()
        ]

    def segments(self) -> tuple[Index, Index]:
        """Sorted places where the longest match changes, and the position of it (-1: none).

        The first place is 0. For IPv6 the places are ranks.
        """
        starts: list[int] = [0]
        owner: list[int] = [-1]
        stack: list[int] = []  # the prefixes that are open, which nest
        first, end = (places.tolist() for places in self.places)
        order = self.order.tolist()

        def mark(at: int, who: int) -> None:
            if starts[-1] == at:
                owner[-1] = who
            elif owner[-1] != who:
                starts.append(at)
                owner.append(who)

        def close(until: int) -> None:
            while stack and end[stack[-1]] <= until:
                ended = stack.pop()
                mark(end[ended], order[stack[-1]] if stack else -1)

        for place in range(len(order)):
            close(first[place])
            stack.append(place)
            mark(first[place], order[place])
        close(1 << 62)
        return np.array(starts, dtype=np.int64), np.array(owner, dtype=np.int64)
