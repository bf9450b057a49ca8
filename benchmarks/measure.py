"""Ratios that hold on a machine whose speed drifts: many short rounds, interleaved, medians."""

from __future__ import annotations

import gc
import statistics
import time
from collections.abc import Callable


def interleaved(
    ours: Callable[[], object], baseline: Callable[[], object], *, rounds: int, repeat: int = 1
) -> tuple[float, float, float]:
    """(median seconds of ours, of the baseline, median of baseline/ours round by round)."""
    mine, theirs, ratios = [], [], []
    ours()
    baseline()
    for _ in range(rounds):
        gc.collect()
        begun = time.perf_counter()
        for _ in range(repeat):
            ours()
        middle = time.perf_counter()
        for _ in range(repeat):
            baseline()
        ended = time.perf_counter()
        mine.append((middle - begun) / repeat)
        theirs.append((ended - middle) / repeat)
        ratios.append(theirs[-1] / mine[-1])
    return statistics.median(mine), statistics.median(theirs), statistics.median(ratios)
