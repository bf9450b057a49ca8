"""Finding room: the first aligned free block of a length inside pools, around what is used."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

from obrin.core.address.prefix import Prefix


def free_ranges(pool: Prefix, used: Iterable[Prefix]) -> Iterator[tuple[int, int]]:
    """Maximal free (first, last) address ranges of a pool, in order."""
    cursor = pool.value
    for block in sorted(p for p in used if p.overlaps(pool)):
        if block.value > cursor:
            yield cursor, block.value - 1
        cursor = max(cursor, block.last + 1)
    if cursor <= pool.last:
        yield cursor, pool.last


def first_free(length: int, pools: Sequence[Prefix], used: Iterable[Prefix]) -> Prefix | None:
    """The lowest aligned block of `length` that touches nothing in `used`; complete.

    A free range holds an aligned block exactly if the first aligned address in it leaves room
    before its end, so looking at every range once finds one if one exists.
    """
    taken = list(used)
    for pool in pools:
        if length < pool.length:
            continue
        size = 1 << (pool.bits - length)
        for first, last in free_ranges(pool, taken):
            start = -(-first // size) * size
            if start + size - 1 <= last:
                return Prefix(pool.bits, start, length)
    return None


def last_free(length: int, pool: Prefix, used: Iterable[Prefix]) -> Prefix | None:
    """The highest aligned block of `length` in a pool, or None."""
    if length < pool.length:
        return None
    size = 1 << (pool.bits - length)
    best = None
    for first, last in free_ranges(pool, used):
        start = (last + 1 - size) // size * size
        if start >= first:
            best = Prefix(pool.bits, start, length)
    return best


def largest_free(pool: Prefix, used: Iterable[Prefix]) -> int | None:
    """The length of the largest aligned free block of a pool, or None when it is full."""
    taken = list(used)
    return next(
        (n for n in range(pool.length, pool.bits + 1) if first_free(n, [pool], taken)), None
    )


def length_for(addresses: int, bits: int = 32) -> int:
    """The longest prefix length whose block holds so many addresses."""
    return bits - max(addresses - 1, 0).bit_length()
