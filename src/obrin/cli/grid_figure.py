"""A figure of rows against columns: a cell for each pair, with its class as colour and letter.

Colours differ in lightness and every class has a letter, so that it reads without colour, too.
Few rows make large cells with words in them; two hundred make a large sheet with small cells.
"""

from __future__ import annotations

import io
import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_INK = "#222222"
_SLANT = 40
_SIN, _COS = math.sin(math.radians(_SLANT)), math.cos(math.radians(_SLANT))
MOST = 400
"""Rows or columns that are drawn."""


@dataclass(frozen=True, slots=True)
class Look:
    """How a class of cells is drawn, and what it means."""

    face: str
    letter: str
    meaning: str
    hatch: str = ""


Cells = Mapping[tuple[int, int], tuple[str, str]]
"""(row, column) -> (class, words for large cells); what is not in it stays empty."""


def grid_bytes(
    title: str, note: str, rows: Sequence[str], columns: Sequence[str], cells: Cells,
    looks: Mapping[str, Look], kind: str,
) -> bytes:  # fmt: skip
    """The figure as SVG or PNG, at least 1280 x 800 pixels; the first MOST of each are drawn."""
    import matplotlib as mpl

    mpl.use("Agg")
    from matplotlib.figure import Figure
    from matplotlib.patches import Patch, Rectangle

    mpl.rcParams["svg.hashsalt"] = "obrin"
    mpl.rcParams["font.family"] = "DejaVu Sans"
    rows, columns = rows[:MOST], columns[:MOST]
    large = len(rows) <= 40 and len(columns) <= 24
    each = 0.62 if max(len(rows), len(columns)) <= 12 else 0.3 if large else 0.16
    font = 9.0 if large else 6.0
    side = max(map(len, rows), default=1) * font * 0.0088 + 0.25
    slanted = max(map(len, columns), default=1) * font * 0.0088
    head, right = slanted * _SIN + 1.05, slanted * _COS * 0.8 + 0.1
    width = max(12.8, side + len(columns) * each * (1.7 if large else 1.0) + right)
    height = max(8.0, head + len(rows) * each + 0.25)
    figure = Figure(figsize=(width, height), dpi=100)
    figure.text(0.02, 1 - 0.35 / height, title, fontsize=15, weight="bold", color=_INK, va="center")
    figure.text(0.02, 1 - 0.66 / height, note, fontsize=9, color=_INK, va="center")
    figure.legend(
        handles=[
            Patch(facecolor=look.face, edgecolor=_INK, linewidth=0.4, hatch=look.hatch,
                  label=f"{look.letter}  {look.meaning}")
            for look in looks.values()
        ],
        loc="upper right", bbox_to_anchor=(0.985, 1 - 0.15 / height), ncols=len(looks),
        fontsize=9, frameon=False,
    )  # fmt: skip
    top = 1 - head / height
    axes = figure.add_axes((side / width, 0.25 / height, 1 - (side + right) / width,
                            top - 0.25 / height))  # fmt: skip
    shown = {at: cell for at, cell in cells.items() if at[0] < len(rows) and at[1] < len(columns)}
    _colours(axes, shown, looks, len(rows), len(columns))
    for (row, column), (name, words) in shown.items():
        look = looks[name]
        if look.hatch:
            axes.add_patch(Rectangle((column, row), 1, 1, facecolor=look.face, hatch=look.hatch,
                                     edgecolor="#ffffff", linewidth=0.6))  # fmt: skip
        if look.letter == "." and not large:
            continue  # tens of thousands of them say nothing
        dark = sum(int(look.face[i : i + 2], 16) for i in (1, 3, 5)) < 330
        axes.text(column + 0.5, row + 0.5, words if large and words else look.letter,
                  ha="center", va="center", fontsize=font - (0.5 if large else 1.5),
                  color="#ffffff" if dark else _INK,
                  bbox={"facecolor": look.face, "edgecolor": "none", "pad": 1.5}
                  if look.hatch else None)  # fmt: skip
    axes.set_xticks([n + 0.5 for n in range(len(columns))], columns, rotation=_SLANT, ha="left",
                    fontsize=font)  # fmt: skip
    axes.set_yticks([n + 0.5 for n in range(len(rows))], rows, fontsize=font)
    axes.xaxis.tick_top()
    axes.tick_params(length=0)
    axes.set_xlim(0, max(len(columns), 1))
    axes.set_ylim(max(len(rows), 1), 0)
    for line in axes.spines.values():
        line.set_color("#cccccc")
    axes.set_facecolor("#f7f7f5")
    out = io.BytesIO()
    metadata = {"Date": None} if kind == "svg" else None
    figure.savefig(out, format=kind, metadata=metadata)
    return out.getvalue()


def _colours(axes: Axes, cells: Cells, looks: Mapping[str, Look], rows: int, columns: int) -> None:
    """All cells as one mesh: tens of thousands are drawn at once."""
    import numpy as np
    from matplotlib.colors import ListedColormap

    number = {name: n for n, name in enumerate(looks)}
    values = np.full((rows, columns), np.nan)
    for (row, column), (name, _) in cells.items():
        values[row, column] = number[name]
    colours = ListedColormap([look.face for look in looks.values()])
    axes.pcolormesh(
        values, cmap=colours, vmin=-0.5, vmax=len(looks) - 0.5, edgecolors="#ffffff", linewidth=0.6
    )
