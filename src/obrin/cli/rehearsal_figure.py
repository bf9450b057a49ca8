"""A figure of a rehearsal: for each failure the outage that was predicted, and the one measured.

A band is the predicted window, a mark what the packets did; one with a cross was not as predicted.
Time runs to the right on a logarithmic scale.
"""

from __future__ import annotations

import io
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from obrin.live.rehearse.play import Scene

_INK, _BAND, _GOOD, _BAD = "#222222", "#b9cfdb", "#1f4e6b", "#b3263f"
MOST = 60
"""Rows that are drawn."""
FIRST = 0.1
"""Seconds at the left end; less is drawn there."""


@dataclass(frozen=True, slots=True)
class Row:
    """The flow of a scene that is gone longest. None: until it is mended."""

    name: str
    shortest: float
    longest: float | None
    measured: float | None
    good: bool

    @property
    def words(self) -> str:
        if self.measured is None:
            return "gone until mended"
        return f"{self.measured:.1f} s" if self.measured else "no gap"


def rows(played: Sequence[Scene]) -> Iterator[Row]:
    """One for each scene."""
    for scene in played:
        worst = max(
            scene.gone,
            key=lambda f: float("inf") if f.measured is None else f.measured,
            default=None,
        )
        if worst is None:
            yield Row(scene.what, 0.0, 0.0, 0.0, scene.good)
        else:
            yield Row(scene.what, worst.shortest, worst.longest, worst.measured, scene.good)


def rehearsal_bytes(name: str, played: Sequence[Scene], kind: str) -> bytes:
    """The figure as SVG or PNG, at least 1280 x 800 pixels; the first MOST scenes are drawn."""
    import matplotlib as mpl

    mpl.use("Agg")
    from matplotlib.figure import Figure

    mpl.rcParams["svg.hashsalt"] = "obrin"
    mpl.rcParams["font.family"] = "DejaVu Sans"
    shown = list(rows(played))[:MOST]
    height = max(8.0, 1.9 + 0.34 * len(shown))
    side = max((len(row.name) for row in shown), default=1) * 0.082 + 0.3
    figure = Figure(figsize=(12.8, height), dpi=100)
    title = f"{name}: rehearsed with packets"
    figure.text(0.02, 1 - 0.35 / height, title, fontsize=15, weight="bold", color=_INK, va="center")
    note = "what fails, at the left; for each, the flow that is gone for longest"
    figure.text(0.02, 1 - 0.68 / height, note, fontsize=9, color=_INK, va="center")
    axes = figure.add_axes((side / 12.8, 0.65 / height, 1 - (side + 0.3) / 12.8, 1 - 1.75 / height))
    known = [t for row in shown for t in (row.longest, row.measured) if t is not None]
    end = max([30.0, *(t * 1.3 for t in known)]) * 8
    for number, row in enumerate(shown):
        _draw(axes, number, row, end)
    axes.set_xscale("log")
    axes.set_xlim(FIRST, end)
    ticks = [t for t in (0.1, 0.3, 1, 3, 10, 30, 60, 300, 900) if t <= end]
    axes.set_xticks(ticks, [f"{t:g} s" for t in ticks])
    axes.minorticks_off()
    axes.set_ylim(max(len(shown), 1) - 0.4, -0.6)
    axes.set_yticks(range(len(shown)), [row.name for row in shown], fontsize=9)
    axes.tick_params(axis="y", length=0)
    axes.grid(axis="x", color="#dddddd", linewidth=0.6)
    axes.set_axisbelow(True)
    for edge in ("top", "right", "left"):
        axes.spines[edge].set_visible(False)
    axes.set_xlabel("seconds without it", fontsize=9, color=_INK)
    _legend(figure, height)
    out = io.BytesIO()
    figure.savefig(out, format=kind, metadata={"Date": None} if kind == "svg" else None)
    return out.getvalue()


def _legend(figure: Any, height: float) -> None:
    from matplotlib.lines import Line2D
    from matplotlib.patches import Patch

    marks: dict[str, Any] = {"linestyle": "none", "markersize": 8}
    figure.legend(
        handles=[
            Patch(facecolor=_BAND, label="predicted"),
            Line2D([], [], marker="D", color=_GOOD, label="measured", **marks),
            Line2D([], [], marker="X", color=_BAD, label="measured, not as predicted", **marks),
        ],
        loc="upper right",
        bbox_to_anchor=(0.985, 1 - 0.75 / height),
        ncols=3,
        fontsize=9,
        frameon=False,
    )


def _draw(axes: Any, number: int, row: Row, end: float) -> None:
    right = end if row.longest is None else row.longest
    left = end / 1.6 if row.longest is None else max(row.shortest, FIRST)
    if right > FIRST:
        axes.barh(number, right - left, left=left, height=0.62, color=_BAND, linewidth=0)
    at = end / 1.25 if row.measured is None else max(row.measured, FIRST * 1.06)
    marker, colour = ("D", _GOOD) if row.good else ("X", _BAD)
    axes.plot([at], [number], marker=marker, color=colour, markersize=8, clip_on=False)
    box = {"facecolor": "#ffffff", "edgecolor": "none", "pad": 1.0, "alpha": 0.85}
    last = row.measured is None
    place = (end / 1.75, "right") if last else (max(at, min(right, end)) * 1.12, "left")
    axes.text(place[0], number, row.words, ha=place[1], va="center", fontsize=8.5, bbox=box)
