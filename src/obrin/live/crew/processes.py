"""A crew of processes of this machine."""

from __future__ import annotations

import itertools
import multiprocessing
import pickle
from collections import deque
from collections.abc import Iterable, Iterator
from concurrent.futures import Future, ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from dataclasses import dataclass
from typing import Any

from obrin.core.collecting import collect_seldom
from obrin.core.crew import Job, Piece, Result, Shared, State
from obrin.core.errors import OutsideError

AHEAD = 3
"""Pieces for each process that are given out before their results are asked for."""
MOST_BREAKS = 3
"""Times that processes may end in the middle, until it is given up."""

_begun: list[Any] = []
"""In a process: the pickled job and what it shares; then the job, and what it made of that."""


@dataclass(slots=True)
class _Given:
    """A piece, and who has it."""

    piece: Any
    future: Future[Any] | None = None

    def take_back(self) -> None:
        """What is not done is nobody's any more."""
        future = self.future
        if future is not None and not (future.done() and future.exception() is None):
            self.future = None


class Processes:
    """A crew of so many processes. One that is killed takes along only what it had: that is done
    again."""

    def __init__(self, count: int) -> None:
        self._count = count
        self._pool: ProcessPoolExecutor | None = None

    def each(
        self,
        job: Job[Shared, State, Piece, Result],
        shared: Shared,
        pieces: Iterable[Piece],
        ready: State | None = None,
    ) -> Iterator[Result]:
        sent, breaks = pickle.dumps((job, shared), protocol=5), 0
        self._begin(sent)
        left, given = iter(pieces), deque[_Given]()
        while True:
            room = AHEAD * self._count - len(given)
            given.extend(map(_Given, itertools.islice(left, room)))
            if not given:
                return
            try:
                self._give(given)
                future = given[0].future
                assert future is not None
                result: Result = future.result()
            except BrokenProcessPool:
                breaks += 1
                if breaks > MOST_BREAKS:
                    raise OutsideError(
                        "the processes that work end again and again: is there too little memory? "
                        "Give fewer --workers"
                    ) from None
                self._begin(sent)
                for one in given:
                    one.take_back()
                continue
            breaks = 0
            given.popleft()
            yield result

    def _give(self, given: Iterable[_Given]) -> None:
        assert self._pool is not None
        for one in given:
            if one.future is None:
                one.future = self._pool.submit(_do, one.piece)

    def _begin(self, sent: bytes) -> None:
        self.close()
        context = multiprocessing.get_context("spawn")
        self._pool = ProcessPoolExecutor(self._count, context, _keep, (sent,))

    def close(self) -> None:
        if self._pool is not None:
            self._pool.shutdown(wait=True, cancel_futures=True)
            self._pool = None


def _keep(sent: bytes) -> None:
    collect_seldom()
    _begun[:] = [sent]


def _do(piece: Any) -> Any:
    if len(_begun) == 1:
        job, shared = pickle.loads(_begun[0])  # ours: from the process that began this one
        _begun[:] = [job, job.make(shared)]
    job, state = _begun
    return job.do(state, piece)
