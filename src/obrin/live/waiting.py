"""Says what a command waits for, once that has taken a second.

Whoever asks something of the outside does it within `awaited`. The command line says with `tell_by`
the callback for people; without it nothing is said.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager

PATIENCE = 1.0
"""Seconds for which nothing is said."""
_tellers: list[Callable[[str], None]] = []


def tell_by(tell: Callable[[str], None] | None) -> None:
    """Set `tell`, which gets a line for each wait that takes longer; None ends that."""
    _tellers[:] = [] if tell is None else [tell]


@contextmanager
def awaited(words: str, lasts: float = 0.0) -> Iterator[None]:
    """Around something that should not take longer than the seconds that it `lasts` by itself;
    `words` say what it is."""
    if not _tellers:
        yield
        return
    timer = threading.Timer(lasts + PATIENCE, _tellers[0], (words,))
    timer.daemon = True
    timer.start()
    try:
        yield
    finally:
        timer.cancel()
