"""The map of the address space in a terminal: a tree with a bar for each line."""

from __future__ import annotations

import sys
from collections.abc import Iterator

from rich.console import Console
from rich.text import Text

from obrin.core.space.chart import FOREIGN, KEPT, OVERLAP, USED, Chart, Lane, cells

MOST_LANES = 40
_SIGNS = {
    USED: ("█", "#", "cyan"),
    "partly": ("▒", "+", "cyan"),
    FOREIGN: ("▓", "x", "blue"),
    KEPT: ("░", "-", "dim"),
    OVERLAP: ("!", "!", "bold red"),
    "": ("·", ".", "dim"),
}


def print_map(out: Console, chart: Chart, *, whole: bool) -> None:
    """Fits 80 columns; every state has a sign of its own, with colour or without."""
    plain = "utf" not in (sys.stdout.encoding or "").lower()
    width = min(out.width, 120)
    bar = max(16, width - 52)
    out.print(_legend(plain), soft_wrap=True)
    out.print()
    out.print(_head("Pools", bar))
    for lane in chart.pools:
        _print_lane(out, lane, bar, plain, "")
    shown = list(chart.holders)
    for kind, title in (("cloud", "Clouds"), ("site", "Sites"), ("elsewhere", "Elsewhere")):
        lanes = [lane for lane in shown if lane.kind == kind]
        if not lanes:
            continue
        out.print()
        out.print(_head(title, bar))
        detailed = whole or len(lanes) <= 8
        for lane in lanes if whole else lanes[:MOST_LANES]:
            _print_lane(out, lane, bar, plain, "")
            if detailed and kind != "elsewhere":
                _print_parts(out, lane, bar, plain)
        if len(lanes) > MOST_LANES and not whole:
            out.print(f"  and {len(lanes) - MOST_LANES} more; --all shows them")
    if chart.overlaps:
        out.print()
        for line in overlap_lines(chart):
            out.print(Text(line, style="bold red"), soft_wrap=True)


def overlap_lines(chart: Chart) -> Iterator[str]:
    for one, other in chart.overlaps:
        yield (
            f"! {one.prefix} of {one.owner} and {other.prefix} of {other.owner} overlap; "
            "see 'obrin space remedies'"
        )


def _legend(plain: bool) -> Text:
    text = Text()
    for state, words in (
        (USED, "used"),
        ("partly", "partly"),
        (KEPT, "kept to grow"),
        (FOREIGN, "elsewhere"),
        (OVERLAP, "overlap"),
        ("", "free"),
    ):
        sign = _SIGNS[state]
        text.append(sign[1] if plain else sign[0], style=sign[2])
        text.append(f" {words}   ")
    return text


def _head(title: str, bar: int) -> Text:
    return Text(f"{title:<22}{'range':<21}{'':<{bar}}  {'use':>5}", style="bold")


def _print_lane(out: Console, lane: Lane, bar: int, plain: bool, indent: str) -> None:
    first, rest = lane.extent[0], len(lane.extent) - 1
    extent = str(first) + (f" +{rest}" if rest else "")
    title = lane.title + (f" ({lane.region})" if lane.region and lane.kind != "pool" else "")
    line = Text()
    line.append(f"{_cut(indent + title, 21):<22}")
    line.append(f"{_cut(extent, 20):<21}")
    own = lane.kind in ("site", "cloud")
    for state in cells(lane, bar):
        # What a holder does not use is kept for it.
        sign = _SIGNS[KEPT if own and not state else state]
        line.append(sign[1] if plain else sign[0], style=sign[2])
    line.append(f"  {_percent(lane.share):>5}")
    out.print(line, soft_wrap=True)


def _print_parts(out: Console, lane: Lane, bar: int, plain: bool) -> None:
    last = len(lane.parts) - 1
    for index, part in enumerate(sorted(lane.parts, key=lambda p: p.prefix)):
        alone = Lane(lane.kind, part.label, "", lane.extent, (part,))
        branch = ("└ " if index == last else "├ ") if not plain else "- "
        _print_lane_range(out, alone, str(part.prefix), bar, plain, branch)


def _print_lane_range(
    out: Console, lane: Lane, extent: str, bar: int, plain: bool, branch: str
) -> None:
    line = Text(f"{_cut(branch + lane.title, 21):<22}{_cut(extent, 20):<21}")
    for state in cells(lane, bar):
        sign = _SIGNS[state]
        line.append((sign[1] if plain else sign[0]) if state else " ", style=sign[2])
    out.print(line, soft_wrap=True)


def _cut(text: str, width: int) -> str:
    return text if len(text) <= width else text[: width - 1] + "~"


def _percent(share: float) -> str:
    return "<1 %" if 0 < share < 0.01 else f"{share * 100:.0f} %"
