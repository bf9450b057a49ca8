"""A figure of outages: for each failure, how long flows are gone and when they are back.

Time runs to the right on a logarithmic scale, as a path watched every 0.3 s and a hold time of 90 s
have to stand side by side. What is lost until somebody mends it runs out of the picture.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from obrin.cli.figures.seconds import FIRST, INK, Frame, as_bytes, framed

_SURE, _MAYBE, _LOST = "#3f6f8c", "#b9cfdb", "#b3263f"
_BACK = "gone, or back already"
MOST = 60
"""Failures that are drawn."""


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
    """The figure as SVG or PNG; the first MOST are drawn."""
    from matplotlib.patches import Patch

    shown = bars[:MOST]
    end = max([60.0, *(bar.longest * 1.3 for bar in shown)]) * 12
    figure, axes = framed(
        Frame(
            title=title,
            note="what fails, at the left; for each, the flow that is gone for longest",
            label="seconds after the failure",
            names=[bar.name for bar in shown],
            end=end,
            handles=[
                Patch(facecolor=_SURE, label="gone"),
                Patch(facecolor=_MAYBE, hatch="//", edgecolor="#ffffff", label=_BACK),
                Patch(facecolor=_LOST, hatch="xx", edgecolor="#ffffff", label="gone until mended"),
            ],
        )
    )
    for row, bar in enumerate(shown):
        _draw(axes, row, bar, end)
    return as_bytes(figure, kind)


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
        axes.text(FIRST * 1.15, row, bar.words, va="center", fontsize=8.5, color=INK, bbox=box)
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
    axes.text(max(bar.longest, FIRST) * 1.06, row, bar.words, va="center", fontsize=8.5, color=INK)
