"""`reshape`: from the design that is built to the one that is wanted, in a proven order."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING

import click

from obrin.cli.keep.plan_output import plan_json, tell_keys, tell_plan
from obrin.cli.shared.answers import at_terminal, person_for
from obrin.cli.shared.common import (
    Between,
    design_option,
    echo_json,
    json_option,
    other_project,
    project_of,
)
from obrin.core.errors import ObrinError

if TYPE_CHECKING:
    from collections.abc import Sequence

    from obrin.core.change.outlook import Outlooks
    from obrin.core.change.plan import Plan
    from obrin.core.change.schedule import Schedule
    from obrin.core.change.states import Done, Step
    from obrin.core.check.finding import Finding
    from obrin.core.handover.secrets import Secrets
    from obrin.core.settled.model import Settled
    from obrin.live.drivers.by_hand.person import Person
    from obrin.live.drivers.protocol import Ends
    from obrin.live.project import Project
    from obrin.live.reshape.change_file import Record
    from obrin.live.reshape.seeing import Sight

MOST_NAMED = 3


@click.command()
@click.option("--from", "source", type=click.Path(), help="What is built, by its design file.")
@click.option("--from-revision", "revision", help="What is built, as version control (git) has it.")
@click.option("--to", "target", type=click.Path(), help="Write a runbook for each owner, here.")
@click.option(
    "--figure", type=click.Path(dir_okay=False), help="Draw flows against steps (PNG, SVG)."
)
@click.option(
    "--step-time",
    default="10 min",
    show_default=True,
    help="What a step takes, from one report to the next: so long is lost what is lost meanwhile.",
)
@click.option("--start", help="When it may begin, such as 2026-12-05T22:00.  [default: now]")
@click.option("--any-time", is_flag=True, help="With --go: outside the windows of places, too.")
@click.option("--go", is_flag=True, help="Carry it out, or go on with it, checking every step.")
@click.option(
    "--unseen",
    is_flag=True,
    help="With --go and --back: go on, too, where it cannot be seen whether a step has its effect.",
)
@click.option(
    "--timeout",
    type=Between(1, 3600),
    default=30.0,
    show_default=True,
    help="With --go and --back: seconds that a state has to become what it is said to be.",
)
@click.option("--by-hand", is_flag=True, help="A person does what the file of places leaves out.")
@click.option(
    "--answers",
    type=click.Path(),
    help="A YAML file instead of a terminal, for steps by hand: 'yes' or 'later' by step, or for "
    "'all'.",
)
@click.option(
    "--drift", is_flag=True, help="Instead: what somebody changed by hand there; --go undoes it."
)
@click.option("--take", is_flag=True, help="With --drift: into the design, where a key says so.")
@click.option("--back", is_flag=True, help="Undo the steps that are done, the last first.")
@design_option
@json_option
@click.pass_context
def reshape(
    ctx: click.Context,
    source: str | None,
    revision: str | None,
    target: str | None,
    figure: str | None,
    step_time: str,
    start: str | None,
    any_time: bool,
    go: bool,
    unseen: bool,
    timeout: float,
    by_hand: bool,
    answers: str | None,
    drift: bool,
    take: bool,
    back: bool,
    design_file: str | None,
    as_json: bool,
) -> None:
    """Change what is built into the design as it is now, step by step.

    What is built is what the last 'connect' ended with, or what --from or --from-revision names.
    Every state between is looked at like a design: after each step it is said what works, what goes
    over to another tunnel, and what is lost until which step. Both old and new stand wherever they
    can at once.

    Without --go nothing is done. With it, each step is done at the ends, by drivers or by whoever
    is asked for it, and checked from both sides; it stops at the first that is not as said, or
    whose effect cannot be seen. It goes on when it is run again, and --back goes back. Where a
    person at this terminal does the step, their word is enough.

    Exit code 1 where the plan loses something that must work, 3 where a step failed.

    \b
    Examples:
      obrin reshape --design skerrow-ferries
      obrin reshape --from-revision HEAD~1 --to runbooks --design skerrow-ferries
      obrin reshape --drift --go --design skerrow-ferries
    """
    from obrin.core.change.groups import Groups
    from obrin.core.change.plan import make_plan
    from obrin.core.change.schedule import schedule
    from obrin.core.check.whole import check
    from obrin.core.design.values import parse_duration
    from obrin.live.reshape.change_file import read_record, under_way

    if sum(map(bool, (go, back))) > 1:
        raise click.UsageError("--go goes on, and --back goes back: give one of them")
    if source and revision:
        raise click.UsageError("give --from or --from-revision")
    try:
        each = timedelta(seconds=parse_duration(step_time))
    except ValueError as error:
        raise click.UsageError(f"--step-time: {error}") from None
    begins = _moment(start)
    project = project_of(design_file)
    if drift:
        from obrin.cli.keep.reshape_drift import drift as find_drift

        if source or revision or target or figure or by_hand or answers or back or (go and take):
            raise click.UsageError("--drift goes with --go or --take, and --json, alone")
        ctx.exit(find_drift(project, go=go, take=take, timeout=timeout, as_json=as_json))
    if take:
        raise click.UsageError("--take goes with --drift")
    document, after = project.settled()
    before = _before(project, source, revision)
    offering = project.offering(document.design)
    record = read_record(project)
    if not back:
        _tell_errors(check(after, offering, now=begins))
    plan = make_plan(before, after, offering, begins, record.order if record else (), each)
    looks = Groups(before, after, offering).looks
    if go or back:
        record = under_way(record, looks.between, plan.order)
        person, step = person_for(answers), None if any_time else each
        _carry(
            project,
            looks,
            plan.order,
            record,
            timeout,
            person,
            step,
            by_hand=by_hand,
            back=back,
            unseen=unseen,
            as_json=as_json,
        )
        return
    record = _of_this(record, looks, plan)
    times = schedule(plan, begins, each, len(record.done) if record else 0)
    # Nobody is asked for a passphrase by a plan.
    keys = [] if project.keys.file.sealed else _not_entered(project, after)
    if figure is not None and plan.steps:
        _draw(plan, Path(figure))
    if target is not None and plan.steps:
        _write(plan, times, Path(target))
    if as_json:
        echo_json(plan_json(plan, times) | {"keys": keys})
    else:
        tell_plan(plan, record, times)
        tell_keys(keys)
    ctx.exit(1 if plan.loses(times.done) else 0)


def _tell_errors(findings: Sequence[Finding]) -> None:
    """What is wrong with the wanted design is said before the first step."""
    from obrin.core.check.finding import Severity

    errors = [finding for finding in findings if finding.counts(Severity.ERROR)]
    if errors:
        codes = ", ".join(dict.fromkeys(finding.code for finding in errors))
        click.echo(
            f"note: 'obrin check' finds errors in this design ({codes}). Mend them before anybody "
            "changes anything.",
            err=True,
        )


def _before(project: Project, source: str | None, revision: str | None) -> Settled:
    from obrin.live.reshape.built import built, of_revision

    if source is not None:
        return other_project(source).settled()[1]
    if revision is not None:
        return of_revision(project, revision)
    return built(project, ", or name what is built with --from FILE or --from-revision REVISION")


def _moment(text: str | None) -> datetime:
    """Read a time, in UTC where no zone is given. Raises UsageError."""
    if text is None:
        return datetime.now(UTC)
    try:
        found = datetime.fromisoformat(text)
    except ValueError:
        raise click.UsageError(
            f"--start: '{text}' is not a day or time. Write for example 2026-12-05T22:00"
        ) from None
    return found if found.tzinfo is not None else found.replace(tzinfo=UTC)


def _not_entered(project: Project, settled: Settled) -> list[str]:
    """Labels of keys that were made anew, and that the ends do not have yet."""
    entered = project.keys.entered()
    return [secret.label for secret in settled.shared_secrets() if secret.label in entered]


def _of_this(record: Record | None, looks: Outlooks, plan: Plan) -> Record | None:
    """Return None where no change is under way, or another one: that is reported."""
    from obrin.live.reshape.change_file import under_way

    try:
        return record and under_way(record, looks.between, plan.order)
    except ObrinError as error:
        click.echo(f"note: {error}.", err=True)
        return None


def _carry(
    project: Project,
    looks: Outlooks,
    order: Sequence[Step],
    record: Record,
    timeout: float,
    person: Person,
    step: timedelta | None,
    *,
    by_hand: bool,
    back: bool,
    unseen: bool,
    as_json: bool,
) -> None:
    from obrin.cli.shared.progress import ProgressLines
    from obrin.core.change.as_design import grounds
    from obrin.core.change.states import READY
    from obrin.live.drivers.registry import open_ends
    from obrin.live.reshape.change_file import forget
    from obrin.live.reshape.run import (
        Carrying,
        carry_on,
        go_back,
        need_assigned,
        need_everybody,
    )

    between = looks.between
    before, after = between.before, between.after
    if back and not (record.done or record.begun):
        raise ObrinError("no step is done: there is nothing to go back from")
    if not order:
        forget(project)
        if as_json:
            echo_json({"steps": [], "back": back, "keys": []})
        else:
            click.echo("Nothing changes.")
        return
    both = _secrets_of_both(project, before, after)
    standing = grounds(between, frozenset(s for s in order if s.kind == READY))
    opened = open_ends(project, standing, person, by_hand=by_hand)
    with project.lock("reshape"), opened as ends:
        need_assigned(between, ends)
        left = {*record.order} - {*record.done} if not back else {*record.done, record.begun}
        need_everybody((step for step in order if step.name in left), ends)
        _tell_silent(ends, looks, frozenset(s for s in order if s.name in record.done))
        carrying = Carrying(
            project, ends, both, ProgressLines(), timeout, step, unseen or at_terminal(person)
        )
        sights = (go_back if back else carry_on)(carrying, looks, record, order)
    keys = _not_entered(project, before if back else after)
    if as_json:
        echo_json({"steps": [sight.as_json() for sight in sights], "back": back, "keys": keys})
        return
    click.echo(_summary(sights, back=back))
    tell_keys(keys)


def _secrets_of_both(project: Project, before: Settled, after: Settled) -> Secrets:
    """Keys and certificates of two designs, those of the second before those of the first. Raises
    ObrinError for what the second lacks."""
    from dataclasses import replace

    old, new = (project.secrets_in_force(settled) for settled in (before, after))
    both = replace(
        new,
        keys={**old.keys, **new.keys},
        certificates={**old.certificates, **new.certificates},
    )
    missing = both.missing(after)
    if missing:
        raise ObrinError(f"not there yet: {', '.join(missing)}. Run 'obrin settle'")
    return both


def _tell_silent(ends: Ends, looks: Outlooks, done: Done) -> None:
    """Name flows that nobody can be asked about, before the first step."""
    from obrin.core.naming import some
    from obrin.live.reshape.seeing import not_askable

    silent = not_askable(ends, looks, done)
    if silent:
        text = f"note: {some(silent, MOST_NAMED)}. Whether a step changes that is not seen."
        click.echo(text, err=True)


def _summary(sights: Sequence[Sight], *, back: bool) -> str:
    """How many steps are done, and after which of them not everything was seen."""
    half = [sight for sight in sights if sight.unseen]
    count, word = len(sights), "undone" if back else "done"
    if not half:
        return f"{count} steps {word}; what each of them changes was seen from both ends."
    listed = "; ".join(f"{s.step} ({'; '.join(s.unseen[:1])})" for s in half[:MOST_NAMED])
    more = "; ..." if len(half) > MOST_NAMED else ""
    return f"{count} steps {word}. After {len(half)} of them not all was seen: {listed}{more}."


def _write(plan: Plan, times: Schedule, folder: Path) -> None:
    from obrin.core.change.runbook import runbooks
    from obrin.live.files import folder_of_ours, write_whole

    folder_of_ours(folder)
    for name, text in runbooks(plan, times).items():
        write_whole(folder / name, text, 0o644)
        click.echo(f"{folder / name}: written", err=True)


def _draw(plan: Plan, path: Path) -> None:
    from obrin.cli.figures.reshape import plan_bytes
    from obrin.live.files import write_whole_bytes

    kind = path.suffix.lower().removeprefix(".")
    if kind not in ("png", "svg"):
        raise ObrinError(f"{path}: only .png and .svg are drawn. Name the file so")
    write_whole_bytes(path, plan_bytes(plan, kind))
    click.echo(f"{path}: written", err=True)
