"""A figure of a rehearsal: for each failure the outage that was predicted, and the one measured.

A band is the predicted window, a mark what the packets did; one with a cross was not as predicted.
Time runs to the right on a logarithmic scale.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from obrin.cli.figures.seconds import FIRST, Frame, as_bytes, framed

if TYPE_CHECKING:
    from obrin.live.rehearse.scenes import Scene

_BAND, _GOOD, _BAD = "#b9cfdb", "#1f4e6b", "#b3263f"
MOST = 60
"""Rows that are drawn."""


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
    """The figure as SVG or PNG; the first MOST scenes are drawn."""
    from matplotlib.lines import Line2D
    from matplotlib.patches import Patch

    shown = list(rows(played))[:MOST]
    known = [t for row in shown for t in (row.longest, row.measured) if t is not None]
    end = max([30.0, *(t * 1.3 for t in known)]) * 8
    marks: dict[str, Any] = {"linestyle": "none", "markersize": 8}
    figure, axes = framed(
        Frame(
            title=f"{name}: rehearsed with packets",
            note="what fails, at the left; for each, the flow that is gone for longest",
            label="seconds without it",
            names=[row.name for row in shown],
            end=end,
            handles=[
                Patch(facecolor=_BAND, label="predicted"),
                Line2D([], [], marker="D", color=_GOOD, label="measured", **marks),
                Line2D([], [], marker="X", color=_BAD, label="measured, not as predicted", **marks),
            ],
        )
    )
    for number, row in enumerate(shown):
        _draw(axes, number, row, end)
    return as_bytes(figure, kind)


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
