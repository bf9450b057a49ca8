"""`connect`: the cloud side built, the site side handed its packs, by drivers or by hand."""

from __future__ import annotations

import sys
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

import click

from obrin.cli.connect.status import print_status
from obrin.cli.shared.answers import need_known, person_for, print_todo, todo_of, together
from obrin.cli.shared.common import (
    Between,
    console,
    design_option,
    echo_json,
    project_of,
    tell_changed_by_hand,
    writes,
)
from obrin.cli.shared.deeds import Change, Deed, acting
from obrin.cli.shared.progress import ProgressLines
from obrin.core.errors import ObrinError

if TYPE_CHECKING:
    from obrin.live.connect.ended import Ended
    from obrin.live.connect.whole import Connected, Plan
    from obrin.live.drivers.by_hand.person import Person
    from obrin.live.drivers.protocol import Ends
    from obrin.live.project import Project


@click.command()
@design_option
@click.option(
    "--timeout",
    type=Between(1, 3600),
    default=60.0,
    show_default=True,
    help="Seconds to wait for the tunnels after everything is built.",
)
@click.option("--keep", is_flag=True, help="Leave what has ended, or was taken out, as it is.")
@click.option("--yes", is_flag=True, help="Do not ask before ending what has ended.")
@click.option("--by-hand", is_flag=True, help="All places that DESIGN.places.yaml does not name.")
@click.option(
    "--answers",
    type=click.Path(),
    help="A YAML file instead of a terminal: 'yes' or 'later' by step, or for 'all'; and values "
    "that the cloud assigned, by place.",
)
@click.option(
    "--as",
    "who",
    help="Only the steps by hand of this person ('by' in the file of places); those of others, at "
    "terminals of their own, are waited for.",
)
@click.option("--again", multiple=True, metavar="STEP", help="Ask again for a step done by hand.")
@click.option("--todo", is_flag=True, help="Print what is open by hand, for whom; do nothing.")
@acting
@click.pass_context
@writes("dry_run", "todo", waits="who")
def connect(
    ctx: click.Context,
    design_file: str | None,
    timeout: float,
    keep: bool,
    yes: bool,
    by_hand: bool,
    answers: str | None,
    who: str | None,
    again: tuple[str, ...],
    todo: bool,
    dry_run: bool,
    as_json: bool,
) -> None:
    """Build the cloud side, hand the site side its packs, and wait until every tunnel is up.

    Safe to run again: nothing is made twice, and a run that was interrupted is taken up. Gateways
    get the packs that lie in packs/; where one was changed by hand, it is said how. What Obrin
    built and the design has no more is ended: said first, and asked at a terminal.

    A place can be done by hand: DESIGN.places.yaml says 'driver: by-hand', or '--by-hand' all. Each
    step then shows what to enter and waits for the word; what only the cloud knows is asked for,
    judged, and taken into the packs that need it. Stop at any step and go on later.

    Exit code 1 while something that has ended still stands, 3 while a tunnel is not as wished, or a
    step was left for later.

    \b
    Example:
      obrin connect --design skerrow-ferries
    """
    from obrin.live.connect.ended import Ended
    from obrin.live.connect.whole import plan_connect
    from obrin.live.drivers.registry import open_ends
    from obrin.live.reshape.change_file import read_record

    project = project_of(design_file)
    _, settled = project.settled()
    tell_changed_by_hand(project)
    if dry_run or todo:
        with open_ends(project, settled, person_for(answers), by_hand=by_hand) as ends:
            plan = plan_connect(project, settled, ends, write_packs=False)
            _show_plan(ends, plan, todo=todo, keep=keep, as_json=as_json)
        return
    _forget(project, again)
    if (record := read_record(project)) is not None:
        click.echo(
            f"note: a change is under way, {record.words}. What is left of it is done at once.",
            err=True,
        )
    plan, result, keep = together(
        project,
        person_for(answers, who),
        lambda person: _connect(project, person, timeout, by_hand=by_hand, keep=keep, yes=yes),
    )
    left = plan.ended if keep else Ended(others=plan.ended.others)
    if not left and all(t.nothing_against for t in result.status):
        from obrin.live.reshape.built import keep_built

        keep_built(project)
        project.keys.all_entered()
    if as_json:
        deed = Deed(changes=[Change(name, did) for name, did in result.done.items()])
        tunnels = [tunnel.as_json() for tunnel in result.status]
        more = {
            "unchanged": result.unchanged,
            "tunnels": tunnels,
            "assigned": result.learned.values,
        }
        echo_json(deed.as_json(done=True) | more)
    else:
        _tell_result(plan, result, left)
    ctx.exit(3 if not all(t.nothing_against for t in result.status) else 1 if left else 0)


