"""Looking for cycles less often.

What a command makes lives until it ends, mostly: looking through it for cycles at every seven
hundred new objects takes a third of the whole time of a large design.
"""

from __future__ import annotations

import gc

MANY_OBJECTS = 100_000


def collect_seldom() -> None:
    """For all of a process that does one thing and ends."""
    gc.set_threshold(MANY_OBJECTS)
