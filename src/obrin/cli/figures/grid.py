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
    from matplotlib.figure import Figure

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


@dataclass(frozen=True, slots=True)
class _Layout:
    """Sizes in inches; `large` cells have words in them."""

    rows: Sequence[str]
    columns: Sequence[str]

    @property
    def large(self) -> bool:
        return len(self.rows) <= 40 and len(self.columns) <= 24

    @property
    def font(self) -> float:
        return 9.0 if self.large else 6.0

    @property
    def each(self) -> float:
        if max(len(self.rows), len(self.columns)) <= 12:
            return 0.62
        return 0.3 if self.large else 0.16

    def longest(self, names: Sequence[str]) -> float:
        return max(map(len, names), default=1) * self.font * 0.0088

    @property
    def side(self) -> float:
        return self.longest(self.rows) + 0.25

    @property
    def head(self) -> float:
        return self.longest(self.columns) * _SIN + 1.05

    @property
    def right(self) -> float:
        return self.longest(self.columns) * _COS * 0.8 + 0.1

    @property
    def width(self) -> float:
        wide = self.each * (1.7 if self.large else 1.0)
        return max(12.8, self.side + len(self.columns) * wide + self.right)

    @property
    def height(self) -> float:
        return max(8.0, self.head + len(self.rows) * self.each + 0.25)


def grid_bytes(
    title: str,
    note: str,
    rows: Sequence[str],
    columns: Sequence[str],
    cells: Cells,
    looks: Mapping[str, Look],
    kind: str,
) -> bytes:
    """The figure as SVG or PNG, at least 1280 x 800 pixels; the first MOST of each are drawn."""
    import matplotlib as mpl

    mpl.use("Agg")
    from matplotlib.figure import Figure

    mpl.rcParams["svg.hashsalt"] = "obrin"
    mpl.rcParams["font.family"] = "DejaVu Sans"
    layout = _Layout(rows[:MOST], columns[:MOST])
    width, height = layout.width, layout.height
    figure = Figure(figsize=(width, height), dpi=100)
    figure.text(0.02, 1 - 0.35 / height, title, fontsize=15, weight="bold", color=_INK, va="center")
    figure.text(0.02, 1 - 0.66 / height, note, fontsize=9, color=_INK, va="center")
    _legend(figure, looks, height)
    top, bottom = 1 - layout.head / height, 0.25 / height
    left, inner = layout.side / width, 1 - (layout.side + layout.right) / width
    axes = figure.add_axes((left, bottom, inner, top - bottom))
    lines, across = len(layout.rows), len(layout.columns)
    shown = {at: cell for at, cell in cells.items() if at[0] < lines and at[1] < across}
    _colours(axes, shown, looks, lines, across)
    for at, (name, words) in shown.items():
        _cell(axes, at, looks[name], words, layout)
    _frame(axes, layout)
    out = io.BytesIO()
    metadata = {"Date": None} if kind == "svg" else None
    figure.savefig(out, format=kind, metadata=metadata)
    return out.getvalue()


def _legend(figure: Figure, looks: Mapping[str, Look], height: float) -> None:
    from matplotlib.patches import Patch

    handles = [
        Patch(
            facecolor=look.face,
            edgecolor=_INK,
            linewidth=0.4,
            hatch=look.hatch,
            label=f"{look.letter}  {look.meaning}",
        )
        for look in looks.values()
    ]
    figure.legend(
        handles=handles,
        loc="upper right",
        bbox_to_anchor=(0.985, 1 - 0.15 / height),
        ncols=len(looks),
        fontsize=9,
        frameon=False,
    )


def _cell(axes: Axes, at: tuple[int, int], look: Look, words: str, layout: _Layout) -> None:
    """Hatching where its class has some, and its words or letter."""
    from matplotlib.patches import Rectangle

    row, column = at
    if look.hatch:
        hatched = Rectangle(
            (column, row),
            1,
            1,
            facecolor=look.face,
            hatch=look.hatch,
            edgecolor="#ffffff",
            linewidth=0.6,
        )
        axes.add_patch(hatched)
    if look.letter == "." and not layout.large:
        return  # tens of thousands of them say nothing
    dark = sum(int(look.face[i : i + 2], 16) for i in (1, 3, 5)) < 330
    axes.text(
        column + 0.5,
        row + 0.5,
        words if layout.large and words else look.letter,
        ha="center",
        va="center",
        fontsize=layout.font - (0.5 if layout.large else 1.5),
        color="#ffffff" if dark else _INK,
        bbox={"facecolor": look.face, "edgecolor": "none", "pad": 1.5} if look.hatch else None,
    )


def _frame(axes: Axes, layout: _Layout) -> None:
    """Names of rows and columns, and the edges."""
    lines, across = len(layout.rows), len(layout.columns)
    axes.set_xticks(
        [n + 0.5 for n in range(across)],
        layout.columns,
        rotation=_SLANT,
        ha="left",
        fontsize=layout.font,
    )
    axes.set_yticks([n + 0.5 for n in range(lines)], layout.rows, fontsize=layout.font)
    axes.xaxis.tick_top()
    axes.tick_params(length=0)
    axes.set_xlim(0, max(across, 1))
    axes.set_ylim(max(lines, 1), 0)
    for line in axes.spines.values():
        line.set_color("#cccccc")
    axes.set_facecolor("#f7f7f5")


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
