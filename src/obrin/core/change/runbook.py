"""A plan as runbooks: one for each owner, with every value, and what to look at before going on."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import groupby

from obrin.core.change.calendar import Slot
from obrin.core.change.plan import Plan, Planned
from obrin.core.change.schedule import Schedule
from obrin.core.gather.ranges import as_name
from obrin.core.handover.sheet.blocks import Block, Heading, Paragraph, Table, markdown
from obrin.core.handover.sheet.page import as_page


def runbooks(plan: Plan, schedule: Schedule | None = None) -> dict[str, str]:
    """Write runbooks by file name: Markdown, and the same as a page; with when each step is, if
    it has to wait for a window."""
    found: dict[str, str] = {}
    for owner in dict.fromkeys(planned.owner for planned in plan.steps):
        text, name = markdown(_book(plan, owner, schedule)), as_name(owner)
        found |= {f"{name}.md": text, f"{name}.html": as_page(f"Change: {owner}", text)}
    return found


def _book(plan: Plan, owner: str, schedule: Schedule | None) -> Iterator[Block]:
    mine = [planned for planned in plan.steps if planned.owner == owner]
    yield Heading(1, f"Change: what {owner} does")
    yield Paragraph(
        f"{len(mine)} of {len(plan.steps)} steps are yours. Do each when the one before it is "
        "reported done, whoever did that; report when you see what is to be seen. Stop and say so "
        "if you do not."
    )
    for planned in mine:
        slot = None
        if schedule is not None and schedule.waits:
            slot = schedule.slot(planned)
        yield from _step(plan, planned, slot)
    yield Heading(2, "The way back")
    yield Paragraph(
        "The same steps in the other order: enter the old values again, the last first."
        if not any(p.for_good for p in plan.steps)
        else "The same steps in the other order, until the step that says otherwise."
    )


def _step(plan: Plan, planned: Planned, slot: Slot | None) -> Iterator[Block]:
    step = planned.step
    about = step.leg or step.kind
    yield Heading(2, f"Step {planned.number}: {about} at {step.place}")
    if slot is not None:
        yield Paragraph(f"When: {slot.words}, if all goes on as planned.")
    if planned.number > 1:
        before = plan.steps[planned.number - 2]
        yield Paragraph(f"After step {before.number}, which {before.owner} reports done.")
    for part, lines in groupby(planned.lines, key=lambda line: line.part):
        rows = [(line.what, line.row, line.old, line.new) for line in lines]
        yield Heading(3, part)
        yield Table(("Do", "Value", "Until now", "From now on"), rows, keys=2)
    if not planned.lines:
        yield Paragraph("Nothing that stands on a sheet: the other end's values change.")
    for wait in planned.waits:
        yield Paragraph(f"It works once {wait}: ask for that before you begin.")
    yield Paragraph(f"Look: {planned.look}.")
    if planned.moves:
        words = sorted({f"from {was} to {now}" for _, was, now in planned.moves})
        yield Paragraph(f"Traffic goes over {', '.join(words)}.")
    if planned.too_much:
        yield Paragraph(f"Meanwhile, at the busiest hour: {'; '.join(planned.too_much)}.")
    if planned.lost:
        yield Paragraph(f"Lost from here until step {planned.number + 1}:")
        yield Table(("Flow", "Why"), ((flow.words, why) for flow, why in planned.lost))
    if planned.for_good:
        yield Paragraph("From here, going back needs another way: public addresses are given back.")
