"""The figure of the address space: pools on top, then a bar for every holder, in columns.

Every bar has a scale of its own, written beside it: a /8 and a /24 on one scale would show nothing.
Colours differ in lightness too, and what is wrong is hatched, so that it prints without colour.
"""

from __future__ import annotations

import io
import math
from typing import TYPE_CHECKING, Any

from obrin.core.space.chart import FOREIGN, KEPT, OVERLAP, USED, Chart, Lane, Part, cells

if TYPE_CHECKING:
    from matplotlib.axes import Axes

MOST_HOLDERS = 168
MOST_PARTS = 400
_CELLS = 600
_FACE = {USED: "#2f6f8f", KEPT: "#bcd9c6", OVERLAP: "#d1495b", FOREIGN: "#8d8d8d", "": "#f1f1ee"}
_EDGE = "#ffffff"
_INK = "#222222"


def figure_bytes(chart: Chart, title: str, kind: str) -> bytes:
    """The figure as SVG or PNG, 1280 x 800 or higher."""
    import matplotlib as mpl

    mpl.use("Agg")
    from matplotlib.figure import Figure

    mpl.rcParams["svg.hashsalt"] = "obrin"
    mpl.rcParams["font.family"] = "DejaVu Sans"
    pools, holders = list(chart.pools), list(chart.holders)
    # Those with something wrong first, where not all can be shown.
    left_out = max(len(holders) - MOST_HOLDERS, 0)
    if left_out:
        wrong = [h for h in holders if any(p.state == OVERLAP for p in h.parts)]
        rest = [h for h in holders if h not in wrong]
        holders = [*wrong, *rest][:MOST_HOLDERS]
    columns = 1 if len(holders) <= 10 else 2 if len(holders) <= 40 else 4
    rows = max(1, math.ceil(len(holders) / columns))
    each = 0.7 if rows <= 8 else 0.5 if rows <= 14 else 0.27
    height = 1.55 + 0.42 * len(pools) + each * rows
    figure = Figure(figsize=(12.8, height), dpi=100)
    figure.text(
        0.02,
        1 - 0.32 / height,
        f"Address space of {title}",
        fontsize=15,
        weight="bold",
        color=_INK,
        va="center",
    )
    _legend(figure, height)
    top = 1 - 0.75 / height
    pools_share = 0.42 * len(pools) / height
    axes = figure.add_axes((0.02, top - pools_share, 0.96, pools_share))
    _draw_lanes(axes, pools, "Pools", label_share=0.26, font=9)
    note = 0.42 if chart.overlaps or left_out else 0.12
    bottom = note / height
    lanes_top = top - pools_share - 0.28 / height
    gap = 0.015
    width = (0.96 - gap * (columns - 1)) / columns
    font = 9 if columns == 1 else 7.5 if columns == 2 else 6
    for column in range(columns):
        mine = holders[column * rows : (column + 1) * rows]
        if not mine:
            continue
        share = (lanes_top - bottom) * len(mine) / rows
        part = figure.add_axes((0.02 + column * (width + gap), lanes_top - share, width, share))
        heading = "Who holds what" if column == 0 else ""
        _draw_lanes(part, mine, heading, label_share={1: 0.26, 2: 0.4}.get(columns, 0.5), font=font)
    _notes(figure, chart, left_out, height)
    out = io.BytesIO()
    figure.savefig(out, format=kind, metadata={"Date": None} if kind == "svg" else None)
    return out.getvalue()


def _legend(figure: Any, height: float) -> None:
    from matplotlib.patches import Rectangle

    at = 0.46
    for state, words in (
        (USED, "used"),
        (KEPT, "kept to grow"),
        (FOREIGN, "elsewhere"),
        (OVERLAP, "overlap"),
        ("", "free"),
    ):
        y = 1 - 0.40 / height
        figure.add_artist(
            Rectangle(
                (at, y),
                0.018,
                0.16 / height,
                facecolor=_FACE[state],
                edgecolor="#999999",
                hatch="////" if state == OVERLAP else None,
                linewidth=0.6,
            )
        )
        figure.text(at + 0.024, y + 0.08 / height, words, fontsize=9, va="center", color=_INK)
        at += 0.11


def _draw_lanes(
    axes: Axes, lanes: list[Lane], heading: str, *, label_share: float, font: float
) -> None:
    axes.set_xlim(0, 1)
    axes.set_ylim(len(lanes), 0)
    axes.axis("off")
    if heading:
        axes.set_title(heading, loc="left", fontsize=10, weight="bold", color=_INK, pad=3)
    for row, lane in enumerate(lanes):
        _draw_lane(axes, lane, row, label_share, font)


