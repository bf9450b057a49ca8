"""The frame of figures in which rows of things stand over seconds, on a logarithmic scale."""

from __future__ import annotations

import io
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from obrin.core.quantity import plain

INK = "#222222"
FIRST = 0.1
"""Seconds at the left end."""
_TICKS = (0.1, 0.3, 1, 3, 10, 30, 60, 300, 900)


@dataclass(frozen=True, slots=True, kw_only=True)
class Frame:
    """`names` stand at the left, one for each row; `end` is how many seconds the right end is.
    `handles` are the entries of the legend."""

    title: str
    note: str
    label: str
    names: Sequence[str]
    end: float
    handles: Sequence[Any]


def framed(frame: Frame) -> tuple[Any, Any]:
    """The figure, at least 1280 x 800 pixels, and its axes: row 0 at the top."""
    import matplotlib as mpl

    mpl.use("Agg")
    from matplotlib.figure import Figure

    mpl.rcParams["svg.hashsalt"] = "obrin"
    mpl.rcParams["font.family"] = "DejaVu Sans"
    rows = len(frame.names)
    height = max(8.0, 1.9 + 0.34 * rows)
    side = max(map(len, frame.names), default=1) * 0.082 + 0.3
    figure = Figure(figsize=(12.8, height), dpi=100)
    place: dict[str, Any] = {"color": INK, "va": "center"}
    figure.text(0.02, 1 - 0.35 / height, frame.title, fontsize=15, weight="bold", **place)
    figure.text(0.02, 1 - 0.68 / height, frame.note, fontsize=9, **place)
    axes = figure.add_axes((side / 12.8, 0.65 / height, 1 - (side + 0.3) / 12.8, 1 - 1.75 / height))
    axes.set_xscale("log")
    axes.set_xlim(FIRST, frame.end)
    ticks = [tick for tick in _TICKS if tick <= frame.end]
    axes.set_xticks(ticks, [f"{plain(tick)} s" for tick in ticks])
    axes.minorticks_off()
    axes.set_ylim(max(rows, 1) - 0.4, -0.6)
    axes.set_yticks(range(rows), list(frame.names), fontsize=9)
    axes.tick_params(axis="y", length=0)
    axes.grid(axis="x", color="#dddddd", linewidth=0.6)
    axes.set_axisbelow(True)
    for name in ("top", "right", "left"):
        axes.spines[name].set_visible(False)
    axes.set_xlabel(frame.label, fontsize=9, color=INK)
    figure.legend(
        handles=list(frame.handles),
        loc="upper right",
        bbox_to_anchor=(0.985, 1 - 0.75 / height),
        ncols=len(frame.handles),
        fontsize=9,
        frameon=False,
    )
    return figure, axes


def as_bytes(figure: Any, kind: str) -> bytes:
    """Encode a figure as SVG or PNG; the same picture gives the same bytes."""
    out = io.BytesIO()
    figure.savefig(out, format=kind, metadata={"Date": None} if kind == "svg" else None)
    return out.getvalue()
