"""A whole connect: packs, steps, journal, and the wait until both ends say up."""

from __future__ import annotations

import time
from collections.abc import Mapping, Sequence
from contextlib import closing
from dataclasses import dataclass

from obrin.core.settled.model import Settled
from obrin.live.connect.ended import Ended, end_access, end_rest, find_ended
from obrin.live.connect.execute import CloudTask, Task, execute, tasks_of
from obrin.live.connect.journal import Journal
from obrin.live.connect.learning import (
    NOTHING,
    Learned,
    assigned_by,
    learn,
    learned_lines,
    telling,
)
from obrin.live.drivers.differing import Differing
from obrin.live.drivers.protocol import Done, Ends, Progress, Report
from obrin.live.files import private_folder
from obrin.live.observe.status import read_status
from obrin.live.observe.tunnel import TunnelStatus
from obrin.live.packs import handed_over
from obrin.live.project import Project

BEGIN_ANEW = 5.0
"""Seconds for IKE, routes and the first packets after that."""
SETTLING = 2.0
"""Seconds that the ends may disagree after all is up."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Plan:
    """What a connect is going to do.

    `missing` and `differing` are names of tasks whose thing is not there, or not as it should be;
    a pack is handed over in any case. `interrupted` says for each link whose traffic will stop for
    how many seconds about.
    """

    tasks: tuple[Task, ...]
    missing: tuple[str, ...]
    differing: tuple[str, ...]
    ended: Ended
    taken_up: tuple[str, ...]
    notes: tuple[str, ...]
    interrupted: dict[str, float]


@dataclass(frozen=True, slots=True)
class Connected:
    """`done` is what each step that changed something did, by its name; `unchanged` is how many did
    nothing; `learned` what the ends assigned."""

    done: dict[str, str]
    unchanged: int
    status: tuple[TunnelStatus, ...]
    learned: Learned = NOTHING


def plan_connect(
    project: Project, settled: Settled, ends: Ends, *, write_packs: bool = True
) -> Plan:
    """Nothing at the ends is changed yet; packs that are missing or old are written, unless that is
    not wanted.

    Raises ObrinError for packs or a cloud that cannot be used.
    """
    handed = handed_over(project, settled, write=write_packs)
    secrets = project.secrets(settled)
    tasks = tasks_of(settled, handed.packs, secrets, ends)
    private_folder(project.own_folder)
    with closing(Journal(project.journal_path)) as journal:
        taken_up, made = journal.unfinished(), journal.made(project.design_path.stem)
    ended = find_ended(settled, ends, made, secrets.barred)
    standing = {name: not parts for name, parts in standing_of(tasks).items()}
    return Plan(
        tasks=tuple(tasks),
        missing=tuple(task.name for task in tasks if task.name not in standing),
        differing=tuple(name for name, same in standing.items() if not same),
        ended=ended,
        taken_up=tuple(taken_up),
        notes=handed.notes,
        interrupted=_interrupted(settled, tasks, standing),
    )


def standing_of(tasks: Sequence[Task]) -> dict[str, tuple[Differing, ...]]:
    """What of the clouds' side is there, and where it is not as it should be."""
    by_driver: dict[int, list[CloudTask]] = {}
    for task in tasks:
        if isinstance(task, CloudTask):
            by_driver.setdefault(id(task.driver), []).append(task)
    found: dict[str, tuple[Differing, ...]] = {}
    for group in by_driver.values():
        found |= group[0].driver.standing(task.step for task in group)
    return found


def _interrupted(
    settled: Settled, tasks: Sequence[Task], standing: Mapping[str, bool]
) -> dict[str, float]:
    """Links all of whose tunnels change: nothing carries their traffic meanwhile."""
    changed = {
        task.step.tunnel: task.driver.tunnel_change
        for task in tasks
        if isinstance(task, CloudTask) and standing.get(task.name) is False
    }
    return {
        link.name: max(changed[t.label] for t in link.tunnels) + BEGIN_ANEW
        for link in settled.links.values()
        if link.tunnels and all(tunnel.label in changed for tunnel in link.tunnels)
    }


def connect_whole(
    project: Project,
    settled: Settled,
    ends: Ends,
    report: Report,
    timeout: float,
    plan: Plan,
    *,
    keep: bool = False,
) -> Connected:
    """Do what was planned; with `keep`, what has ended stays.

    Raises OutsideError when a step fails; tunnels that stay down are in the status.
    """
    with closing(Journal(project.journal_path)) as journal:
        if not keep:
            end_access(plan.ended, ends, journal, report)
        done, learned = _execute(project, settled, ends, plan, journal, report)
        if not keep:
            end_rest(plan.ended, journal, report)
    changed = {name: found.note for name, found in done.items() if found.changed}
    status = wait_until_up(learned.settled or settled, ends, report, timeout)
    return Connected(changed, len(done) - len(changed), tuple(status), learned)


def _execute(
    project: Project, settled: Settled, ends: Ends, plan: Plan, journal: Journal, report: Report
) -> tuple[dict[str, Done], Learned]:
    """Build what has to assign something first; then all, with what was assigned."""
    design, first = project.design_path.stem, telling(plan.tasks)
    if not first:
        return execute(plan.tasks, journal, report, design), NOTHING
    done = execute(first, journal, report, design)
    learned = learn(project, assigned_by(settled, ends, first))
    tasks: Sequence[Task] = plan.tasks
    for line in learned_lines(learned):
        report(Progress("assigned", "done", line))
    if learned.settled is not None:
        secrets = project.secrets(learned.settled)
        tasks = tasks_of(learned.settled, learned.packs, secrets, ends)
    return execute(tasks, journal, report, design, done), learned


def ended_of(project: Project, settled: Settled, ends: Ends) -> Ended:
    """What still stands of this design and is wished no more, for `status`."""
    if not project.journal_path.exists():
        return Ended()
    with closing(Journal(project.journal_path)) as journal:
        made = journal.made(project.design_path.stem)
    return find_ended(settled, ends, made, project.barred(settled))


def wait_until_up(
    settled: Settled, ends: Ends, report: Report, timeout: float
) -> list[TunnelStatus]:
    """Ask both ends until all tunnels are up or rest, or the time is over; the last answer.

    The two ends are asked one after the other, and routes arrive a moment after the session is up:
    what they disagree on then gets SETTLING seconds to go away.
    """
    until = time.monotonic() + timeout
    up_since: float | None = None
    while True:
        status = read_status(settled, ends)
        down = [t.tunnel for t in status if t.pending]
        now = time.monotonic()
        left = until - now
        up_since = None if down else up_since or now
        agreed = not any(t.disagreements for t in status)
        settled_down = up_since is not None and (agreed or now - up_since >= SETTLING)
        if settled_down or left <= 0:
            return status
        if not down:
            time.sleep(0.1)
            continue
        report(
            Progress(
                "tunnels",
                "waiting",
                f"{len(down)} of {len(status)} still down, giving up in {left:.0f} s",
                left,
            )
        )
        time.sleep(0.15)