def _draw_lane(axes: Axes, lane: Lane, row: int, label_share: float, font: float) -> None:
    from matplotlib.patches import Rectangle

    middle = row + 0.5
    more = f" +{len(lane.extent) - 1}" if len(lane.extent) > 1 else ""
    extent = f"{lane.extent[0]}{more}"
    title = lane.title
    if lane.region:
        title += f" ({lane.region})"
    wide = label_share < 0.3
    half = label_share * (0.56 if wide else 0.42)
    limit = int(half * (155 if wide else 72 if font > 7 else 45) * (9 / font))
    axes.text(0, middle, _cut(title, limit), fontsize=font, va="center", color=_INK)
    axes.text(half, middle, extent, fontsize=font - 0.5, va="center", color="#555555")
    left, right = label_share, 0.945 if wide else 0.91
    width = right - left
    high = 0.66 if wide else 0.78
    at = left
    # What a holder does not use is kept for it; what a pool does not is free.
    background = _FACE[KEPT if lane.kind in ("site", "cloud") else ""]
    for block in lane.extent:
        span = width * block.size / lane.size
        axes.add_patch(
            Rectangle(
                (at, middle - high / 2),
                span,
                high,
                facecolor=background,
                edgecolor="#b9b9b4",
                linewidth=0.5,
            )
        )
        if len(lane.parts) > MOST_PARTS:
            at += span
            continue
        order = sorted(lane.parts, key=lambda p: (p.prefix.length, p.state == OVERLAP))
        wrong = [part for part in order if part.state == OVERLAP]
        for part in order:
            if block.covers(part.prefix):
                offset = (part.prefix.value - block.value) / block.size * span
                shared = any(p.prefix.overlaps(part.prefix) for p in wrong)
                _draw_part(
                    axes,
                    part,
                    at + offset,
                    part.prefix.size / block.size * span,
                    middle,
                    high,
                    font,
                    shared=shared,
                )
        at += span
    if len(lane.parts) > MOST_PARTS:
        _draw_cells(axes, lane, left, width, middle, high)
    share = "<1 %" if 0 < lane.share < 0.005 else f"{lane.share * 100:.0f} %"
    axes.text(1, middle, share, fontsize=font, va="center", ha="right", color=_INK)


def _draw_cells(
    axes: Axes, lane: Lane, left: float, width: float, middle: float, high: float
) -> None:
    """Draw so many parts that each would be thinner than a line: by cells of what is in them."""
    from matplotlib.patches import Rectangle

    for index, state in enumerate(cells(lane, _CELLS)):
        if state:
            face = _FACE[USED if state == "partly" else state]
            axes.add_patch(
                Rectangle(
                    (left + width * index / _CELLS, middle - high / 2),
                    width / _CELLS,
                    high,
                    facecolor=face,
                    edgecolor="none",
                )
            )


def _draw_part(
    axes: Axes,
    part: Part,
    x: float,
    width: float,
    middle: float,
    high: float,
    font: float,
    *,
    shared: bool,
) -> None:
    from matplotlib.patches import Rectangle

    # A sliver is drawn wide enough to be seen. What others use of a range is its lower half.
    drawn = max(width, 0.0022)
    wrong = part.state == OVERLAP
    top = middle if wrong else middle - high / 2
    axes.add_patch(
        Rectangle(
            (x, top),
            drawn,
            high / 2 if wrong else high,
            facecolor=_FACE[part.state],
            edgecolor=_EDGE if width > 0.004 else "none",
            linewidth=0.5,
            hatch="////" if wrong and width > 0.02 else None,
        )
    )
    room = int(width * (150 if font > 8 else 42) * (9 / font))
    if part.state == KEPT or len(part.label) > room:
        return
    box = {"facecolor": _FACE[OVERLAP], "edgecolor": "none", "pad": 1.0} if wrong else None
    at = middle + high / 4 if wrong else middle - (high / 4 if shared else 0)
    axes.text(
        x + width / 2,
        at,
        part.label,
        fontsize=font - 1,
        va="center",
        ha="center",
        color="#ffffff",
        clip_on=True,
        bbox=box,
    )


def _notes(figure: Any, chart: Chart, left_out: int, height: float) -> None:
    lines = [
        f"{one.prefix} of {one.owner} overlaps {other.prefix} of {other.owner}"
        for one, other in chart.overlaps[:2]
    ]
    if len(chart.overlaps) > 2:
        lines[-1] += f", and {len(chart.overlaps) - 2} more"
    if left_out:
        lines.append(f"{left_out} more sites are not drawn; 'obrin space --all' lists them")
    for index, line in enumerate(lines[:2]):
        figure.text(
            0.02,
            (0.26 - 0.17 * index) / height,
            line,
            fontsize=8.5,
            color=_FACE[OVERLAP] if "overlaps" in line else _INK,
        )


def _cut(text: str, width: int) -> str:
    return text if len(text) <= width else text[: max(width - 1, 1)] + "…"
