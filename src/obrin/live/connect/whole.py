"""A whole connect: packs, steps, journal, and the wait until both ends say up."""

from __future__ import annotations

import time
from dataclasses import dataclass

from obrin.core.design.settled import Settled
from obrin.live.connect.execute import UNCHANGED, Progress, Report, execute
from obrin.live.connect.journal import Journal
from obrin.live.connect.steps import RESOURCE_KINDS, Step, connect_steps
from obrin.live.files import private_folder
from obrin.live.http import Ends
from obrin.live.observe.status import TunnelStatus, read_status
from obrin.live.packs import make_packs
from obrin.live.project import Project


@dataclass(frozen=True, slots=True)
class Connected:
    taken_up: tuple[str, ...]
    changed: int
    unchanged: int
    status: tuple[TunnelStatus, ...]
    left_over: tuple[str, ...]


def connect_whole(
    project: Project, settled: Settled, ends: Ends, report: Report, timeout: float
) -> Connected:
    """Raises OutsideError when a step fails; tunnels that stay down are in the status."""
    packs = make_packs(project, settled)
    steps = connect_steps(settled, packs, project.keys.read())
    private_folder(project.own_folder)
    journal = Journal(project.journal_path)
    try:
        taken_up = journal.unfinished()
        notes = execute(steps, ends, journal, report)
    finally:
        journal.close()
    same = sum(note.endswith(UNCHANGED) for note in notes)
    status = wait_until_up(settled, ends, report, timeout)
    left_over = find_left_over(steps, ends)
    return Connected(tuple(taken_up), len(notes) - same, same, tuple(status), left_over)


def find_left_over(steps: list[Step], ends: Ends) -> tuple[str, ...]:
    """What the cloud holds beside the design: told, never taken away unasked."""
    wanted = {step.name for step in steps}
    held = [
        f"{kind}/{item['name']}"
        for kind in RESOURCE_KINDS
        for item in ends.cloud.get(f"/v1/{kind}")["items"]
    ]
    return tuple(name for name in held if name not in wanted)


def wait_until_up(
    settled: Settled, ends: Ends, report: Report, timeout: float
) -> list[TunnelStatus]:
    """Ask both ends until all tunnels are up, or the time is over; the last answer."""
    until = time.monotonic() + timeout
    while True:
        status = read_status(settled, ends)
        down = [t.tunnel for t in status if not t.up]
        left = until - time.monotonic()
        if not down or left <= 0:
            return status
        report(
            Progress(
                "tunnels",
                "waiting",
                f"{len(down)} of {len(status)} still down, giving up in {left:.0f} s",
                left,
            )
        )
        time.sleep(0.15)
