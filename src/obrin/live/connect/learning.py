"""What an end assigns itself, and reports once it is built: taken back into the settled file,
and into the packs of those who need it."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field

from obrin.core.handover.pack import Pack
from obrin.core.settle.choices import Choice, Value
from obrin.core.settled.model import Settled
from obrin.live.connect.execute import CloudTask, Task
from obrin.live.drivers.protocol import Ends
from obrin.live.packs import handed_over
from obrin.live.project import Project


@dataclass(frozen=True, slots=True)
class Learned:
    """`values` are new ones, by place in the design; `sheets` the gateways whose packs changed.
    `settled` is the design with them, None where nothing is new, and `packs` those of it."""

    values: dict[str, Value]
    sheets: tuple[str, ...] = ()
    settled: Settled | None = None
    packs: Mapping[str, Pack] = field(default_factory=dict, repr=False)


NOTHING = Learned({})


def telling(tasks: Sequence[Task]) -> list[Task]:
    """Tasks after which an end reports values of its own, and all tasks that these need."""
    by_name = {task.name: task for task in tasks}
    waiting = [task.name for task in tasks if isinstance(task, CloudTask) and task.step.assigns]
    wanted: dict[str, Task] = {}
    while waiting:
        name = waiting.pop()
        if name not in wanted:
            wanted[name] = by_name[name]
            waiting += by_name[name].needs
    return [task for task in tasks if task.name in wanted]


def assigned_by(settled: Settled, ends: Ends, tasks: Sequence[Task]) -> dict[str, Choice]:
    """What the ends of these tasks assigned, by place in the design."""
    found: dict[str, Choice] = {}
    clouds = {c for task in tasks if isinstance(task, CloudTask) for c in task.step.assigns}
    for cloud in sorted(clouds):
        for place, value in ends.clouds[cloud].assigned(settled, cloud).items():
            why = f"cloud {cloud} assigned it when it was built"
            found[place] = Choice(value, why, assigned_by=f"cloud {cloud}")
    return found


def learn(project: Project, assigned: Mapping[str, Choice]) -> Learned:
    """Take back what is new: the settled file is written, and then the packs that differ by it."""
    document = project.read()
    before = project.read_choices(document.design)
    new = {place: choice for place, choice in assigned.items() if _new(before.get(place), choice)}
    if not new:
        return NOTHING
    choices = {**before, **new}
    settled = project.build(document, choices)
    project.write_choices(choices)
    handed = handed_over(project, settled)
    values = {place: choice.value for place, choice in new.items()}
    return Learned(values, handed.anew, settled, handed.packs)


def _new(before: Choice | None, assigned: Choice) -> bool:
    return before is None or not before.assigned_by or before.value != assigned.value


def learned_lines(learned: Learned) -> Iterator[str]:
    """Describe what was learned, place by place, and whose sheets changed."""
    for place, value in learned.values.items():
        shown = ", ".join(value) if isinstance(value, list) else str(value)
        yield f"{place} is {shown}, as the cloud assigned"
    if learned.sheets:
        yield f"new sheets for {', '.join(learned.sheets)}: who has an old one gets the new one"
