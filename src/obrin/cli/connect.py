"""`connect`, `status` and `probe`."""

from __future__ import annotations

import functools
import sys
import time
from collections.abc import Callable, Iterator, Sequence
from typing import TYPE_CHECKING

import click

from obrin.cli.by_hand import need_known, person_for, print_todo, todo_of, together
from obrin.cli.common import (
    STYLES,
    console,
    design_option,
    echo_json,
    json_option,
    print_table,
    project_of,
    say,
    tell,
    tell_changed_by_hand,
    writes,
)
from obrin.cli.deeds import Change, Deed, acting
from obrin.cli.redacting import redactable
from obrin.core.errors import ObrinError

if TYPE_CHECKING:
    from rich.console import Console

    from obrin.live.connect.ended import Ended
    from obrin.live.connect.whole import Connected, Plan
    from obrin.live.drivers.by_hand.person import Person
    from obrin.live.drivers.protocol import Ends, Progress
    from obrin.live.drivers.seen import EndStatus
    from obrin.live.observe.status import TunnelStatus
    from obrin.live.project import Project


MOST_NAMED = 5


@click.command()
@design_option
@click.option(
    "--timeout",
    type=click.FloatRange(1, 3600),
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
    help="A YAML file instead of a terminal: 'yes' or 'later' by step, or for 'all'; and what the "
    "cloud told, by its place.",
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
@writes("dry_run", "todo")
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

    project = project_of(design_file)
    _, settled = project.settled()
    tell_changed_by_hand(project)
    if dry_run or todo:
        with open_ends(project, settled, person_for(answers), by_hand=by_hand) as ends:
            plan = plan_connect(project, settled, ends, write_packs=False)
            _show_plan(ends, plan, todo=todo, keep=keep, as_json=as_json)
        return
    _forget(project, again)
    plan, result, keep = together(
        project,
        person_for(answers, who),
        lambda person: _connect(project, person, timeout, by_hand=by_hand, keep=keep, yes=yes),
    )
    left = plan.ended if keep else Ended(others=plan.ended.others)
    if not left and all(t.right for t in result.status):
        from obrin.live.reshape.built import keep_built

        keep_built(project)
    if as_json:
        deed = Deed(changes=[Change(name, did) for name, did in result.done.items()])
        tunnels = [tunnel.as_json() for tunnel in result.status]
        more = {"unchanged": result.unchanged, "tunnels": tunnels, "told": result.learned.values}
        echo_json(deed.as_json(done=True) | more)
    else:
        _tell_result(plan, result, left)
    ctx.exit(3 if not all(t.right for t in result.status) else 1 if left else 0)


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
        need_known(person, ends)
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
    from obrin.live.drivers.by_hand.record import HandRecord, record_of

    record = HandRecord(record_of(project)) if names else None
    for name in names:
        if record is None or record.done(name) is None:
            raise ObrinError(
                f"no step '{name}' was done by hand. 'obrin connect --todo' names them"
            )
        record.forget(name)


def _tell_plan(plan: Plan, *, keep: bool) -> None:
    """On stderr, what its owner should know before it is done."""
    for text in plan.told:
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
    """What would be done, as far as the ends tell before it is."""
    from obrin.live.connect.execute import PACK

    for name in plan.missing:
        yield Change(name, "handed over" if name.startswith(PACK) else "built")
    for name in plan.differing:
        yield Change(name, "changed")
    for left in () if keep else plan.ended.ours:
        yield Change(left.name, "ended and taken away")
    for name in () if keep else plan.ended.gateways:
        yield Change(f"what {name} was given", "taken away")


class ProgressLines:
    """Lines on stderr: what is done, and what is awaited, told at once and then now and then."""

    TELL_AGAIN = 5.0

    def __init__(self) -> None:
        self._told: dict[str, float] = {}

    def __call__(self, progress: Progress) -> None:
        now = time.monotonic()
        if progress.state == "done":
            click.echo(f"  done     {progress.step}: {progress.note}", err=True)
        elif progress.state == "waiting" and progress.left > 0.5:
            if now - self._told.get(progress.step, float("-inf")) < self.TELL_AGAIN:
                return
            self._told[progress.step] = now
            note = progress.note
            if note.endswith("%"):
                note += f", about {progress.left:.0f} s left"
            click.echo(f"  waiting  {progress.step}: {note}", err=True)


@click.command()
@click.option("--watch", "watched", is_flag=True, help="Go on asking, and say what changes.")
@click.option(
    "--every",
    type=click.FloatRange(0.2, 3600),
    default=2.0,
    show_default=True,
    help="With '--watch': seconds between two rounds.",
)
@click.option("--for", "lasting", help="With '--watch': stop after that, such as '10 min'.")
@click.option("--metrics", is_flag=True, help="Instead: metrics in the OpenMetrics text format.")
@design_option
@json_option
@redactable
@click.pass_context
def status(
    ctx: click.Context,
    watched: bool,
    every: float,
    lasting: str | None,
    metrics: bool,
    design_file: str | None,
    as_json: bool,
) -> None:
    """Both ends of every tunnel side by side, and where they disagree. Exit code 1 if one is down.

    With '--watch' a line for each, again and again, and what changed since it was first asked; with
    '--json' as well, a line of JSON for each change. The changes are kept beside the journal.

    \b
    Examples:
      obrin status --design skerrow-ferries
      obrin status --watch --for '10 min' --json
    """
    if watched:
        ctx.exit(_watch(design_file, every, lasting, as_json=as_json))
    from datetime import UTC, datetime

    from obrin.live.connect.whole import drifted, ended_of
    from obrin.live.drivers.registry import open_ends
    from obrin.live.observe.status import clock_words, read_clocks, read_status, read_waiting

    project = project_of(design_file)
    _, settled = project.settled()
    with open_ends(project, settled) as ends:
        found = read_status(settled, ends)
        ended = ended_of(project, settled, ends)
        waiting = read_waiting(ends)
        clocks = read_clocks(ends, datetime.now(UTC))
        other = drifted(project, settled, ends)
    if metrics:
        from obrin.live.observe.metrics import metrics_text

        click.echo(metrics_text(found, clocks), nl=False)
        ctx.exit(0 if all(t.right for t in found) else 1)
    for gateway, wrong in clocks.items():
        tell(f"{clock_words(gateway, wrong)}.", err=True)
    for name in other:
        tell(f"{name} is not as the design has it: changed there by hand, or here.", err=True)
    for name, who in waiting.items():
        tell(f"{name} waits for {who}, who has to accept it.", err=True)
    if as_json:
        echo_json([tunnel.as_json() for tunnel in found])
        if ended:
            tell(f"still there: {ended.words()}", err=True)
    else:
        print_status(console(), found, ended)
    good = all(t.right for t in found) and not (ended or waiting or other)
    ctx.exit(0 if good else 1)


def _watch(design_file: str | None, every: float, lasting: str | None, *, as_json: bool) -> int:
    """The exit code: of what was seen last."""
    from contextlib import closing

    from obrin.cli.watch import watch
    from obrin.core.design.values import parse_duration
    from obrin.live.drivers.registry import open_ends
    from obrin.live.files import private_folder
    from obrin.live.observe.history import History
    from obrin.live.observe.status import read_status

    try:
        seconds = float("inf") if lasting is None else parse_duration(lasting)
    except ValueError as error:
        raise click.UsageError(f"--for: {error}") from None
    project = project_of(design_file)
    _, settled = project.settled()
    private_folder(project.own_folder)
    path = project.own_folder / f"history-{project.design_path.stem}.sqlite"
    with open_ends(project, settled) as ends, closing(History(path)) as history:
        ask = functools.partial(read_status, settled, ends)
        found = watch(ask, history, every, seconds, as_json=as_json)
    return 0 if all(tunnel.right for tunnel in found) else 1


def print_status(out: Console, tunnels: Sequence[TunnelStatus], ended: Ended) -> None:
    """What each end says of itself, side by side; the last line leads with what is wrong."""
    rows: list[tuple[str, ...]] = []
    for tunnel in tunnels:
        name = tunnel.tunnel
        for what, site, cloud in _pairs(tunnel.site, tunnel.cloud):
            rows.append((name, what, site, cloud))
            name = ""
    print_table(out, ("Tunnel", "", "Site says", "Cloud says"), rows, styles=STYLES)
    for tunnel in tunnels:
        for text in tunnel.disagreements:
            say(out, f"{tunnel.tunnel}: {text}", style="yellow")
        for text in tunnel.notes:
            say(out, f"{tunnel.tunnel}: {text}")
        for end in (tunnel.site, tunnel.cloud):
            for text in end.rejected:
                say(out, f"{tunnel.tunnel}: not accepted: {text}", style="yellow")
    if ended.others:
        say(out, f"The cloud also holds, beside this design: {', '.join(ended.others)}.")
    good = not ended and all(t.right for t in tunnels)
    say(out, summary(tunnels, ended), style="green" if good else "bold red")


def summary(tunnels: Sequence[TunnelStatus], ended: Ended) -> str:
    """One line: first what is wrong, then the rest."""
    from obrin.live.drivers.seen import NO_IKE

    parts, lines = [], any(NO_IKE in (t.site.ike, t.cloud.ike) for t in tunnels)
    kind = "tunnels and circuits" if lines else "tunnels"
    down = [t.tunnel for t in tunnels if not t.as_wished]
    if down:
        parts.append(
            f"{len(down)} of {len(tunnels)} {kind} DOWN: {', '.join(down[:MOST_NAMED])}"
            + (", ..." if len(down) > MOST_NAMED else "")
        )
    odd = [t.tunnel for t in tunnels if t.as_wished and t.disagreements]
    if odd:
        named = ", ".join(odd[:MOST_NAMED])
        parts.append(f"{len(odd)} of {len(tunnels)} {kind} NOT RIGHT, the ends disagree: {named}")
    if ended:
        parts.append(f"STILL THERE though it has ended: {ended.words()}")
    up, rest = sum(t.up for t in tunnels), sum(t.rests for t in tunnels)
    hand = sum(t.unknown for t in tunnels)
    spare = f", {rest} at rest as {'a spare' if rest == 1 else 'spares'}" if rest else ""
    counted = f"{up} of {len(tunnels)} {kind} up{spare}"
    if hand:
        parts.append(f"{hand} of {len(tunnels)} {kind} cannot be asked, by hand: look at both ends")
    if up or down or not hand:
        parts.append(counted if down or odd or hand else f"{counted}; both ends agree")
    return "; ".join(parts) + "."


def _pairs(site: EndStatus, cloud: EndStatus) -> Iterator[tuple[str, str, str]]:
    """Rows of both ends; of one that cannot be asked, why."""
    from obrin.live.drivers.seen import ANNOUNCED, NO_IKE, RECEIVED

    ends = site, cloud
    if site.problem or cloud.problem:
        yield "", site.problem or "answers", cloud.problem or "answers"
    if site.problem and cloud.problem:
        return

    def row(what: str, text: Callable[[EndStatus], str]) -> tuple[str, str, str]:
        one, other = (
            "" if end.problem else "not told" if what in end.untold else text(end) for end in ends
        )
        return what, one, other

    if NO_IKE in (site.ike, cloud.ike):
        yield row("line", lambda end: end.child)
    else:
        yield row("IKE SA", lambda end: end.ike)
        yield row("child SA", lambda end: end.child)
    yield row("packets in", lambda end: str(end.packets_in))
    yield row("packets out", lambda end: str(end.packets_out))
    if site.bgp != "none" or cloud.bgp != "none":
        yield row("BGP", lambda end: end.bgp)
        yield row(RECEIVED, lambda end: " ".join(end.received))
        yield row(ANNOUNCED, lambda end: " ".join(end.announced))
