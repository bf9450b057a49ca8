"""The network in a terminal: the boxes of the figure one below the other, in 80 columns."""

from __future__ import annotations

import textwrap
from collections.abc import Iterator

from obrin.core.picture.network import ATTACHED, CIRCUIT, DOWN, LOST, REST, TUNNEL, Line, Picture

WIDTH = 80
_MARKS = {TUNNEL: "---", CIRCUIT: "===", ATTACHED: "~~~"}


def network_lines(drawn: Picture) -> Iterator[str]:
    """Each at most WIDTH letters long, but for words that are longer."""
    lines = {line.way: line for line in drawn.lines}
    names = {box.name: box for box in drawn.boxes}
    yield drawn.title
    for box in drawn.boxes:
        yield ""
        for number, row in enumerate(box.rows):
            line = lines.get(row.port)
            if line is None:
                indent = "" if number == 0 else "  " if row.heading else "    "
                yield from _wrapped(row.text, indent)
                continue
            far = next(name for name in line.ends if name != box.name)
            where = f" > {far}" if box.column == 0 and names[far].column else ""
            yield from _wrapped(f"{_mark(line)} {row.text}{where}", "    ")
    yield ""
    yield "--- tunnel   === circuit   ~~~ attachment   -X- down or lost   ... at rest"


def _mark(line: Line) -> str:
    if line.state in (DOWN, LOST):
        return "-X-"
    return "..." if line.state == REST else _MARKS[line.kind]


def _wrapped(text: str, indent: str) -> list[str]:
    return textwrap.wrap(
        text,
        WIDTH,
        initial_indent=indent,
        subsequent_indent=f"{indent}    ",
        break_long_words=False,
        break_on_hyphens=False,
    )
