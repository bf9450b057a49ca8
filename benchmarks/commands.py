"""Whole commands at three sizes: processor time, memory, and how it grows when the design doubles.

python -m benchmarks.commands                  a Markdown table on stdout
python -m benchmarks.commands 250 500          at other sizes

The baseline is the smallest size, in the same run.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

from benchmarks.designs import many_sites
from benchmarks.measure import Row, print_rows

COMMANDS = (
    ("routes", "--json"),
    ("reach", "--json"),
    ("check",),
    ("drill", "--json"),
    ("drill", "--availability", "--json"),
    ("handover", "--dry-run"),
    ("reshape", "--from", "old.yaml", "--json"),
)


def asked_for(count: int) -> str:
    """A design of so many sites, in which each expects one service."""
    wishes = (
        f"  - {{from: site-{n:04}/office, to: timetable/booking, flow: tcp/443}}\n"
        for n in range(count)
    )
    often = (
        "reliability:\n  uplink: {fails-every: 60 d, mended-in: 4 h}\n"
        "  gateway: {fails-every: 1000 d, mended-in: 1 d}\n"
        "  instance: {fails-every: 90 d, mended-in: 10 min}\n"
        "  provider: {fails-every: 300 d, mended-in: 2 h}\n"
    )
    return many_sites(count) + often + "expectations:\n" + "".join(wishes)


def used(command: tuple[str, ...], folder: Path) -> tuple[float, float]:
    """Seconds of the processor and MB of memory that a command took."""
    program = shutil.which("obrin") or "obrin"
    process = subprocess.Popen(
        [program, *command], cwd=folder, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    )
    _, _, usage = os.wait4(process.pid, 0)
    return usage.ru_utime + usage.ru_stime, usage.ru_maxrss / 1024


def rows(sizes: list[int]) -> Iterator[Row]:
    """Of each size but the first, beside the first."""
    before: dict[tuple[str, ...], float] = {}
    with tempfile.TemporaryDirectory() as name:
        for count in sizes:
            folder = Path(name) / str(count)
            folder.mkdir()
            text = asked_for(count)
            (folder / "design.yaml").write_text(text)
            used(("settle",), folder)
            # What is built: another suite on every link.
            old = text.replace("    routing: bgp\n", "    routing: bgp\n    suite: common\n")
            (folder / "old.yaml").write_text(old)
            shutil.copy(folder / "design.settled.yaml", folder / "old.settled.yaml")
            used(("settle", "--design", "old.yaml"), folder)
            for command in COMMANDS:
                seconds, memory = used(command, folder)
                if command in before:
                    half = before[command]
                    what = f"`{' '.join(command)}`, {count:,} sites"
                    ours = f"{seconds:.1f} s, {memory:.0f} MB"
                    words = f"{seconds / half:.1f} times (linear: {count / sizes[0]:g})"
                    yield what, f"{sizes[0]:,} sites", ours, f"{half:.1f} s", words
                before.setdefault(command, seconds)


if __name__ == "__main__":
    print_rows(rows([int(text) for text in sys.argv[1:]] or [500, 1000, 2000]))
