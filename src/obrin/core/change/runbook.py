"""A plan as runbooks: one for each owner, with every value, and what to look at before going on."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

from obrin.core.change.calendar import Slot
from obrin.core.change.lines import Line, by_part, inverse
from obrin.core.change.plan import Plan, Planned
from obrin.core.change.schedule import Schedule
from obrin.core.change.standing import SUITE
from obrin.core.gather.ranges import as_name
from obrin.core.handover.sheet.blocks import Block, Heading, Paragraph, Table, markdown
from obrin.core.handover.sheet.page import as_page
from obrin.core.handover.sheet.words import seconds


def runbooks(plan: Plan, schedule: Schedule | None = None) -> dict[str, str]:
    """Write runbooks by file name, there and back: Markdown, and the same as a page; with when
    each step is, if it has to wait for a window."""
    found: dict[str, str] = {}
    for owner in dict.fromkeys(planned.owner for planned in plan.steps):
        name = as_name(owner)
        for file, title, blocks in (
            (name, f"Change: {owner}", _book(plan, owner, schedule)),
            (f"{name}-back", f"The way back: {owner}", _way_back(plan, owner)),
        ):
            text = markdown(blocks)
            found |= {f"{file}.md": text, f"{file}.html": as_page(title, text)}
    return found


def _mine(plan: Plan, owner: str) -> list[Planned]:
    return [planned for planned in plan.steps if planned.owner == owner]


def _book(plan: Plan, owner: str, schedule: Schedule | None) -> Iterator[Block]:
    mine = _mine(plan, owner)
    yield Heading(1, f"Change: what {owner} does")
    yield Paragraph(
        f"{len(mine)} of {len(plan.steps)} steps are yours. Do each when the one before it is "
        "reported done, whoever did that; report when you see what is to be seen. Stop and say so "
        "if you do not."
    )
    if _names_suites(mine):
        yield Paragraph(_SUITES)
    for planned in mine:
        slot = None
        if schedule is not None and schedule.waits:
            slot = schedule.slot(planned)
        yield from _step(plan, planned, slot)
    yield Heading(2, "The way back")
    last = next((p.number for p in plan.steps if p.for_good), None)
    yield Paragraph(
        f"It is written out in {as_name(owner)}-back.md: the same steps in the other order"
        + ("." if last is None else f", as long as step {last} is not done.")
    )


_SUITES = (
    "Values of suites are listed for each tunnel. Where a device keeps them under a name that "
    "several tunnels use, give the new values a name of their own: what others use must stay."
)


def _names_suites(mine: Iterable[Planned]) -> bool:
    return any(part == SUITE for planned in mine for part, _ in by_part(planned.lines))


def _way_back(plan: Plan, owner: str) -> Iterator[Block]:
    yield Heading(1, f"The way back: what {owner} does")
    yield Paragraph(
        "Begin with the last step that was done, whoever did it, and go on downwards. Do each when "
        "the one above it is reported taken back."
    )
    for planned in reversed(_mine(plan, owner)):
        step = planned.step
        yield Heading(
            2, f"Back from step {planned.number}: {step.leg or step.kind} at {step.place}"
        )
        if planned.for_good:
            yield Paragraph(
                "There is not a way back from this step: public addresses are given back."
            )
        yield from _tables(inverse(planned.lines))


def _tables(lines: Iterable[Line]) -> Iterator[Block]:
    for (part, head), held in by_part(lines).items():
        yield Heading(3, part)
        yield _values(held) if not head else Table(("Do", *head), _rows(held))


def _step(plan: Plan, planned: Planned, slot: Slot | None) -> Iterator[Block]:
    step = planned.step
    about = step.leg or step.kind
    yield Heading(2, f"Step {planned.number}: {about} at {step.place}")
    if slot is not None:
        yield Paragraph(f"When: {slot.words}, if all goes on as planned.")
    if planned.number > 1:
        before = plan.steps[planned.number - 2]
        yield Paragraph(f"After step {before.number}, which {before.owner} reports done.")
    yield from _tables(planned.lines)
    for wait in planned.waits:
        yield Paragraph(f"It works once {wait}: ask for that before you begin.")
    yield Paragraph(f"Look: {planned.sign.check}.")
    yield Paragraph(f"If not: {planned.sign.otherwise}.")
    if planned.moves:
        words = sorted({f"from {was} to {now}" for _, was, now in planned.moves})
        yield Paragraph(f"Traffic goes over {', '.join(words)}.")
    if planned.breaks:
        yield Paragraph("These stop while you do it, and are back by themselves:")
        yield Table(
            ("Flow", "For", "Why"),
            ((each.flow.words, seconds(each.seconds), each.why) for each in planned.breaks),
        )
    if planned.too_much:
        yield Paragraph(f"Meanwhile, at the busiest hour: {'; '.join(planned.too_much)}.")
    if planned.lost:
        yield Paragraph(f"Lost from here until step {planned.number + 1}:")
        yield Table(("Flow", "Why"), ((flow.words, why) for flow, why in planned.lost))
    if planned.for_good:
        yield Paragraph("From here, going back needs another way: public addresses are given back.")


def _values(lines: Sequence[Line]) -> Table:
    """A column for whose value it is, where it is a tunnel's."""
    rows = [(line.what, line.leg, line.row, line.old, line.new) for line in lines]
    if any(line.leg for line in lines):
        return Table(("Do", "For", "Value", "Until now", "From now on"), rows)
    return Table(("Do", "Value", "Until now", "From now on"), ((row[0], *row[2:]) for row in rows))


def _rows(lines: Iterable[Line]) -> Iterator[tuple[str, ...]]:
    """Whole rows of a list; one that changes stands twice, as it is and as it will be."""
    for line in lines:
        if line.before:
            yield line.what, *line.before
        if line.after:
            yield line.what if not line.before else "to", *line.after
