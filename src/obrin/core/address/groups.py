"""Blocks for groups of wishes, so that each group can be announced with few prefixes.

A group (a site, a region) is given as the lengths of what it wants. Held in one block it is one
prefix to announce; where one block cannot be had it is split, the group with the most to waste
first, down to blocks that waste nothing, and at last down to the wishes themselves. The last
split fits whenever anything fits (see `space`), so splitting never costs completeness.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable, Mapping, Sequence
from typing import Generic, TypeVar

from obrin.core.address.prefix import Prefix
from obrin.core.address.space import FreeSpace

G = TypeVar("G", bound=Hashable)


def coverings(bits: int, lengths: Sequence[int]) -> list[list[int]]:
    """Lengths of blocks that hold the wishes, from one block to the wishes themselves."""
    total = sum(1 << (bits - length) for length in lengths)
    steps: list[list[int]] = []
    exact: list[int] = []
    rest = total
    while rest:
        top = rest.bit_length() - 1
        whole = rest == 1 << top
        steps.append([*exact, bits - top if whole else bits - top - 1])
        exact.append(bits - top)
        rest -= 1 << top
    wishes = sorted(lengths)
    if steps and steps[-1] != wishes:
        steps.append(wishes)
    return [step for step in steps if min(step) >= 0]


class Rooms(Generic[G]):
    """Free space of several pools, and which of them serve a group, the preferred first.

    Completeness wants the choices to nest: whatever may use a pool of its own may also use the
    general ones, and takes its own first.
    """

    def __init__(
        self,
        spaces: Sequence[FreeSpace],
        levels: Callable[[G], Sequence[int]] | None = None,
        bits: int = 32,
    ) -> None:
        """`bits` is the family; it is needed where there are no spaces."""
        self.spaces = list(spaces)
        everywhere = range(len(self.spaces))
        self._levels = levels or (lambda group: everywhere)
        self.bits = self.spaces[0].bits if self.spaces else bits

    def copy(self) -> Rooms[G]:
        return Rooms([space.copy() for space in self.spaces], self._levels, self.bits)

    def take(self, group: G, length: int) -> Prefix | None:
        for index in self._levels(group):
            block = self.spaces[index].take(length)
            if block is not None:
                return block
        return None

    def of(self, group: G) -> list[FreeSpace]:
        """The pools that serve a group."""
        return [self.spaces[index] for index in self._levels(group)]

    def is_free(self, group: G, prefix: Prefix) -> bool:
        return any(space.is_free(prefix) for space in self.of(group))

    def reserve(self, prefix: Prefix) -> bool:
        return any(space.reserve(prefix) for space in self.spaces)


def _try(rooms: Rooms[G], wanted: Mapping[G, Sequence[int]]) -> dict[G, list[Prefix]] | None:
    """Place blocks of all groups, the large first; all or nothing. `rooms` is used up."""
    placed: dict[G, list[Prefix]] = {group: [] for group in wanted}
    order = sorted(
        (length, number, group) for number, group in enumerate(wanted) for length in wanted[group]
    )
    for length, _, group in order:
        block = rooms.take(group, length)
        if block is None:
            return None
        placed[group].append(block)
    return {group: sorted(blocks) for group, blocks in placed.items()}


def fits(rooms: Rooms[G], wanted: Mapping[G, Sequence[int]]) -> bool:
    """Whether everything wanted can be placed; nothing is taken."""
    return _try(rooms.copy(), wanted) is not None


def place_groups(
    rooms: Rooms[G], groups: Mapping[G, Sequence[int]]
) -> dict[G, list[Prefix]] | None:
    """Blocks for every group, few for each, or None when the wishes do not fit at all.

    The blocks are taken out of `rooms` when all fit; otherwise `rooms` is left as it was.
    """
    bits = rooms.bits
    steps = {group: coverings(bits, lengths) for group, lengths in groups.items() if lengths}
    size = {group: sum(1 << (bits - n) for n in groups[group]) for group in steps}
    at = dict.fromkeys(steps, 0)
    if any(not found for found in steps.values()) or not fits(rooms, groups):
        return None
    batch = 1
    while True:
        wanted = {group: found[at[group]] for group, found in steps.items()}
        placed = _try(rooms.copy(), wanted)
        if placed is not None:
            for blocks in placed.values():
                for block in blocks:
                    rooms.reserve(block)
            return {group: placed.get(group, []) for group in groups}
        waste = {g: sum(1 << (bits - n) for n in wanted[g]) - size[g] for g in wanted}
        splittable = [g for g in wanted if at[g] + 1 < len(steps[g])]
        for group in sorted(splittable, key=waste.__getitem__, reverse=True)[:batch]:
            at[group] += 1
        batch = batch * 2 if len(groups) > 16 else 1
