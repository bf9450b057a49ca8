"""The network as a figure: boxes in three columns, lines in the gaps between them.

Lines run in the gaps only, so none crosses a box. What a line is shows in how it is drawn, and what
is known of it also stands in the rows where it ends.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import cache
from typing import Any

from obrin.cli.figures.seconds import INK, as_bytes
from obrin.core.picture.network import (
    ATTACHED,
    CIRCUIT,
    DOWN,
    LOST,
    ODD,
    REST,
    TUNNEL,
    UP,
    Box,
    Line,
    Picture,
    Row,
)

ROW, PAD, BETWEEN = 17.0, 8.0, 20.0
"""Pixels: of a row, around the rows of a box, between boxes."""
GAPS = (230.0, 130.0)
MARGIN, TOP, BOTTOM = 24.0, 74.0, 54.0
SIZE = 8.5
WIDEST = 58
"""Letters of a row; what is longer is cut."""
_FACES = ("#eef3ea", "#e8eff5", "#f5f0e6")
_PLAIN = "#3f5a6b"
_STATES = {UP: "#2f6f4f", DOWN: "#b3263f", LOST: "#b3263f", ODD: "#9a6a00", REST: "#777777"}
_STYLES = {"": "-", UP: "-", DOWN: (0, (6, 5)), LOST: (0, (6, 5)), ODD: (0, (4, 2)), REST: ":"}
_WIDTHS = {TUNNEL: 1.5, CIRCUIT: 3.6, ATTACHED: 1.2}


@dataclass(frozen=True, slots=True)
class Placed:
    """A box with its upper left corner, in pixels from the upper left of the figure."""

    box: Box
    x: float
    y: float
    width: float

    @property
    def height(self) -> float:
        return ROW * len(self.box.rows) + 2 * PAD

    def row(self, number: int) -> float:
        """The middle of a row."""
        return self.y + PAD + ROW * (number + 0.5)

    def port(self, way: str) -> float:
        """The middle of the row where a way ends."""
        return self.row(next(n for n, row in enumerate(self.box.rows) if row.port == way))


def network_bytes(drawn: Picture, kind: str, note: str) -> bytes:
    """Draw the network as SVG or PNG, at least 1280 x 800 pixels."""
    import matplotlib as mpl

    mpl.use("Agg")
    from matplotlib.figure import Figure

    settings: Any = {"svg.hashsalt": "obrin", "font.family": "DejaVu Sans", "svg.fonttype": "none"}
    with mpl.rc_context(settings):
        placed, width, height = layout(drawn)
        figure = Figure(figsize=(width / 100, height / 100), dpi=100)
        axes = figure.add_axes((0, 0, 1, 1))
        axes.set_xlim(0, width)
        axes.set_ylim(height, 0)
        axes.axis("off")
        axes.text(MARGIN, 26, drawn.title, fontsize=15, weight="bold", color=INK, va="center")
        axes.text(MARGIN, 52, note, fontsize=9, color=INK, va="center")
        for number, line in enumerate(drawn.lines):
            _draw_line(axes, number, line, placed)
        for found in placed.values():
            _draw_box(axes, found)
        _legend(axes, drawn, height)
        return as_bytes(figure, kind)


def layout(drawn: Picture) -> tuple[dict[str, Placed], float, float]:
    """The position of each box, by name, and the size of the figure, all in pixels."""
    columns = [[box for box in drawn.boxes if box.column == n] for n in range(3)]
    widths = [max((_width(box) for box in boxes), default=0.0) for boxes in columns]
    tall = [_tall(boxes) for boxes in columns]
    inner = max(tall, default=0.0)
    height = max(800.0, TOP + inner + BOTTOM)
    gaps = [gap if any(columns[n + 1]) else 0.0 for n, gap in enumerate(GAPS)]
    gaps[1] = max(gaps[1], 90.0 if _beside(drawn) else 0.0)
    used = sum(widths) + sum(gaps) + 2 * MARGIN
    spare = max(0.0, 1280.0 - used)
    wide = sum(1 for gap in gaps if gap) or 1
    placed: dict[str, Placed] = {}
    x = MARGIN
    for number, boxes in enumerate(columns):
        y = TOP + (max(inner, height - TOP - BOTTOM) - tall[number]) / 2
        for box in boxes:
            placed[box.name] = Placed(box, x, y, widths[number])
            y += placed[box.name].height + BETWEEN
        x += widths[number]
        if number < 2 and gaps[number]:
            x += gaps[number] + spare / wide
    return placed, max(1280.0, used), height


def _beside(drawn: Picture) -> bool:
    """Whether a line joins two boxes of the middle column."""
    columns = {box.name: box.column for box in drawn.boxes}
    return any(columns[a] == columns[b] for a, b in (line.ends for line in drawn.lines))


def _tall(boxes: list[Box]) -> float:
    heights = (ROW * len(box.rows) + 2 * PAD for box in boxes)
    return sum(heights) + BETWEEN * max(0, len(boxes) - 1)


def _width(box: Box) -> float:
    return max(text_width(shown(row), bold=row.heading) for row in box.rows) + 2 * PAD + 12


def shown(row: Row) -> str:
    """The text of a row, cut where it is too long."""
    return row.text if len(row.text) <= WIDEST else row.text[: WIDEST - 3] + "..."


@cache
def text_width(text: str, *, bold: bool = False) -> float:
    """Pixels."""
    from matplotlib.font_manager import FontProperties
    from matplotlib.textpath import TextPath

    if not text.strip():
        return 0.0
    font = FontProperties(family="DejaVu Sans", weight="bold" if bold else "normal")
    path = TextPath((0, 0), text, size=SIZE * 100 / 72, prop=font)
    return float(path.get_extents().x1) * WIDER


WIDER = 1.03
"""Letters that are set on pixels take a little more."""


def _draw_box(axes: Any, found: Placed) -> None:
    from matplotlib.patches import Rectangle

    box = found.box
    for behind in (6.0, 3.0) if box.stands_for > 1 else ():
        corner = found.x + behind, found.y + behind
        axes.add_patch(
            Rectangle(
                corner, found.width, found.height, fc="#ffffff", ec="#9aa5a0", lw=0.8, zorder=2
            )
        )
    frame = Rectangle(
        (found.x, found.y),
        found.width,
        found.height,
        facecolor=_FACES[box.column],
        edgecolor="#7d8a86",
        linewidth=1.0,
        zorder=3,
    )
    frame.set_gid(f"box-{box.name}")
    axes.add_patch(frame)
    for number, row in enumerate(box.rows):
        text = axes.text(
            found.x + PAD + (0 if row.heading else 8),
            found.row(number),
            shown(row),
            fontsize=SIZE,
            weight="bold" if row.heading else "normal",
            color=INK,
            va="center",
            zorder=4,
            parse_math=False,
        )
        text.set_gid(f"row-{box.name}-{number}")


def course(line: Line, placed: dict[str, Placed]) -> list[tuple[float, float]]:
    """The four points of a line's curve: it leaves and arrives level, and stays in its gap."""
    one, other = (placed[name] for name in line.ends)
    here, there = one.port(line.way), other.port(line.way)
    if one.box.column == other.box.column:
        edge = max(one.x + one.width, other.x + other.width)
        start, end, out = one.x + one.width, other.x + other.width, edge + 78.0
        return [(start, here), (out, here), (out, there), (end, there)]
    if one.x > other.x:
        one, other, here, there = other, one, there, here
    start, end = one.x + one.width, other.x
    middle = (start + end) / 2
    return [(start, here), (middle, here), (middle, there), (end, there)]


