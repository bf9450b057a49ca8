"""A job that falls into independent pieces, and a crew of one.

What all pieces need is sent to whoever works once; results come back in the order of the pieces. A
piece that somebody took along when they ended is done again by another. So the answer is the same,
to the byte, whoever works.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from typing import Generic, Protocol, TypeVar

Shared = TypeVar("Shared")
State = TypeVar("State")
Piece = TypeVar("Piece")
Result = TypeVar("Result")
Thing = TypeVar("Thing")


@dataclass(frozen=True, slots=True)
class Job(Generic[Shared, State, Piece, Result]):
    """`make` is called once by each who works, with what is shared; `do` for each piece, with what
    that gave. Both are functions of a module, so that they are known by name elsewhere."""

    make: Callable[[Shared], State]
    do: Callable[[State, Piece], Result]


class Crew(Protocol):
    """Whoever does a job."""

    def each(
        self,
        job: Job[Shared, State, Piece, Result],
        shared: Shared,
        pieces: Iterable[Piece],
        ready: State | None = None,
    ) -> Iterator[Result]:
        """The results, in the order of the pieces. `ready` is what the job would make of what is
        shared, where it is here already. Raises what a piece raises, and OutsideError where nobody
        is left who works."""
        ...

    def close(self) -> None: ...


class Here:
    """One piece after the other, by this process."""

    def each(
        self,
        job: Job[Shared, State, Piece, Result],
        shared: Shared,
        pieces: Iterable[Piece],
        ready: State | None = None,
    ) -> Iterator[Result]:
        state = job.make(shared) if ready is None else ready
        for piece in pieces:
            yield job.do(state, piece)

    def close(self) -> None:
        pass


HERE = Here()


def batches(things: Iterable[Thing], size: int) -> Iterator[tuple[Thing, ...]]:
    """Choose how many at a time: a piece should be worth sending."""
    left = iter(things)
    while batch := tuple(itertools.islice(left, size)):
        yield batch
