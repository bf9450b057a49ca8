"""Blocks that are given up: set aside while others are chosen, and used after all if there is no
other room."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence

from obrin.core.address.prefix import Prefix
from obrin.core.address.space import FreeSpace

Taking = Callable[[], Prefix | None]


class SetAside:
    """Out of some free spaces, until it is given back."""

    def __init__(self, spaces: Sequence[FreeSpace], blocks: Iterable[Prefix]) -> None:
        self._held = [(space, b) for b in blocks for space in spaces if space.reserve(b)]

    def taken(self, take: Taking) -> Prefix | None:
        """What is taken beside it; or, where nothing is, with it."""
        found = take()
        if found is None and self._held:
            self.give_back()
            found = take()
        return found

    def give_back(self) -> None:
        """All of it is free again."""
        for space, block in self._held:
            space.give(block)
        self._held = []
