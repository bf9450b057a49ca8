"""`rehearse`: a design tried with packets, failure by failure, beside what the model says."""

from __future__ import annotations

import sys
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

import click

from obrin.cli.shared.common import design_option, echo_json, json_option, project_of
from obrin.cli.shared.working import MOST_WORKERS, crew_of

if TYPE_CHECKING:
    from datetime import date

    from obrin.core.design.document import Document
    from obrin.core.drill.elements import Element
    from obrin.core.settled.model import Settled
    from obrin.live.practice.faults import Fault
    from obrin.live.project import Project
    from obrin.live.rehearse.scenes import Asked, Scene
    from obrin.live.rehearse.side_by_side import Planned


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
@click.option(
    "--fault",
    "troubles",
    multiple=True,
    metavar="'KIND WHERE VALUE'",
    help="This trouble, in the words of 'practice fault', and no failures; may be given again.",
)
@click.option("--for", "lasting", help="Then let time pass, such as '12 h', and lose no answer.")
@click.option("--figure", type=click.Path(), help="Draw predicted and measured, as .svg or .png.")
@click.option(
    "--to",
    "folder",
    type=click.Path(),
    help="Keep all of it in this folder: packets, states over time, logs, tables, figure.",
)
@click.option(
    "--workers",
    type=click.IntRange(1, MOST_WORKERS),
    help="So many worlds side by side, each in a process.  [default: as many as are worth it]",
)
@design_option
@json_option
@click.pass_context
def rehearse(
    ctx: click.Context,
    only: tuple[str, ...],
    sample: int | None,
    together: bool,
    depth: int,
    troubles: tuple[str, ...],
    lasting: str | None,
    figure: str | None,
    folder: str | None,
    workers: int | None,
    design_file: str | None,
    as_json: bool,
) -> None:
    """Try a design with packets: every flow, every single failure, every rekey, new keys, and the
    end of what is granted until a day.

    A practice world of its own is built from the packs, in virtual time and in this process: hours
    pass in seconds. Many failures are tried in several worlds side by side. For each stands how
    long each flow was gone beside what 'drill' says, whether every table was the model's, and when
    all was as before. Exit code 1 where packets and model differ, or an expectation is not met.

    \b
    Examples:
      obrin rehearse --design skerrow-ferries
      obrin rehearse --only tunnel:harbour-timetable/north --design skerrow-ferries
      obrin rehearse --fault 'loss hh-east/fibre 5%' --design skerrow-ferries
      obrin rehearse --to rehearsal --design skerrow-ferries
    """
    from obrin.cli.connect.rehearsal_output import all_good, print_rehearsal, rehearsal_json
    from obrin.cli.figures.file import figure_file
    from obrin.cli.figures.rehearsal import rehearsal_bytes
    from obrin.core.drill.assumed import assumptions
    from obrin.core.drill.elements import elements, parse_elements
    from obrin.core.drill.sweep import failures
    from obrin.live.files import write_whole_bytes

    if together and (not only or depth > 1):
        raise click.UsageError("'--together' goes with '--only', and not with '--depth'")
    drawing = None if figure is None else figure_file(figure)
    project = project_of(design_file)
    document, settled = project.settled()
    for text in assumptions(settled):
        click.echo(f"assumed: {text}.", err=True)
    named = parse_elements(settled, only)
    every = list(named) or ([] if troubles else elements(settled))
    whole = not (only or troubles or sample)
    asked_for = Programme(
        failures=_spread([named] if together else list(failures(every, depth)), sample),
        faults=_faults(settled, troubles),
        endings=list(_endings(project, document, settled)) if whole else [],
        seconds=0.0 if lasting is None else _seconds(lasting),
    )
    kept = None if folder is None else _new_folder(folder)
    asked, played, passed = _play(_planned(project, document, settled, kept), asked_for, workers)
    result = rehearsal_json(asked, played, passed)
    if as_json:
        echo_json(result)
    else:
        print_rehearsal(asked, played, passed)
    if drawing is not None:
        write_whole_bytes(drawing[0], rehearsal_bytes(settled.name, played, drawing[1]))
    if kept is not None:
        _keep(kept, settled.name, (asked, played, passed))
    ctx.exit(0 if all_good(asked, played) else 1)


@dataclass(frozen=True, slots=True)
class Programme:
    """What is rehearsed besides expectations, rekeys and new keys: failures, faults, the design
    after each day on which something granted ends, and quiet `seconds` in the end."""

    failures: Sequence[Sequence[Element]]
    faults: Sequence[Fault]
    endings: Sequence[tuple[date, Settled]]
    seconds: float


