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
from obrin.live.packs import handed_over
from obrin.live.project import Project

SETTLING = 2.0
"""Seconds that the ends may disagree after all is up."""


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
    handed = handed_over(project, settled)
    for text in handed.told:
        report(Progress("packs", "told", text))
    packs = handed.packs
    steps = connect_steps(settled, packs, project.secrets(settled))
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
    """Ask both ends until all tunnels are up or rest, or the time is over; the last answer.

    The two ends are asked one after the other, and routes arrive a moment after the session is up:
    what they disagree on then gets SETTLING seconds to go away.
    """
    until = time.monotonic() + timeout
    up_since: float | None = None
    while True:
        status = read_status(settled, ends)
        down = [t.tunnel for t in status if not t.as_wished]
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
