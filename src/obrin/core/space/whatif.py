"""Try more wishes, and growth, on the space there is: what fits, and for how many years."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from obrin.core.address.prefix import Prefix
from obrin.core.address.space import FreeSpace, length_for
from obrin.core.space.pools import PoolUse


@dataclass(frozen=True, slots=True)
class AddedWish:
    """`count` networks for `hosts` hosts each, `reserved` addresses of each not counted."""

    name: str
    hosts: int
    count: int = 1
    reserved: int = 3


@dataclass(frozen=True, slots=True)
class Year:
    """`placed` are this year's blocks by wish; `short` says what did not fit, or is empty."""

    year: int
    wanted: int
    free: int
    placed: tuple[tuple[str, Prefix], ...]
    short: str


def outlook(
    use: PoolUse, wishes: Sequence[AddedWish], yearly_growth: float, years: int
) -> list[Year]:
    """Year by year: every wish in the size that it has grown to, placed afresh in what is free.

    `yearly_growth` is a factor. The year 0 is today.
    """
    found = []
    for year in range(years + 1):
        factor = yearly_growth**year
        free = use.free.copy()
        lengths = [
            (_length(wish, factor, free.bits), wish.name)
            for wish in wishes
            for _ in range(wish.count)
        ]
        wanted = sum(1 << (free.bits - length) for length, _ in lengths)
        found.append(Year(year, wanted, use.free.size, *_place(free, lengths)))
    return found


def _length(wish: AddedWish, factor: float, bits: int) -> int:
    return 64 if bits == 128 else length_for(math.ceil(wish.hosts * factor) + wish.reserved)


def _place(
    free: FreeSpace, lengths: list[tuple[int, str]]
) -> tuple[tuple[tuple[str, Prefix], ...], str]:
    placed: list[tuple[str, Prefix]] = []
    for length, name in sorted(lengths):
        block = free.take(length)
        if block is None:
            left = free.largest()
            rest = "nothing is free" if left is None else f"the largest free block is a /{left}"
            return tuple(placed), f"no /{length} for {name}; {rest}"
        placed.append((name, block))
    return tuple(placed), ""