Outcome = tuple[list["Asked"], list["Scene"], float]
"""What was asked, what was played, and how long that took in all worlds."""


def _play(planned: Planned, programme: Programme, workers: int | None) -> Outcome:
    """Failures are tried in the world that is there, or in several side by side."""
    from obrin.live.rehearse.play import ending
    from obrin.live.rehearse.side_by_side import fail_side_by_side, worlds_for

    failed = programme.failures
    rehearsal, worlds = planned.make(), workers or worlds_for(len(failed))
    progress = _Progress(len(failed) + len(programme.faults) + len(programme.endings) + 3)
    played = [progress.done(rehearsal.begin())]
    asked = rehearsal.ask_all()
    here = worlds == 1
    if here:
        played += map(progress.done, map(rehearsal.fail, failed))
    else:
        with crew_of(worlds) as crew:
            played += map(progress.done, fail_side_by_side(crew, planned, failed))
    elsewhere = 0.0 if here else sum(scene.took for scene in played)
    played += [progress.done(rehearsal.suffer(fault)) for fault in programme.faults]
    played += [progress.done(rehearsal.end_access(*ended)) for ended in programme.endings]
    played += map(progress.done, ending(rehearsal, programme.seconds))
    progress.end()
    return asked, played, rehearsal.now + elsewhere


def _faults(settled: Settled, texts: Sequence[str]) -> list[Fault]:
    from obrin.live.practice.faults import judge_fault, parse_fault

    found = [parse_fault(text) for text in texts]
    for fault in found:
        judge_fault(settled, fault)
    return found


def _endings(
    project: Project, document: Document, settled: Settled
) -> Iterator[tuple[date, Settled]]:
    """Each day on which something that is granted ends, and the design after it."""
    from datetime import timedelta

    from obrin.core.settled.building import build_settled

    choices = project.read_choices(document.design)
    for day in sorted({g.until for g in settled.granted if g.until >= project.today}):
        yield day, build_settled(document.design, choices, day + timedelta(days=1))


def _new_folder(name: str) -> Path:
    """One that is not there yet, or empty. Raises ObrinError."""
    from obrin.core.errors import ObrinError

    path = Path(name)
    try:
        if path.exists() and (not path.is_dir() or any(path.iterdir())):
            raise ObrinError(f"{path} is there already. Name a new folder, or an empty one")
        path.mkdir(parents=True, exist_ok=True)
        if path.is_symlink():
            raise ObrinError(f"{path} is a symbolic link. Name the folder that it leads to")
    except OSError as error:
        raise ObrinError(f"{path} cannot be made: {error.strerror}. Name another folder") from None
    return path


def _keep(folder: Path, name: str, outcome: Outcome) -> None:
    """Tables and figure, beside what was recorded."""
    import json

    from obrin.cli.connect.rehearsal_output import rehearsal_json, rehearsal_page
    from obrin.cli.figures.rehearsal import rehearsal_bytes
    from obrin.live.files import write_whole, write_whole_bytes

    text = json.dumps(rehearsal_json(*outcome), indent=2) + "\n"
    write_whole(folder / "rehearsal.json", text, 0o644)
    write_whole(folder / "rehearsal.md", rehearsal_page(name, *outcome), 0o644)
    write_whole_bytes(folder / "rehearsal.svg", rehearsal_bytes(name, outcome[1], "svg"))


def _planned(project: Project, document: Document, settled: Settled, kept: Path | None) -> Planned:
    """Worlds from the packs as 'handover' would write them now; what that would report goes to
    stderr."""
    from datetime import UTC, datetime

    from obrin.live.packs import handed_over
    from obrin.live.rehearse.side_by_side import Planned

    handed = handed_over(project, settled, write=False)
    for note in handed.notes:
        click.echo(f"note: {note}", err=True)
    return Planned(
        settled=settled,
        secrets=project.secrets(settled),
        packs=handed.packs,
        start=datetime.now(UTC),
        offering=project.offering(document.design),
        kept=kept,
    )


def _seconds(text: str) -> float:
    from obrin.core.design.values import parse_duration

    try:
        return parse_duration(text)
    except ValueError as error:
        raise click.UsageError(f"--for: {error}") from None


def _spread(
    failures: Sequence[tuple[Element, ...]], count: int | None
) -> Sequence[tuple[Element, ...]]:
    """Take so many of them, evenly; all where no number is given."""
    if count is None or count >= len(failures):
        return failures
    return [failures[number * len(failures) // count] for number in range(count)]


class _Progress:
    """One line on stderr that is written over; nothing where stderr is not a terminal."""

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
