"""Ratios that hold on a machine whose speed drifts: many short rounds, interleaved, medians."""

from __future__ import annotations

import gc
import re
import statistics
import time
from collections.abc import Callable, Iterable

Row = tuple[str, str, str, str, str]
"""What, the baseline, ours, the baseline's, and the ratio in words: it begins with a number. More
is better, unless it is `times the time` or `times`, where less is."""
HEAD = "| What | Baseline | Ours | Baseline's | Ratio |\n| --- | --- | --- | --- | --- |"


def print_rows(rows: Iterable[Row]) -> None:
    """As a Markdown table, row by row as they are measured."""
    print(HEAD)
    for row in rows:
        print(line_of(row), flush=True)


def line_of(row: Row) -> str:
    return f"| {' | '.join(row)} |"


def worth(ratio: str) -> float | None:
    """A number of which more is better, from the words of a ratio; None where there is none."""
    found = re.match(r"([\d.,]+) ?(times the time|times as fast|times|of)", ratio)
    if found is None:
        return None
    value = float(found.group(1).replace(",", ""))
    less_is_better = found.group(2) in ("times the time", "times")
    return 1 / value if less_is_better and value else value


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
