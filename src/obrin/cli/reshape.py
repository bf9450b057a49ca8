"""`reshape`: from the design that is built to the one that is wanted, in a proven order."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from obrin.cli.by_hand import person_for
from obrin.cli.common import (
    console,
    design_option,
    echo_json,
    json_option,
    print_table,
    project_of,
    say,
)
from obrin.core.errors import ObrinError

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence

    from obrin.core.change.plan import Plan, Planned
    from obrin.core.settled.model import Settled
    from obrin.live.drivers.by_hand.person import Person
    from obrin.live.project import Project
    from obrin.live.reshape.run import Record

MOST_FLOWS = 3


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
@click.option("--go", is_flag=True, help="Carry it out, or go on with it, checking every step.")
@click.option(
    "--timeout",
    type=click.FloatRange(1, 3600),
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
    go: bool,
    timeout: float,
    by_hand: bool,
    answers: str | None,
    drift: bool,
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
    is asked for it, and checked from both sides; it stops at the first that is not as said, goes on
    when it is run again, and --back goes back.

    Exit code 1 where the plan loses something that must work, 3 where a step failed.

    \b
    Examples:
      obrin reshape --design skerrow-ferries
      obrin reshape --from-revision HEAD~1 --to runbooks --design skerrow-ferries
      obrin reshape --drift --go --design skerrow-ferries
    """
    from obrin.core.change.plan import make_plan
    from obrin.core.design.values import parse_duration

    if sum(map(bool, (go, back))) > 1:
        raise click.UsageError("--go goes on, and --back goes back: give one of them")
    if source and revision:
        raise click.UsageError("give --from or --from-revision")
    try:
        each = parse_duration(step_time)
    except ValueError as error:
        raise click.UsageError(f"--step-time: {error}") from None
    project = project_of(design_file)
    if drift:
        from obrin.cli.reshape_drift import drift as told

        if source or revision or target or figure or by_hand or answers or back:
            raise click.UsageError("--drift goes with --go and --json alone")
        ctx.exit(told(project, go=go, timeout=timeout, as_json=as_json))
    after = project.settled()[1]
    before = _before(project, source, revision)
    plan = make_plan(before, after)
    if go or back:
        person = person_for(answers)
        _carry(project, before, after, timeout, person, by_hand=by_hand, back=back)
        return
    if figure is not None and plan.steps:
        _draw(plan, Path(figure))
    if target is not None and plan.steps:
        _write(plan, Path(target))
    record = _standing(project)
    if as_json:
        echo_json(plan_json(plan, record, each))
    else:
        _tell(plan, record, each)
    ctx.exit(1 if plan.loses else 0)


def _before(project: Project, source: str | None, revision: str | None) -> Settled:
    from obrin.live.reshape.built import built, of_revision

    if source is not None:
        return project_of(source).settled()[1]
    return built(project) if revision is None else of_revision(project, revision)


def _standing(project: Project) -> Record | None:
    from obrin.live.reshape.run import read_record

    return read_record(project)


def _carry(
    project: Project,
    before: Settled,
    after: Settled,
    timeout: float,
    person: Person,
    *,
    by_hand: bool,
    back: bool,
) -> None:
    from dataclasses import replace

    from obrin.cli.connect import ProgressLines
    from obrin.core.change.groups import Groups
    from obrin.core.change.outlook import Outlooks
    from obrin.core.change.states import READY
    from obrin.live.drivers.registry import open_ends
    from obrin.live.reshape.run import Carrying, carry_on, go_back, need_told, under_way

    groups = Groups(before, after)
    between, looks = groups.between, Outlooks(groups.between)
    record, order = under_way(project, groups)
    if back and not (record.done or record.begun):
        raise ObrinError("no step is done: there is nothing to go back from")
    if not order:
        click.echo("Nothing changes.")
        return
    secrets = [project.secrets(settled) for settled in (before, after)]
    both = replace(
        secrets[1],
        keys={**secrets[0].keys, **secrets[1].keys},
        certificates={**secrets[0].certificates, **secrets[1].certificates},
    )
    missing = both.missing(after)
    if missing:
        raise ObrinError(f"not there yet: {', '.join(missing)}. Run 'obrin settle'")
    grounds = between.grounds(frozenset(s for s in order if s.kind == READY))
    opened = open_ends(project, grounds, person, by_hand=by_hand)
    with project.lock("reshape"), opened as ends:
        need_told(between, ends)
        carrying = Carrying(project, ends, both, ProgressLines(), timeout)
        (go_back if back else carry_on)(carrying, looks, record, order)
    word = "undone; everything is as it was" if back else "done, each checked from both ends"
    click.echo(f"{len(order) if not back else 'All'} steps {word}.")


