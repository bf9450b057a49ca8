"""`rehearse`: a design tried with packets, failure by failure, beside what the model says."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator, Sequence
from typing import TYPE_CHECKING, Any

import click

from obrin.cli.common import console, design_option, echo_json, json_option, print_table, project_of

if TYPE_CHECKING:
    from rich.console import Console

    from obrin.core.design.document import Document
    from obrin.core.drill.elements import Element
    from obrin.core.settled.model import Settled
    from obrin.live.project import Project
    from obrin.live.rehearse.play import Asked, Gone, Rehearsal, Scene

_STYLES = {"as predicted": "green", "OTHERWISE": "bold red"}


@click.command()
@click.option(
    "--only", multiple=True, metavar="KIND:NAME", help="Only this failure; may be given again."
)
@click.option("--sample", type=click.IntRange(min=1), help="Only so many failures, evenly spread.")
@click.option(
    "--together", is_flag=True, help="What '--only' names fails together, not one by one."
)
@click.option(
    "--depth",
    type=click.IntRange(1, 3),
    default=1,
    show_default=True,
    help="So many at once, in all combinations.",
)
@click.option("--for", "lasting", help="Then let time pass, such as '12 h', and lose no answer.")
@click.option("--figure", type=click.Path(), help="Draw predicted and measured, as .svg or .png.")
@design_option
@json_option
@click.pass_context
def rehearse(
    ctx: click.Context,
    only: tuple[str, ...],
    sample: int | None,
    together: bool,
    depth: int,
    lasting: str | None,
    figure: str | None,
    design_file: str | None,
    as_json: bool,
) -> None:
    """Try a design with packets: every flow, every single failure, every rekey, new keys.

    A practice world of its own is built from the packs, in virtual time and in this process: hours
    pass in seconds. Many failures are tried in several worlds side by side. For each stands how
    long each flow was gone beside what 'drill' says, whether every table was the model's, and when
    all was as before. Exit code 1 where packets and model differ, or an expectation is not met.

    \b
    Examples:
      obrin rehearse --design skerrow-ferries
      obrin rehearse --only tunnel:harbour-timetable/north --design skerrow-ferries
      obrin rehearse --figure rehearsal.svg --design skerrow-ferries
    """
    from obrin.cli.draw import figure_file
    from obrin.cli.rehearsal_figure import rehearsal_bytes
    from obrin.core.drill.elements import elements, parse_elements
    from obrin.core.drill.sweep import failures
    from obrin.live.files import write_whole_bytes

    if together and (not only or depth > 1):
        raise click.UsageError("'--together' goes with '--only', and not with '--depth'")
    seconds = 0.0 if lasting is None else _seconds(lasting)
    drawing = None if figure is None else figure_file(figure)
    project = project_of(design_file)
    document, settled = project.settled()
    named = parse_elements(settled, only)
    every = list(named) or elements(settled)
    failed = _spread([named] if together else list(failures(every, depth)), sample)
    asked, played, passed = _play(_maker(project, document, settled), failed, seconds)
    good = all(scene.good for scene in played) and all(one.met for one in asked)
    if as_json:
        parts = {
            "expectations": [_asked_json(one) for one in asked],
            "scenes": [_scene_json(scene) for scene in played],
        }
        echo_json({"good": good, "seconds": round(passed, 3), **parts})
    else:
        _print(asked, played, passed)
    if drawing is not None:
        write_whole_bytes(drawing[0], rehearsal_bytes(settled.name, played, drawing[1]))
    ctx.exit(0 if good else 1)


def _play(
    make: Callable[[], Rehearsal], failed: Sequence[Sequence[Element]], seconds: float
) -> tuple[list[Asked], list[Scene], float]:
    """What was asked, what was played, and how long that took in all worlds. Failures are tried in
    the world that is there, or in several side by side."""
    from obrin.live.rehearse.play import ending
    from obrin.live.rehearse.side_by_side import fail_side_by_side, worlds_for

    rehearsal, told, worlds = make(), _Progress(len(failed) + 3), worlds_for(len(failed))
    played = [told.done(rehearsal.begin())]
    asked = rehearsal.ask_all()
    here = worlds == 1
    tried = map(rehearsal.fail, failed) if here else fail_side_by_side(make, failed, worlds)
    played += map(told.done, tried)
    elsewhere = 0.0 if here else sum(scene.took for scene in played)
    played += map(told.done, ending(rehearsal, seconds))
    told.end()
    return asked, played, rehearsal.now + elsewhere


def _maker(project: Project, document: Document, settled: Settled) -> Callable[[], Rehearsal]:
    """Makes worlds from the packs as 'handover' would write them now; what that would tell goes to
    stderr."""
    from datetime import UTC, datetime

    from obrin.live.packs import handed_over
    from obrin.live.rehearse.in_virtual_time import VirtualStage
    from obrin.live.rehearse.play import Rehearsal
    from obrin.live.rehearse.virtual import VirtualWorld

    handed = handed_over(project, settled, write=False)
    for note in handed.told:
        click.echo(f"note: {note}", err=True)
    secrets, offering = project.secrets(settled), project.offering(document.design)

    def make() -> Rehearsal:
        now = datetime.now(UTC)
        packs = handed.packs
        world = VirtualWorld(settled, secrets, packs=packs, start=now, offering=offering)
        return Rehearsal(VirtualStage(world))

    return make


def _seconds(text: str) -> float:
    from obrin.core.design.values import parse_duration

    try:
        return parse_duration(text)
    except ValueError as error:
        raise click.UsageError(f"--for: {error}") from None


def _spread(
    failures: Sequence[tuple[Element, ...]], count: int | None
) -> Sequence[tuple[Element, ...]]:
    """So many of them, evenly; all where no number is given."""
    if count is None or count >= len(failures):
        return failures
    return [failures[number * len(failures) // count] for number in range(count)]


class _Progress:
    """On stderr, one line that is written over; nothing where nobody watches."""

    def __init__(self, count: int) -> None:
        self._count, self._number = count, 0
        self._shown = sys.stderr.isatty()

    def done(self, scene: Scene) -> Scene:
        self._number += 1
        if self._shown:
            text = f"\r\033[K{self._number} of {self._count}: {scene.what}"
            click.echo(text, nl=False, err=True)
        return scene

    def end(self) -> None:
        if self._shown:
            click.echo("\r\033[K", nl=False, err=True)


def _print(asked: Sequence[Asked], played: Sequence[Scene], seconds: float) -> None:
    out = console()
    unmet = [one for one in asked if not one.met]
    rows = [(one.flow, _MUST[one.must], _SEEN[one.answered]) for one in unmet]
    print_table(out, ("Not as wished", "Must", "Seen"), rows)
    print_played(out, played)
    for scene in played:
        for words in _wrong(scene):
            click.echo(f"{scene.what}: {words}")
    met = f"{len(asked) - len(unmet)} of {len(asked)} expectations are as wished"
    tail = f"{sum(s.good for s in played)} of {len(played)} parts went as predicted"
    passed = f"{seconds / 60:.0f} minutes passed in the practice world"
    click.echo(f"{met}; {tail}; {passed}.")


def print_played(out: Console, played: Sequence[Scene]) -> None:
    """What was predicted and what was measured, part by part."""
    head = ("What", "Gone", "Predicted", "Measured", "Whole after", "Verdict")
    found = [row for scene in played for row in _rows(scene)]
    print_table(out, head, found, styles=_STYLES, names=0)


_MUST = {"work": "work", "not": "not work"}
_SEEN = {True: "answered", False: "no answer"}


def _rows(scene: Scene) -> Iterator[tuple[str, ...]]:
    """Flows of which the same was predicted, and came so or not, together."""
    whole = "never" if scene.mended is None else f"{scene.mended:.0f} s"
    groups: dict[tuple[str, bool], list[Gone]] = {}
    for flow in scene.gone:
        groups.setdefault((_window(flow), flow.met), []).append(flow)
    if not groups:
        yield scene.what, "no flow", "no gap", "no gap", whole, _verdict(scene.good)
    for number, ((window, met), flows) in enumerate(groups.items()):
        verdict = _verdict(met and (number > 0 or not (scene.apart or scene.mended is None)))
        gone = f"{len(flows)} flow{'s' if len(flows) > 1 else ''}"
        name = scene.what if number == 0 else ""
        yield name, gone, window, _gaps(flows), whole if number == 0 else "", verdict


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
        "apart": list(scene.apart),
        "mended": None if scene.mended is None else round(scene.mended, 3),
    }
