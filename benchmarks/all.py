"""What can be measured within a few minutes, written into docs/benchmarks.md; a row that got worse
than the page says is named.

python -m benchmarks.all --quick           measure, name what got worse, write the table
python -m benchmarks.all --quick --check   measure and name, and write nothing
python -m benchmarks.all                   the same, and whole commands at larger sizes
"""

from __future__ import annotations

import sys
import time
import warnings
from collections.abc import Iterator
from itertools import chain
from pathlib import Path

from benchmarks import codecs, commands, first_slice, routing, worlds
from benchmarks.measure import HEAD, Row, line_of, worth

PAGE = Path(__file__).parent.parent / "docs/benchmarks.md"
BEGIN, END = "<!-- measured: begin -->", "<!-- measured: end -->"
WORSE = 0.8
QUICK, WHOLE = [150, 300], [500, 1000, 2000]


def rows(sizes: list[int]) -> Iterator[Row]:
    """All of them, one by one."""
    return chain(
        commands.rows(sizes),  # first: their memory counts from what this process has
        first_slice.start_up(),
        first_slice.loading(),
        first_slice.handshake(),
        first_slice.esp(),
        codecs.rows(),
        routing.circles(),
        worlds.forwarding(),
        worlds.floods(),
        worlds.cables(),
        worlds.coming_up(),
        worlds.routes(),
    )


def recorded(page: str) -> dict[str, str]:
    """The ratio of each row that stands on the page, by what it is and its baseline."""
    table = page.partition(BEGIN)[2].partition(END)[0]
    found = {}
    for line in table.splitlines():
        cells = [cell.strip() for cell in line.strip("| ").split(" | ")]
        if len(cells) == len(HEAD.splitlines()[0].split("|")) - 2:
            found[cells[0] + cells[1]] = cells[4]
    return found


def worse(row: Row, before: dict[str, str]) -> str:
    """In words, where its ratio is less than it was by much; else empty."""
    old, new = worth(before.get(row[0] + row[1], "")), worth(row[4])
    if old is None or new is None or new >= WORSE * old:
        return ""
    return f"{row[0]}: {row[4]}, and the page says {before[row[0] + row[1]]}"


def main(arguments: list[str]) -> int:
    warnings.simplefilter("ignore")
    page = PAGE.read_text(encoding="utf-8")
    before, begun, found = recorded(page), time.monotonic(), list[Row]()
    for row in rows(QUICK if "--quick" in arguments else WHOLE):
        found.append(row)
        print(line_of(row), flush=True)
    named = [words for row in found if (words := worse(row, before))]
    for words in named:
        print(f"WORSE: {words}", flush=True)
    print(f"{len(found)} rows in {time.monotonic() - begun:.0f} s; {len(named)} got worse.")
    if "--check" not in arguments:
        table = "\n".join([HEAD, *map(line_of, found)])
        head, _, rest = page.partition(BEGIN)
        PAGE.write_text(f"{head}{BEGIN}\n{table}\n{END}{rest.partition(END)[2]}", encoding="utf-8")
    return 1 if named else 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
