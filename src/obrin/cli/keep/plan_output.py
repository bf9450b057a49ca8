"""What a plan of a change says: a table of its steps, or JSON."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import timedelta
from typing import TYPE_CHECKING, Any

import click

from obrin.cli.shared.common import console, print_table, say
from obrin.core.naming import some
from obrin.core.quantity import plain

if TYPE_CHECKING:
    from obrin.core.change.plan import Plan, Planned
    from obrin.core.change.schedule import Schedule
    from obrin.core.change.states import Flow
    from obrin.live.reshape.change_file import Record


MOST_KEYS, MOST_ROUNDS = 6, 8


def tell_plan(plan: Plan, record: Record | None, times: Schedule) -> None:
    from obrin.core.change.advice import advice
    from obrin.core.handover.sheet.words import seconds

    out = console()
    if not plan.steps:
        click.echo("Nothing changes: what is built is what the design says.")
        return
    rows = []
    for planned in plan.steps:
        slot = times.slot(planned)
        mark = str(planned.number) if slot else "done"
        when = (f"{slot.begin:%a %Y-%m-%d %H:%M}" if slot else "",) if times.waits else ()
        rows.append((mark, *when, planned.owner, what_words(planned), *_effect(plan, planned)))
    print_table(
        out,
        ("Step", *(("When (UTC)",) if times.waits else ()), "Who", "Change", "Effect", "Remark"),
        rows,
        styles={"all works": "green", "stops": "yellow", "LOST": "bold red", "LETS IN": "bold red"},
        names=3 if times.waits else 2,
    )
    if plan.side_by_side and not times.done:
        for line in _rounds(plan):
            click.echo(line)
    never = next((p.number for p in plan.steps if p.for_good), None)
    if never is not None:
        click.echo(f"From step {never} on, going back needs another way: addresses are given back.")
    if record is not None:
        click.echo(f"{record.words}. Go on with --go, or back with --back.")
    for planned in plan.steps:
        for wait in planned.waits:
            say(out, f"Step {planned.number} works once {wait}.", style="yellow")
        for line in _wrong_lines(plan, planned):
            say(out, line, style="yellow")
    lost = plan.lost_steps(times.done)
    steps = f"{len(plan.steps)} steps{_lasting(plan, times)}"
    text = f"{steps}; nothing that works in both designs is lost in between."
    if lost:
        most = max(lost.values())
        count = f"{len(lost)} of {len(plan.flows)} flows are lost meanwhile, the longest for "
        longest = max(times.lost(plan).values())
        count += f"{most} step{'s' if most > 1 else ''} ({seconds(longest)})"
        text = f"{steps}; {count}. To avoid it, {advice(plan)}."
    if stops := _stopping(plan, times.done):
        text = f"{text.removesuffix('.')}; {stops}."
    say(out, text, style="bold red" if plan.loses(times.done) else "green")


def _stopping(plan: Plan, done: int) -> str:
    """What stops only while steps are done, for how long in all."""
    from obrin.core.change.advice import BESIDE
    from obrin.core.change.plan import STOPS_LONG
    from obrin.core.handover.sheet.words import seconds

    breaks = plan.breaks(done)
    total: dict[Flow, float] = {}
    if not breaks:
        return ""
    for each in breaks:
        total[each.flow] = total.get(each.flow, 0.0) + each.seconds
    count = f"{len(total)} flow{'s stop' if len(total) > 1 else ' stops'}"
    text = f"while steps are done, {count} for at most {seconds(max(total.values()))} in all"
    long = any(each.seconds >= STOPS_LONG for each in breaks)
    return f"{text}. To avoid it, {BESIDE}" if long else text


def _lasting(plan: Plan, times: Schedule) -> str:
    """How long it takes, one step after the other, and with as many people as there are places."""
    slots = [slot for planned in plan.steps if (slot := times.slot(planned)) is not None]
    if not slots:
        return ""
    took = slots[-1].end - slots[0].begin
    text = f" in {plain(took / timedelta(minutes=1))} min"
    if took >= timedelta(hours=5):
        text = f" until {slots[-1].end:%a %Y-%m-%d %H:%M} UTC"
    if not times.waits and not times.done and len(plan.rounds) < len(plan.steps):
        short = len(plan.rounds) * (slots[0].end - slots[0].begin)
        text += f", side by side in {plain(short / timedelta(minutes=1))} min"
    return text


def _rounds(plan: Plan) -> Iterator[str]:
    listed = "; ".join(", ".join(map(str, numbers)) for numbers in plan.side_by_side[:MOST_ROUNDS])
    more = f"; and {left} more such" if (left := len(plan.side_by_side) - MOST_ROUNDS) > 0 else ""
    yield f"May be done side by side, by several people: steps {listed}{more}."


def tell_keys(labels: Sequence[str]) -> None:
    """Name the keys that were made anew and are not at the ends yet."""
    from obrin.core.settled.shared_secrets import is_password

    for tunnels, command in ((True, "obrin keys rotate"), (False, "obrin connect")):
        found = [label for label in labels if is_password(label) is not tunnels]
        if found:
            named = found if tunnels and len(found) <= MOST_KEYS else ()
            say(
                console(),
                f"The ends have the old key of {some(found, MOST_KEYS)}, and keep it in all steps: "
                f"'{' '.join((command, *named))}' enters the new one.",
                style="yellow",
            )


def _wrong_lines(plan: Plan, planned: Planned) -> Iterator[str]:
    """One for each reason."""
    from obrin.core.change.plan import MOST_FLOWS, some_flows

    more = planned is not plan.steps[-1]
    until = (
        f"after step {planned.number}, until step {planned.number + 1}" if more else "at the end"
    )
    by_reason: dict[str, list[Flow]] = {}
    for flow, why in planned.lost:
        by_reason.setdefault(why, []).append(flow)
    for why, flows in by_reason.items():
        yield f"Lost {until}: {some_flows(flows)}: {why}."
    for why, time, stopped in _stopped(planned):
        yield f"Stops for {time} while step {planned.number} is done: {stopped}: {why}."
    if planned.too_much:
        yield f"Too much {until}: {'; '.join(planned.too_much[:MOST_FLOWS])}."
    if planned.opened:
        yield f"Let in {until}, though it must not be: {some_flows(planned.opened)}."


def _stopped(planned: Planned) -> Iterator[tuple[str, str, str]]:
    """Reason, time and flows of what stops while a step is done."""
    from obrin.core.change.plan import some_flows
    from obrin.core.handover.sheet.words import seconds

    for why in dict.fromkeys(each.why for each in planned.breaks):
        mine = [each for each in planned.breaks if each.why == why]
        yield why, seconds(mine[0].seconds), some_flows(each.flow for each in mine)


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
    if planned.breaks:
        from obrin.core.handover.sheet.words import seconds

        off = seconds(max(each.seconds for each in planned.breaks))
        return "stops", f"{len(planned.breaks)} of {len(plan.flows)} flows, for {off}"
    if planned.moves:
        ways = sorted({(was, now) for _, was, now in planned.moves})
        words = ", ".join(f"{was} to {now}" for was, now in ways)
        return "all works", f"{len(planned.moves)} flows go over from {words}"
    return "all works", planned.look if planned.step.leg else ""


def plan_json(plan: Plan, times: Schedule) -> dict[str, Any]:
    from obrin.core.change.lines import one_by_one

    gone = times.lost(plan)
    return {
        "steps": [
            {
                "number": p.number,
                "name": p.step.name,
                "kind": p.step.kind,
                "place": p.step.place,
                "leg": p.step.leg,
                "owner": p.owner,
                "done": p.number <= times.done,
                "lines": [
                    {
                        "what": x.what,
                        "part": x.part,
                        "for": x.leg,
                        "row": x.row,
                        "old": x.old,
                        "new": x.new,
                    }
                    for x in one_by_one(p.lines)
                ],
                "lost": [{"flow": flow.words, "why": why} for flow, why in p.lost],
                "opened": [flow.words for flow in p.opened],
                "moves": [
                    {"flow": flow.words, "from": was, "to": now} for flow, was, now in p.moves
                ],
                "stops": [
                    {"flow": each.flow.words, "seconds": each.seconds, "why": each.why}
                    for each in p.breaks
                ],
                "too_much": list(p.too_much),
                "look": p.look,
                "waits_for": list(p.waits),
                "begins": slot and slot.begin.isoformat(timespec="seconds"),
                "ends": slot and slot.end.isoformat(timespec="seconds"),
                "for_good": p.for_good,
            }
            for p, slot in ((p, times.slot(p)) for p in plan.steps)
        ],
        "rounds": [list(numbers) for numbers in plan.rounds],
        "side_by_side": [list(numbers) for numbers in plan.side_by_side],
        "flows": [flow.words for flow in plan.flows],
        "lost_for": [
            {"flow": flow.words, "steps": count, "seconds": gone[flow]}
            for flow, count in plan.lost_steps(times.done).items()
        ],
        "loses": plan.loses(times.done),
    }
