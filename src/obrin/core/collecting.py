"""Looking for cycles less often.

What a command makes lives until it ends, mostly: looking through it for cycles at every seven
hundred new objects takes a third of the whole time of a large design.
"""

from __future__ import annotations

import contextlib
import gc
from collections.abc import Iterator

MANY_OBJECTS = 100_000


def collect_seldom() -> None:
    """Run the garbage collector seldom, in a process that does one thing and ends."""
    gc.set_threshold(MANY_OBJECTS)


@contextlib.contextmanager
def not_collecting() -> Iterator[None]:
    """Pause the garbage collector where millions of small objects are made without cycles among
    them."""
    collecting = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if collecting:
            gc.enable()
