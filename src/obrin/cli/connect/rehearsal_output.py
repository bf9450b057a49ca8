"""The result of a rehearsal: as a table, as JSON, as a page."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, Any

import click

from obrin.cli.shared.common import console, print_table

if TYPE_CHECKING:
    from rich.console import Console

    from obrin.live.rehearse.scenes import Asked, Gone, Scene, Share

_STYLES = {"as predicted": "green", "OTHERWISE": "bold red"}
_HEAD = ("What", "Gone", "Predicted", "Measured", "Whole after", "Verdict")


def print_rehearsal(asked: Sequence[Asked], played: Sequence[Scene], seconds: float) -> None:
    out = console()
    unmet = [one for one in asked if not one.met]
    rows = [(one.flow, _MUST[one.must], _SEEN[one.answered]) for one in unmet]
    print_table(out, ("Not as wished", "Must", "Seen"), rows)
    print_played(out, played)
    for scene in played:
        for words in (*_wrong(scene), *(f"status says: {text}" for text in scene.noted)):
            click.echo(f"{scene.what}: {words}")
    click.echo(_summary(asked, played, seconds))


def _summary(asked: Sequence[Asked], played: Sequence[Scene], seconds: float) -> str:
    met = f"{sum(one.met for one in asked)} of {len(asked)} expectations are as wished"
    tail = f"{sum(s.good for s in played)} of {len(played)} parts went as predicted"
    passed = f"{seconds / 60:.0f} minutes passed in the practice world"
    return f"{met}; {tail}; {passed}."


def print_played(out: Console, played: Sequence[Scene]) -> None:
    """What was predicted and what was measured, part by part."""
    found = [row for scene in played for row in _rows(scene)]
    print_table(out, _HEAD, found, styles=_STYLES, names=0)


_MUST = {"work": "work", "not": "not work"}
_SEEN = {True: "answered", False: "no answer"}


def _rows(scene: Scene) -> Iterator[tuple[str, ...]]:
    """Flows of which the same was predicted, and came so or not, together."""
    whole = "never" if scene.mended is None else f"{scene.mended:.0f} s"
    groups: dict[tuple[str, bool], list[Gone]] = {}
    for flow in scene.gone:
        groups.setdefault((_window(flow), flow.met), []).append(flow)
    if scene.answered:
        share = f"{len(scene.answered)} flow{'s' if len(scene.answered) > 1 else ''}"
        yield scene.what, share, "", _shares(scene.answered), whole, _verdict(scene.good)
    elif not groups:
        yield scene.what, "no flow", "no gap", "no gap", whole, _verdict(scene.good)
    for number, ((window, met), flows) in enumerate(groups.items()):
        verdict = _verdict(met and (number > 0 or not (scene.apart or scene.mended is None)))
        gone = f"{len(flows)} flow{'s' if len(flows) > 1 else ''}"
        name = scene.what if number == 0 else ""
        yield name, gone, window, _gaps(flows), whole if number == 0 else "", verdict


def _shares(found: Sequence[Share]) -> str:
    shares = sorted(100 * share.answered / share.asked for share in found)
    least, most = f"{shares[0]:.0f}", f"{shares[-1]:.0f}"
    return f"{least if least == most else f'{least} to {most}'} % answered"


def _verdict(good: bool) -> str:
    return "as predicted" if good else "OTHERWISE"


def _window(flow: Gone) -> str:
    if flow.longest is None:
        return "until mended"
    if flow.longest == 0.0:
        return "no gap"
    return f"{flow.shortest:.1f} to {flow.longest:.1f} s"


def _gaps(flows: Sequence[Gone]) -> str:
    measured = [flow.measured for flow in flows]
    known = sorted(gap for gap in measured if gap is not None)
    if not known:
        return "until mended"
    text = f"{known[-1]:.1f} s" if known[0] == known[-1] else f"{known[0]:.1f} to {known[-1]:.1f} s"
    return text if len(known) == len(measured) else f"{text}, or until mended"


def _wrong(scene: Scene) -> Iterator[str]:
    """What was not as predicted, flow by flow and table by table."""
    for flow in scene.gone:
        if not flow.met:
            yield f"{flow.flow} was gone {_gaps([flow])}, predicted {_window(flow)}"
    yield from scene.apart
    if scene.mended is None:
        yield "it did not come back as it was"


def _asked_json(one: Asked) -> dict[str, Any]:
    return {"flow": one.flow, "must": one.must, "answered": one.answered, "met": one.met}


def rehearsal_json(
    asked: Sequence[Asked], played: Sequence[Scene], seconds: float
) -> dict[str, Any]:
    """What `rehearse --json` prints."""
    return {
        "good": all_good(asked, played),
        "seconds": round(seconds, 3),
        "expectations": [_asked_json(one) for one in asked],
        "scenes": [_scene_json(scene) for scene in played],
    }


def all_good(asked: Sequence[Asked], played: Sequence[Scene]) -> bool:
    return all(scene.good for scene in played) and all(one.met for one in asked)


def rehearsal_page(
    name: str, asked: Sequence[Asked], played: Sequence[Scene], seconds: float
) -> str:
    """Markdown: what was asked and what was seen, then part by part."""
    lines = [f"# Rehearsal of {name}", "", _summary(asked, played, seconds), ""]
    flows = [
        (one.flow, _MUST[one.must], _SEEN[one.answered], "yes" if one.met else "NO")
        for one in asked
    ]
    lines += _table(("Flow", "Must", "Seen", "As wished"), flows)
    lines += _table(_HEAD, [row for scene in played for row in _rows(scene)])
    moved = [
        (scene.what, flow.flow, flow.before, flow.after, flow.noticed_by)
        for scene in played
        for flow in scene.gone
        if flow.after
    ]
    lines += _table(("Part", "Flow", "Went by", "Then by", "Noticed by"), moved) if moved else []
    for scene in played:
        lines += [f"- {scene.what}: {words}" for words in _wrong(scene)]
        lines += [f"- {scene.what}: status says: {words}" for words in scene.noted]
    return "\n".join(lines) + "\n"


def _table(head: Sequence[str], rows: Sequence[Sequence[str]]) -> Iterator[str]:
    for row in (head, ["---"] * len(head), *rows):
        yield "| " + " | ".join(cell.replace("|", "\\|") for cell in row) + " |"
    yield ""


def _scene_json(scene: Scene) -> dict[str, Any]:
    return {
        "what": scene.what,
        "good": scene.good,
        "gone": [
            {
                "flow": flow.flow,
                "shortest": flow.shortest,
                "longest": flow.longest,
                "measured": None if flow.measured is None else round(flow.measured, 3),
                "noticed_by": flow.noticed_by,
                "before": flow.before,
                "after": flow.after,
                "met": flow.met,
            }
            for flow in scene.gone
        ],
        "answered": [share._asdict() for share in scene.answered],
        "noted": list(scene.noted),
        "apart": list(scene.apart),
        "mended": None if scene.mended is None else round(scene.mended, 3),
    }
