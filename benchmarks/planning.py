"""Settling 2,000 sites with 10,000 wishes, from nothing and with one more; 8,000 agreements.

python -m benchmarks.planning            a Markdown table on stdout

The baseline is loading: the design, and the settled file where there is one.
"""

from __future__ import annotations

import gc
import statistics
import time
from collections.abc import Callable

from benchmarks.designs import four_tunnels, many_wishes
from obrin.core.catalogue.offering import PRACTICE_CLOUD
from obrin.core.design.document import load_design
from obrin.core.handover.ends.agreed import agreements
from obrin.core.settle.choices import format_choices, parse_choices
from obrin.core.settle.settle import settle
from obrin.core.settled.building import build_settled

ROUNDS = 5


def timed(load: Callable[[], tuple], work: Callable[[tuple], object]) -> tuple[float, float]:
    """Median seconds of loading and of the work on what was loaded, in turn."""
    loads, works = [], []
    for _ in range(ROUNDS):
        gc.collect()
        begun = time.perf_counter()
        loaded = load()
        middle = time.perf_counter()
        work(loaded)
        works.append(time.perf_counter() - middle)
        loads.append(middle - begun)
    return statistics.median(loads), statistics.median(works)


def _row(what: str, baseline: str, load: float, work: float, target: str) -> str:
    ratio = f"{work / load:.1f} times the time (target {target})"
    return f"| {what} | {baseline} | {work:.2f} s | {load:.2f} s | {ratio} |"


def main() -> None:
    text, more = many_wishes(2000), many_wishes(2001)
    first = settle(load_design(text, "a").design, {}, PRACTICE_CLOUD)
    file = format_choices(first)
    second = settle(load_design(more, "a").design, first, PRACTICE_CLOUD)
    moved = sum(second[key].value != choice.value for key, choice in first.items())
    print("| What | Against | Obrin | Baseline | Ratio |")
    print("| --- | --- | --- | --- | --- |")
    load, work = timed(
        lambda: (load_design(text, "a").design, {}),
        lambda loaded: settle(*loaded, PRACTICE_CLOUD),
    )
    what = f"settle 2,000 sites, 3 clouds, 10,000 wishes ({len(first):,} values)"
    print(_row(what, "loading the design", load, work, "under 5 s"))
    load, work = timed(
        lambda: (load_design(more, "a").design, parse_choices(file, "b")),
        lambda loaded: settle(*loaded, PRACTICE_CLOUD),
    )
    what = f"one site more; {moved} values moved"
    print(_row(what, "loading the design and the settled file", load, work, "under 1 s"))
    tunnels = four_tunnels(2000)
    design = load_design(tunnels, "a").design
    settled = build_settled(design, settle(design, {}, PRACTICE_CLOUD))
    load, work = timed(
        lambda: (load_design(tunnels, "a").design,), lambda loaded: list(agreements(settled))
    )
    print(_row("agree over 8,000 tunnels", "loading the design", load, work, "under 5 s"))


if __name__ == "__main__":
    main()
