"""An agenda of timers for many engines: only those are asked with which something happened.

The problem. A gateway has thousands of IKE SAs, TCP connections and BFD sessions, each with a next
time. To ask all of them after each packet is a walk over everything for one that changed.

The idea. A heap of times with an entry for each engine. Whoever handles a packet stirs the engine;
the next question asks only the stirred ones for their timer. An old entry is not searched for in
the heap: it is skipped when it comes up and is not what the table of current times says.

The invariant. `next` is never later than the earliest timer of any engine that was stirred since it
was last asked. It may be earlier, where a timer moved away without a stir: then the engine is asked
in vain, once.

The cost. A logarithm for each stirred engine; nothing for the others.

Proven against a walk over all in drawn sequences: `tests/wire/test_agenda.py`.
"""

from __future__ import annotations

import heapq
import itertools
from collections.abc import Callable, Hashable
from typing import Generic, TypeVar


def nobody() -> None:
    """The listener where nobody listens."""


Name = TypeVar("Name", bound=Hashable)


class Agenda(Generic[Name]):
    """`timer` says when one wants to be woken; None where it is there no more. It is asked again
    of who was stirred. What passes through an engine may move its timer away without a word: who
    is woken too soon is asked again, too."""

    def __init__(self, timer: Callable[[Name], float | None]) -> None:
        self._timer = timer
        self._stirred: dict[Name, None] = {}
        self._at: dict[Name, float] = {}
        self._heap: list[tuple[float, int, Name]] = []
        self._count = itertools.count()

    def stir(self, name: Name) -> None:
        """Something happened with it."""
        self._stirred[name] = None

    def forget(self, name: Name) -> None:
        self._at.pop(name, None)
        self._stirred.pop(name, None)

    def next(self) -> float:
        """The earliest time; infinity when nobody waits."""
        if self._stirred:
            self._ask()
        heap = self._heap
        while heap and self._at.get(heap[0][2]) != heap[0][0]:
            heapq.heappop(heap)
        return heap[0][0] if heap else float("inf")

    def _ask(self) -> None:
        for name in self._stirred:
            at = self._timer(name)
            if at is None:
                self._at.pop(name, None)
            elif self._at.get(name) != at:
                self._at[name] = at
                if at != float("inf"):
                    heapq.heappush(self._heap, (at, next(self._count), name))
        self._stirred.clear()

    def due(self, now: float) -> list[Name]:
        """Say whose time has come, the earliest first; they are asked again after that."""
        found = []
        while self.next() <= now:
            name = heapq.heappop(self._heap)[2]
            del self._at[name]
            found.append(name)
        self._stirred.update(dict.fromkeys(found))
        return found
