"""Free room as the largest aligned blocks there are, and blocks taken out of it.

Free room is kept as maximal aligned blocks by length, as a buddy allocator keeps memory. A block
that is taken comes from the smallest free block that holds it, the lowest of these, so that large
blocks stay whole.

Why it is complete: every block of 2^n addresses that starts at a multiple of its size uses up, of
the places where a block of 2^m addresses (m <= n) could stand, exactly 2^(n-m), wherever it is
put. So when the large are placed before the small, no placement of the large can spoil the room
of the small, and if any arrangement exists, this one succeeds.

The cost. A logarithm of the number of free blocks for each block that is taken or given back.

Proven: `tests/core/test_blocks.py`, against sets of single addresses; what is placed with it,
in `tests/core/test_settle.py`. Source: Knowlton, "A fast storage allocator" (1965).
"""

from __future__ import annotations

import heapq
from collections.abc import Iterable, Iterator

from obrin.core.address.prefix import Prefix


def merged(prefixes: Iterable[Prefix]) -> Iterator[tuple[int, int]]:
    """Disjoint (first, last) ranges in order that cover the same addresses; one family only."""
    first, last = -2, -2
    for prefix in sorted(prefixes):
        if prefix.value > last + 1:
            if last >= 0:
                yield first, last
            first = prefix.value
        last = max(last, prefix.last)
    if last >= 0:
        yield first, last


def range_blocks(bits: int, first: int, last: int) -> Iterator[Prefix]:
    """The fewest prefixes that cover a range of addresses exactly, in order."""
    while first <= last:
        room = (last - first + 1).bit_length() - 1
        align = (first & -first).bit_length() - 1 if first else bits
        step = min(room, align)
        yield Prefix(bits, first, bits - step)
        first += 1 << step


def free_ranges(pool: Prefix, used: Iterable[Prefix]) -> Iterator[tuple[int, int]]:
    """Maximal free (first, last) address ranges of a pool, in order."""
    cursor = pool.value
    for first, last in merged(p for p in used if p.overlaps(pool)):
        if first > cursor:
            yield cursor, first - 1
        cursor = max(cursor, last + 1)
    if cursor <= pool.last:
        yield cursor, pool.last


def free_blocks(pools: Iterable[Prefix], used: Iterable[Prefix]) -> Iterator[Prefix]:
    """The free room of pools as maximal aligned blocks; pools that overlap count once."""
    taken = list(used)
    for pool in summaries(pools):
        for first, last in free_ranges(pool, taken):
            yield from range_blocks(pool.bits, first, last)


def summaries(prefixes: Iterable[Prefix]) -> list[Prefix]:
    """The fewest prefixes that cover exactly the same addresses, of both families, in order."""
    listed = list(prefixes)
    return [
        block
        for bits in (32, 128)
        for first, last in merged(p for p in listed if p.bits == bits)
        for block in range_blocks(bits, first, last)
    ]


def smallest_cover(prefixes: Iterable[Prefix]) -> Prefix:
    """The longest prefix that covers all of them. Raises ValueError when there are none."""
    listed = list(prefixes)
    low, high = min(p.value for p in listed), max(p.last for p in listed)
    bits = listed[0].bits
    length = min(bits - (low ^ high).bit_length(), *(p.length for p in listed))
    return Prefix(bits, low, bits).widened(length)


def length_for(addresses: int, bits: int = 32) -> int:
    """The longest prefix length whose block holds so many addresses."""
    return bits - max(addresses - 1, 0).bit_length()


class FreeSpace:
    """What is free in some pools of one family. Taking changes it; `copy` before trying."""

    def __init__(
        self, pools: Iterable[Prefix], used: Iterable[Prefix] = (), bits: int = 32
    ) -> None:
        """`bits` is the family; it is needed where there are no pools."""
        listed = list(pools)
        self.bits = listed[0].bits if listed else bits
        self._blocks: set[Prefix] = set()
        self._heaps: dict[int, list[int]] = {}
        relevant = [p for p in used if p.bits == self.bits]
        for block in free_blocks(listed, relevant):
            self._put(block)

    def copy(self) -> FreeSpace:
        made = FreeSpace((), bits=self.bits)
        made._blocks = set(self._blocks)
        made._heaps = {length: list(heap) for length, heap in self._heaps.items()}
        return made

    def _put(self, block: Prefix) -> None:
        self._blocks.add(block)
        heapq.heappush(self._heaps.setdefault(block.length, []), block.value)

    def _lowest(self, length: int) -> Prefix | None:
        """The lowest free block of exactly this length; taken ones leave the heap here."""
        heap = self._heaps.get(length, [])
        while heap:
            block = Prefix(self.bits, heap[0], length)
            if block in self._blocks:
                return block
            heapq.heappop(heap)
        return None

    def find(self, length: int) -> Prefix | None:
        """Say where `take` would put a block, without taking it."""
        for size in range(length, -1, -1):
            block = self._lowest(size)
            if block is not None:
                return Prefix(self.bits, block.value, length)
        return None

    def take(self, length: int) -> Prefix | None:
        """A block out of the smallest free block that holds it, or None: there is no room."""
        found = self.find(length)
        if found is not None:
            self.reserve(found)
        return found

    def take_last(self, length: int) -> Prefix | None:
        """The highest block of this length that is free, or None."""
        holders = [b for b in self._blocks if b.length <= length]
        if not holders:
            return None
        last = max(holders, key=lambda b: b.last).last
        size = 1 << (self.bits - length)
        found = Prefix(self.bits, last + 1 - size, length)
        self.reserve(found)
        return found

    def is_free(self, prefix: Prefix) -> bool:
        return self._holder(prefix) is not None

    def _holder(self, prefix: Prefix) -> Prefix | None:
        for length in range(prefix.length, -1, -1):
            block = prefix.widened(length)
            if block in self._blocks:
                return block
        return None

    def reserve(self, prefix: Prefix) -> bool:
        """Take exactly this prefix; False when some of it is not free."""
        holder = self._holder(prefix)
        if holder is None:
            return False
        self._blocks.remove(holder)
        for length in range(holder.length + 1, prefix.length + 1):
            self._put(prefix.widened(length).buddy)
        return True

    def give(self, prefix: Prefix) -> None:
        """Make a prefix free that was not; neighbours that complete each other become one."""
        while prefix.length > 0 and prefix.buddy in self._blocks:
            self._blocks.remove(prefix.buddy)
            prefix = prefix.widened(prefix.length - 1)
        self._put(prefix)

    def largest(self) -> int | None:
        """The length of the largest free block, or None: nothing is free."""
        return min((block.length for block in self._blocks), default=None)

    def blocks(self) -> list[Prefix]:
        """All free blocks in order."""
        return sorted(self._blocks)

    @property
    def size(self) -> int:
        """Free addresses."""
        return sum(block.size for block in self._blocks)

    def slots(self, length: int) -> int:
        """How many blocks of this length could still be taken."""
        return sum(1 << (length - b.length) for b in self._blocks if b.length <= length)
