"""A figure of outages: for each failure, how long flows are gone and when they are back.

Time runs to the right on a logarithmic scale, as a path watched every 0.3 s and a hold time of 90 s
have to stand side by side. What is lost until somebody mends it runs out of the picture.
"""

from __future__ import annotations

import io
from collections.abc import Sequence
from dataclasses import dataclass

_INK, _SURE, _MAYBE, _LOST = "#222222", "#3f6f8c", "#b9cfdb", "#b3263f"
MOST = 60
"""Failures that are drawn."""
FIRST = 0.1
"""Seconds at the left end."""


@dataclass(frozen=True, slots=True)
class Bar:
    """One failure: flows are gone for `shortest` to `longest` seconds; `lost` ones for good.

    `words` stand beside the bar.
    """

    name: str
    shortest: float
    longest: float
    lost: bool
    words: str


def outage_bytes(title: str, bars: Sequence[Bar], kind: str) -> bytes:
    """The figure as SVG or PNG, at least 1280 x 800 pixels; the first MOST are drawn."""
    import matplotlib as mpl

    mpl.use("Agg")
    from matplotlib.figure import Figure
    from matplotlib.patches import Patch

    mpl.rcParams["svg.hashsalt"] = "obrin"
    mpl.rcParams["font.family"] = "DejaVu Sans"
    shown = bars[:MOST]
    height = max(8.0, 1.9 + 0.34 * len(shown))
    side = max((len(bar.name) for bar in shown), default=1) * 0.082 + 0.3
    figure = Figure(figsize=(12.8, height), dpi=100)
    figure.text(0.02, 1 - 0.35 / height, title, fontsize=15, weight="bold", color=_INK, va="center")
    note = "what fails, at the left; for each, the flow that is gone for longest"
    figure.text(0.02, 1 - 0.68 / height, note, fontsize=9, color=_INK, va="center")
    axes = figure.add_axes((side / 12.8, 0.65 / height, 1 - (side + 0.3) / 12.8, 1 - 1.75 / height))
    end = max([60.0, *(bar.longest * 1.3 for bar in shown)]) * 12
    for row, bar in enumerate(shown):
        _draw(axes, row, bar, end)
    axes.set_xscale("log")
    axes.set_xlim(FIRST, end)
    ticks = [t for t in (0.1, 0.3, 1, 3, 10, 30, 60, 300, 900) if t <= end]
    axes.set_xticks(ticks, [f"{t:g} s" for t in ticks])
    axes.minorticks_off()
    axes.set_ylim(max(len(shown), 1) - 0.4, -0.6)
    axes.set_yticks(range(len(shown)), [bar.name for bar in shown], fontsize=9)
    axes.tick_params(axis="y", length=0)
    axes.grid(axis="x", color="#dddddd", linewidth=0.6)
    axes.set_axisbelow(True)
    for name in ("top", "right", "left"):
        axes.spines[name].set_visible(False)
    axes.set_xlabel("seconds after the failure", fontsize=9, color=_INK)
    figure.legend(
        handles=[
            Patch(facecolor=_SURE, label="gone"),
            Patch(facecolor=_MAYBE, hatch="//", edgecolor="#ffffff", label="gone, or back already"),
            Patch(facecolor=_LOST, hatch="xx", edgecolor="#ffffff", label="gone until mended"),
        ],
        loc="upper right",
        bbox_to_anchor=(0.985, 1 - 0.75 / height),
        ncols=3,
        fontsize=9,
        frameon=False,
    )
    out = io.BytesIO()
    figure.savefig(out, format=kind, metadata={"Date": None} if kind == "svg" else None)
    return out.getvalue()


def _draw(axes: object, row: int, bar: Bar, end: float) -> None:
    from matplotlib.axes import Axes

    assert isinstance(axes, Axes)
    if bar.lost:
        axes.barh(
            row,
            end - FIRST,
            left=FIRST,
            height=0.62,
            color=_LOST,
            hatch="xx",
            edgecolor="#ffffff",
            linewidth=0,
        )
        box = {"facecolor": "#ffffff", "edgecolor": "none", "pad": 1.5}
        axes.text(FIRST * 1.15, row, bar.words, va="center", fontsize=8.5, color=_INK, bbox=box)
        return
    sure = max(bar.shortest, FIRST)
    axes.barh(row, sure - FIRST, left=FIRST, height=0.62, color=_SURE)
    axes.barh(
        row,
        max(bar.longest - sure, 0),
        left=sure,
        height=0.62,
        color=_MAYBE,
        hatch="//",
        edgecolor="#ffffff",
        linewidth=0,
    )
    axes.text(max(bar.longest, FIRST) * 1.06, row, bar.words, va="center", fontsize=8.5, color=_INK)
