"""What somebody changed by hand at a cloud since the last connect, and how it is undone: one thing
after the other, and after each what worked before is asked for again."""

from __future__ import annotations

import threading
import time
from collections.abc import Sequence
from contextlib import closing
from dataclasses import dataclass

from obrin.core.errors import OutsideError
from obrin.core.handover.secrets import Secrets
from obrin.core.settled.expected import Expected
from obrin.core.settled.model import Settled
from obrin.live.connect.execute import CloudTask, tasks_of
from obrin.live.connect.journal import Journal
from obrin.live.connect.whole import standing_of
from obrin.live.drivers.differing import Differing
from obrin.live.drivers.protocol import Ends, Progress, Report
from obrin.live.observe.probe import Outcome, probe_all
from obrin.live.project import Project
from obrin.live.reshape.run import LOOK_EVERY


@dataclass(frozen=True, slots=True)
class Drifted:
    """Something at a cloud, and where its values differ. `place` is what of the design it is made
    from, as keys in the design file."""

    task: CloudTask
    differing: tuple[Differing, ...]
    place: tuple[str, ...]

    @property
    def name(self) -> str:
        return self.task.name


def drifted(settled: Settled, ends: Ends, secrets: Secrets) -> list[Drifted]:
    """In the order of their needs. What is not there at all is no drift: `connect` makes it.
    Secrets do not show."""
    tasks = [t for t in tasks_of(settled, {}, secrets, ends) if isinstance(t, CloudTask)]
    standing = standing_of(tasks)
    found = [(task, standing.get(task.name, ())) for task in tasks]
    return [Drifted(task, parts, _place(settled, task)) for task, parts in found if parts]


def _place(settled: Settled, task: CloudTask) -> tuple[str, ...]:
    """Of what is there for one tunnel or circuit, that; else of its cloud."""
    legs = [settled.index.by_label[leg] for leg in sorted(task.step.legs)]
    if legs:
        bundle = settled.bundle(legs[0])
        group = "links" if bundle.name in settled.links else "circuits"
        return group, bundle.name
    cloud = task.step.cloud
    subnets = settled.clouds[cloud].subnets
    subnet = next((name for name in subnets if task.name == f"subnets/{cloud}.{name}"), None)
    return ("clouds", cloud) if subnet is None else ("clouds", cloud, "subnets", subnet)


def undo(
    project: Project,
    settled: Settled,
    ends: Ends,
    found: Sequence[Drifted],
    report: Report,
    settling: float,
) -> list[Outcome]:
    """As the design has it again; what is still not met in the end. Raises OutsideError for a thing
    that cannot be changed, or after which something fails that was met before: it stops there."""
    good = {outcome.expectation for outcome in _asked(settled, ends) if outcome.met}
    for drift in found:
        with closing(Journal(project.journal_path)) as journal:
            journal.note_made(drift.name, project.design_path.stem)
        report(Progress(drift.name, "begun"))
        done = drift.task.do(report, threading.Event())
        report(Progress(drift.name, "done", done.note))
        lost = _wait(settled, ends, good, settling)
        if lost is not None:
            raise OutsideError(
                f"{drift.name}: after it, {lost.expectation} is {lost.seen}, and was met before. "
                "It stops here: mend that, and run it again"
            )
    return [outcome for outcome in _asked(settled, ends) if not outcome.met]


def _asked(settled: Settled, ends: Ends) -> list[Outcome]:
    return [outcome for outcome in probe_all(settled, ends) if not outcome.problem]


def _wait(settled: Settled, ends: Ends, good: set[Expected], settling: float) -> Outcome | None:
    """Something good that is not met when the time is over; None as soon as all of it is."""
    until = time.monotonic() + settling
    while True:
        left = (o for o in _asked(settled, ends) if not o.met and o.expectation in good)
        lost = next(left, None)
        if lost is None or time.monotonic() > until:
            return lost
        time.sleep(LOOK_EVERY)