def _tell(plan: Plan, record: Record | None, each: float) -> None:
    from obrin.core.handover.words import seconds

    out = console()
    if not plan.steps:
        click.echo("Nothing changes: what is built is what the design says.")
        return
    done = () if record is None else record.done
    rows = []
    for planned in plan.steps:
        mark = "done" if planned.step.name in done else str(planned.number)
        rows.append((mark, planned.owner, what_words(planned), *_effect(plan, planned)))
    print_table(
        out,
        ("Step", "Who", "What", "Then", "Of note"),
        rows,
        styles={"all works": "green", "LOST": "bold red", "LETS IN": "bold red"},
        names=2,
    )
    for group in plan.side_by_side:
        click.echo(f"Steps {', '.join(map(str, group))} may be done side by side.")
    never = next((p.number for p in plan.steps if p.for_good), None)
    if never is not None:
        click.echo(f"From step {never} on, going back needs another way: addresses are given back.")
    if record is not None:
        click.echo(
            f"{len(record.done)} of {len(record.order)} steps are done. Go on with --go, or back "
            "with --back."
        )
    for planned in plan.steps:
        for wait in planned.waits:
            say(out, f"Step {planned.number} works once {wait}.", style="yellow")
        for line in _wrong_lines(plan, planned):
            say(out, line, style="yellow")
    lost = plan.lost_steps()
    text = f"{len(plan.steps)} steps; nothing that works in both designs is lost in between."
    if lost:
        most = max(lost.values())
        count = f"{len(lost)} of {len(plan.flows)} flows are lost meanwhile, the longest for "
        count += f"{most} step{'s' if most > 1 else ''} ({seconds(most * each)})"
        text = f"{len(plan.steps)} steps; {count}. {advice(plan)}"
    say(out, text, style="bold red" if plan.loses else "green")


def _wrong_lines(plan: Plan, planned: Planned) -> Iterator[str]:
    """One for each reason."""
    more = planned is not plan.steps[-1]
    until = (
        f"after step {planned.number}, until step {planned.number + 1}" if more else "at the end"
    )
    by_reason: dict[str, list[str]] = {}
    for flow, why in planned.lost:
        by_reason.setdefault(why, []).append(flow.words)
    for why, flows in by_reason.items():
        yield f"Lost {until}: {_some(flows)}: {why}."
    if planned.opened:
        yield f"Let in {until}, though it must not be: {_some([f.words for f in planned.opened])}."


def _some(flows: Sequence[str]) -> str:
    more = f" and {len(flows) - MOST_FLOWS} more" if len(flows) > MOST_FLOWS else ""
    return ", ".join(flows[:MOST_FLOWS]) + more


def advice(plan: Plan) -> str:
    """What would avoid the loss."""
    from obrin.core.change.outlook import ONE_SESSION, ROUTED_APART, TRANSLATED_APART

    why = {reason for planned in plan.steps for _, reason in planned.lost}
    if TRANSLATED_APART in why:
        return "Give the network its new range beside the old one first, and take that away later."
    if ROUTED_APART in why:
        return "Make two changes of it: first how the tunnels are protected, then how they route."
    if ONE_SESSION in why:
        return "Give each tunnel a session of its own first, between the addresses inside."
    return "A second tunnel, uplink or gateway that stays as it is meanwhile would avoid it."


def what_words(planned: Planned) -> str:
    step = planned.step
    if step.leg:
        return f"{step.leg} at {step.place}"
    return f"{step.kind} at {step.place}"


def _effect(plan: Plan, planned: Planned) -> tuple[str, str]:
    if planned.lost:
        return "LOST", f"{len(planned.lost)} of {len(plan.flows)} flows"
    if planned.opened:
        return "LETS IN", f"{len(planned.opened)} of {len(plan.flows)} flows"
    if planned.moves:
        ways = sorted({(was, now) for _, was, now in planned.moves})
        words = ", ".join(f"{was} to {now}" for was, now in ways)
        return "all works", f"{len(planned.moves)} flows go over from {words}"
    return "all works", planned.look if planned.step.leg else ""


def plan_json(plan: Plan, record: Record | None, each: float) -> dict[str, Any]:
    done = () if record is None else record.done
    return {
        "steps": [
            {
                "number": p.number,
                "name": p.step.name,
                "kind": p.step.kind,
                "place": p.step.place,
                "leg": p.step.leg,
                "owner": p.owner,
                "done": p.step.name in done,
                "lines": [
                    {"what": x.what, "part": x.part, "row": x.row, "old": x.old, "new": x.new}
                    for x in p.lines
                ],
                "lost": [{"flow": flow.words, "why": why} for flow, why in p.lost],
                "opened": [flow.words for flow in p.opened],
                "moves": [
                    {"flow": flow.words, "from": was, "to": now} for flow, was, now in p.moves
                ],
                "look": p.look,
                "waits_for": list(p.waits),
                "for_good": p.for_good,
            }
            for p in plan.steps
        ],
        "side_by_side": [list(group) for group in plan.side_by_side],
        "flows": [flow.words for flow in plan.flows],
        "lost_for": [
            {"flow": flow.words, "steps": count, "seconds": count * each}
            for flow, count in plan.lost_steps().items()
        ],
        "loses": plan.loses,
    }


def _write(plan: Plan, folder: Path) -> None:
    from obrin.core.change.runbook import runbooks
    from obrin.live.files import folder_of_ours, write_whole

    folder_of_ours(folder)
    for name, text in runbooks(plan).items():
        write_whole(folder / name, text, 0o644)
        click.echo(f"{folder / name}: written", err=True)


def _draw(plan: Plan, path: Path) -> None:
    from obrin.cli.reshape_figure import plan_bytes
    from obrin.live.files import write_whole_bytes

    kind = path.suffix.lower().removeprefix(".")
    if kind not in ("png", "svg"):
        raise ObrinError(f"{path}: only .png and .svg are drawn. Name the file so")
    write_whole_bytes(path, plan_bytes(plan, kind))
    click.echo(f"{path}: written", err=True)