def _draw_line(axes: Any, number: int, line: Line, placed: dict[str, Placed]) -> None:
    from matplotlib.patches import PathPatch
    from matplotlib.path import Path

    points = course(line, placed)
    path = Path(points, [Path.MOVETO, Path.CURVE4, Path.CURVE4, Path.CURVE4])
    colour = _STATES.get(line.state, _PLAIN)
    more = {"fc": "none", "capstyle": "butt", "zorder": 1}
    drawn = PathPatch(path, ec=colour, lw=_WIDTHS[line.kind], ls=_STYLES[line.state], **more)
    drawn.set_gid(f"line-{number}")
    drawn.set_path_effects(_effects(line.kind, colour))
    axes.add_patch(drawn)
    if line.state in (DOWN, LOST):
        x, y = (
            sum(p[i] * w for p, w in zip(points, (1, 3, 3, 1), strict=True)) / 8 for i in (0, 1)
        )
        axes.plot([x], [y], marker="X", markersize=10, color=colour, mec="#ffffff", zorder=1.2)


def _effects(kind: str, colour: str) -> list[Any]:
    """A circuit is a double line."""
    from matplotlib.patheffects import Normal, Stroke

    if kind != CIRCUIT:
        return [Normal()]
    outer = Stroke(linewidth=_WIDTHS[kind], foreground=colour)
    return [outer, Stroke(linewidth=1.2, foreground="#ffffff")]


def _legend(axes: Any, drawn: Picture, height: float) -> None:
    """What kinds of lines there are, and what states."""
    from matplotlib.lines import Line2D

    handles: list[Any] = []
    for kind in (TUNNEL, CIRCUIT, ATTACHED):
        if any(line.kind == kind for line in drawn.lines):
            handle = Line2D([], [], color=_PLAIN, lw=_WIDTHS[kind], label=kind)
            handle.set_path_effects(_effects(kind, _PLAIN))
            handles.append(handle)
    for state in _seen(drawn):
        marker = "X" if state in (DOWN, LOST) else ""
        style, colour = _STYLES[state], _STATES[state]
        handles.append(Line2D([], [], color=colour, ls=style, lw=2, marker=marker, label=state))
    if handles:
        axes.legend(
            handles=handles,
            loc="lower left",
            bbox_to_anchor=(MARGIN / 1280, 8 / height),
            ncols=len(handles),
            fontsize=9,
            frameon=False,
            handlelength=4,
        )


def _seen(drawn: Picture) -> Iterator[str]:
    there = {line.state for line in drawn.lines}
    yield from (state for state in _STATES if state in there)
