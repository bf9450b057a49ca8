"""Failures that do not need each other, in worlds side by side: one world for each process."""

from __future__ import annotations

import multiprocessing
import os
from collections.abc import Callable, Iterator, Sequence

from obrin.core.drill.elements import Element
from obrin.live.rehearse.play import Rehearsal
from obrin.live.rehearse.scenes import Scene

WORTH = 4
"""Failures for each world, at least: making one takes about as long as a failure."""

_here: Rehearsal | None = None
"""The rehearsal of a process."""


def worlds_for(failures: int) -> int:
    """How many are worth it on this machine; 1 where processes cannot be made like that."""
    if "fork" not in multiprocessing.get_all_start_methods():
        return 1
    return max(1, min(os.cpu_count() or 1, failures // WORTH))


def fail_side_by_side(
    make: Callable[[], Rehearsal], failures: Sequence[Sequence[Element]], worlds: int
) -> Iterator[Scene]:
    """In the order given. `make` is called once in each process, which then waits until all is up
    there."""
    context = multiprocessing.get_context("fork")
    with context.Pool(worlds, initializer=_begin, initargs=(make,)) as pool:
        yield from pool.imap(_fail, [tuple(failed) for failed in failures])


def _begin(make: Callable[[], Rehearsal]) -> None:
    global _here
    _here = make()
    _here.begin(aside=True)


def _fail(failed: tuple[Element, ...]) -> Scene:
    assert _here is not None  # made by the initializer
    return _here.fail(failed)
