"""A figure of a plan: flows down, steps across; what works, what goes over, what is lost."""

from __future__ import annotations

from typing import TYPE_CHECKING

from obrin.cli.figures.seconds import INK, as_bytes

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from obrin.core.change.plan import Plan

MOST_FLOWS, MOST_STEPS = 40, 60
_WORKS, _MOVES, _LOST, _STOPS = "#3f6f8c", "#8fb7c9", "#b3263f", "#d98324"


def _stop(axes: Axes, row: int, column: int) -> None:
    """A mark at the begin of a step, above what works after it."""
    axes.barh(row, 0.1, left=column + 0.04, height=0.7, color=_STOPS, zorder=2)


def plan_bytes(plan: Plan, kind: str) -> bytes:
    """SVG or PNG; the first flows and steps where there are many."""
    from matplotlib.figure import Figure
    from matplotlib.patches import Patch

    flows = [flow for flow in plan.flows if flow.must == "work"][:MOST_FLOWS]
    steps = plan.steps[:MOST_STEPS]
    figure = Figure(
        figsize=(12.8, max(3.2, min(8.0, 1.9 + 0.34 * len(flows)))), layout="constrained"
    )
    axes = figure.add_subplot()
    for row, flow in enumerate(flows):
        away = plan.elsewhere(flow)
        for column, planned in enumerate(steps):
            lost = any(gone == flow for gone, _ in planned.lost)
            color = _LOST if lost else _MOVES if away[column] else _WORKS
            hatch = "xx" if lost else "//" if away[column] else ""
            if any(each.flow == flow for each in planned.breaks):
                _stop(axes, row, column)
            axes.barh(
                row,
                0.92,
                left=column + 0.04,
                height=0.7,
                color=color,
                hatch=hatch,
                edgecolor="#ffffff",
                linewidth=0,
            )
    axes.set_yticks(range(len(flows)), [flow.words for flow in flows], fontsize=9, color=INK)
    names = [
        f"{p.number}  {p.step.leg or p.step.kind}\nat {p.step.place}, by {p.owner}" for p in steps
    ]
    axes.set_title("What works after each step", loc="left", fontsize=10, color=INK)
    ticks = [column + 0.5 for column in range(len(steps))]
    axes.set_xticks(ticks, names, fontsize=8, color=INK, rotation=35, ha="right")
    axes.set_xlim(0, max(len(steps), 1))
    axes.invert_yaxis()
    for side in ("top", "right", "left", "bottom"):
        axes.spines[side].set_visible(False)
    axes.tick_params(length=0)
    handles = [
        Patch(facecolor=_WORKS, label="works after the step"),
        Patch(
            facecolor=_MOVES,
            hatch="//",
            edgecolor="#ffffff",
            label="works, over another way than before the change",
        ),
        Patch(facecolor=_STOPS, label="stops while the step is done"),
        Patch(facecolor=_LOST, hatch="xx", edgecolor="#ffffff", label="lost until the next step"),
    ]
    figure.legend(handles=handles, loc="outside upper left", ncols=4, frameon=False, fontsize=9)
    return as_bytes(figure, kind)
