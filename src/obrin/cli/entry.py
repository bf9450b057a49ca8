"""The first thing that runs: it imports what Python has loaded already and nothing else, so that an
interrupt finds it ready."""

from __future__ import annotations

import os
import sys

INTERRUPTED = 130


def run() -> None:
    """The program. Exit codes: 0 good, 1 findings, 2 usage or input, 3 outside, 70 a mistake of
    Obrin's own, 130 interrupted."""
    try:
        from obrin.cli.main import run as run_all
        from obrin.core.collecting import collect_seldom

        collect_seldom()
        code = run_all()
    except KeyboardInterrupt:
        code = INTERRUPTED
        try:  # noqa: SIM105 - contextlib would have to be imported
            os.write(2, b"interrupted\n")
        except OSError:  # nobody reads it
            pass
    sys.exit(code)
