"""Whose turn it is among many engines: who was stirred lately, and when each wants to be woken.

With it, an owner of thousands looks only at those with which something happened.
"""

from __future__ import annotations

import heapq
import itertools
from collections.abc import Hashable
from typing import Generic, TypeVar


def nobody() -> None:
    """Who is told, where nobody wants to be."""


Name = TypeVar("Name", bound=Hashable)


class Agenda(Generic[Name]):
    """A time on it may be too early, since what passes through an engine moves its timers away
    without a word: who is woken too soon is asked again."""

    def __init__(self) -> None:
        self._stirred: dict[Name, None] = {}
        self._at: dict[Name, float] = {}
        self._heap: list[tuple[float, int, Name]] = []
        self._count = itertools.count()

    def stir(self, name: Name) -> None:
        """Something happened with it."""
        self._stirred[name] = None

    def stirred(self) -> list[Name]:
        """All of these since the last call, in the order in which they were."""
        if not self._stirred:
            return []
        found = list(self._stirred)
        self._stirred.clear()
        return found

    def wake(self, name: Name, at: float) -> None:
        """It wants to be woken at a time, and at no other."""
        if self._at.get(name) != at:
            self._at[name] = at
            if at != float("inf"):
                heapq.heappush(self._heap, (at, next(self._count), name))

    def forget(self, name: Name) -> None:
        self._at.pop(name, None)
        self._stirred.pop(name, None)

    def next(self) -> float:
        """The earliest time; infinity when nobody waits."""
        heap = self._heap
        while heap and self._at.get(heap[0][2]) != heap[0][0]:
            heapq.heappop(heap)
        return heap[0][0] if heap else float("inf")

    def due(self, now: float) -> list[Name]:
        """Whose time has come; they wait for nothing until they are put on it again."""
        found = []
        while self.next() <= now:
            name = heapq.heappop(self._heap)[2]
            del self._at[name]
            found.append(name)
        return found
