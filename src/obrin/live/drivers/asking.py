"""Asking many ends: each takes its time to answer, and none has to wait for another."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

Of = TypeVar("Of")
Answer = TypeVar("Answer")

SIDE_BY_SIDE = 8
"""So many ends are asked, or changed, at once."""


def side_by_side(
    ask: Callable[[Of], Answer], of: Iterable[Of], at_once: int | None = None
) -> list[Answer]:
    """All answers, in order. Raises what the first that fails raises, and asks no more then."""
    with ThreadPoolExecutor(at_once or SIDE_BY_SIDE) as pool:
        return list(pool.map(ask, of))