def _show_plan(ends: Ends, plan: Plan, *, todo: bool, keep: bool, as_json: bool) -> None:
    """What is open by hand, or all that would be done."""
    if todo:
        print_todo(todo_of(ends, plan), as_json=as_json)
        return
    _tell_plan(plan, keep=keep)
    Deed(changes=list(_changes(plan, keep=keep))).tell(dry_run=True, as_json=as_json)


def _connect(
    project: Project, person: Person, timeout: float, *, by_hand: bool, keep: bool, yes: bool
) -> tuple[Plan, Connected, bool]:
    """One run; and whether what has ended was kept."""
    from obrin.live.connect.whole import connect_whole, plan_connect
    from obrin.live.drivers.registry import open_ends

    settled = project.settled()[1]
    with open_ends(project, settled, person, by_hand=by_hand) as ends:
        need_known(person, ends, settled)
        plan = plan_connect(project, settled, ends)
        _tell_plan(plan, keep=keep)
        if plan.ended and not keep and sys.stdin.isatty() and not yes:
            keep = not click.confirm("End it now?", default=True, err=True)
        result = connect_whole(project, settled, ends, ProgressLines(), timeout, plan, keep=keep)
    return plan, result, keep


def _tell_result(plan: Plan, result: Connected, left: Ended) -> None:
    """What was done, and what both ends say now."""
    from obrin.live.connect.learning import learned_lines

    if plan.taken_up:
        click.echo(f"Taken up from an interrupted run: {', '.join(plan.taken_up)}.")
    click.echo(f"{len(result.done)} steps done, {result.unchanged} were already so.")
    for line in learned_lines(result.learned):
        click.echo(f"{line}.")
    print_status(console(), result.status, left)


def _forget(project: Project, names: Sequence[str]) -> None:
    """Steps that were done by hand and are asked for once more."""
    from obrin.live.drivers.by_hand.done_file import HandRecord, record_of

    record = HandRecord(record_of(project)) if names else None
    for name in names:
        if record is None or record.done(name) is None:
            raise ObrinError(
                f"no step '{name}' was done by hand. 'obrin connect --todo' names them"
            )
        record.forget(name)


def _tell_plan(plan: Plan, *, keep: bool) -> None:
    """Show on stderr what the owner should know before it is done."""
    for text in plan.notes:
        click.echo(f"note: {text}.", err=True)
    for link, seconds in plan.interrupted.items():
        click.echo(
            f"warning: all tunnels of {link} change at once, so its traffic stops for about "
            f"{seconds:.0f} s. 'obrin reshape' has an order that loses less.",
            err=True,
        )
    if plan.ended and not keep:
        click.echo(f"To be ended, since the design has it no more: {plan.ended.words()}.", err=True)


def _changes(plan: Plan, *, keep: bool) -> Iterator[Change]:
    """What would be done, as far as the ends show before it is."""
    from obrin.live.connect.execute import PACK

    for name in plan.missing:
        yield Change(name, "handed over" if name.startswith(PACK) else "built")
    for name in plan.differing:
        yield Change(name, "changed")
    for left in () if keep else plan.ended.ours:
        yield Change(left.name, "ended and taken away")
    for name in () if keep else plan.ended.gateways:
        yield Change(f"what {name} was given", "taken away")
