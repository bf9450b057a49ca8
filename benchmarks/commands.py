"""Whole commands at three sizes: processor time, memory, and how it grows when the design doubles.

python -m benchmarks.commands                  a Markdown table on stdout
python -m benchmarks.commands 250 500          at other sizes

The baseline of each size is the size before it, in the same run.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

from benchmarks.designs import many_sites

COMMANDS = (
    ("routes", "--json"),
    ("reach", "--json"),
    ("check",),
    ("drill", "--json"),
    ("handover", "--dry-run"),
    ("reshape", "--from", "old.yaml", "--json"),
)


def asked_for(count: int) -> str:
    """A design of so many sites, in which each expects one service."""
    wishes = (
        f"  - {{from: site-{n:04}/office, to: timetable/booking, flow: tcp/443}}\n"
        for n in range(count)
    )
    return many_sites(count) + "expectations:\n" + "".join(wishes)


def used(command: tuple[str, ...], folder: Path) -> tuple[float, float]:
    """Seconds of the processor and MB of memory that a command took."""
    program = shutil.which("obrin") or "obrin"
    process = subprocess.Popen(
        [program, *command], cwd=folder, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    )
    _, _, usage = os.wait4(process.pid, 0)
    return usage.ru_utime + usage.ru_stime, usage.ru_maxrss / 1024


def main(sizes: list[int]) -> None:
    print("| Command | Sites | Processor | Memory | Growth |")
    print("| --- | --- | --- | --- | --- |")
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
                grown = f"{seconds / before[command]:.1f} times" if command in before else ""
                before[command] = seconds
                what = f"`{' '.join(command)}`"
                print(
                    f"| {what} | {count:,} | {seconds:.1f} s | {memory:.0f} MB | {grown} |",
                    flush=True,
                )


if __name__ == "__main__":
    main([int(text) for text in sys.argv[1:]] or [500, 1000, 2000])
