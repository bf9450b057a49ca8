"""The first thing that runs: it imports next to nothing, so that an interrupt finds it ready."""

from __future__ import annotations

import contextlib
import gc
import os
import sys

INTERRUPTED = 130
MANY_OBJECTS = 100_000
"""What a command makes lives until it ends, mostly: looking for cycles in it seven hundred objects
at a time takes a third of the whole time of a large design."""


def run() -> None:
    """The program. Exit codes: 0 good, 1 findings, 2 usage or input, 3 outside, 70 a mistake of
    Obrin's own, 130 interrupted."""
    gc.set_threshold(MANY_OBJECTS)
    try:
        from obrin.cli.main import run as run_all

        code = run_all()
    except KeyboardInterrupt:
        code = INTERRUPTED
        with contextlib.suppress(OSError):
            os.write(2, b"interrupted\n")
    sys.exit(code)
