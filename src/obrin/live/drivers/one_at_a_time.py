"""Locks by name: the same thing is not done by two threads at once, different things are."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from contextlib import contextmanager


class OneAtATime:
    """Whoever comes second waits, and then finds it done."""

    def __init__(self) -> None:
        self._own = threading.Lock()
        self._locks: dict[str, threading.Lock] = {}

    @contextmanager
    def of(self, name: str) -> Iterator[None]:
        with self._own:
            lock = self._locks.setdefault(name, threading.Lock())
        with lock:
            yield
