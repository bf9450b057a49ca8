"""Doing the steps of a connect: in dependency order, independent ones side by side."""

from __future__ import annotations

import threading
from collections.abc import Iterable, Mapping
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait
from dataclasses import dataclass, field
from types import MappingProxyType

from obrin.core.errors import OutsideError
from obrin.core.handover.pack import Pack
from obrin.core.handover.secrets import Secrets
from obrin.core.settled.model import Settled
from obrin.live.connect.journal import Journal
from obrin.live.drivers.asking import SIDE_BY_SIDE
from obrin.live.drivers.protocol import (
    CloudDriver,
    CloudStep,
    Done,
    Ends,
    GatewayDriver,
    Postponed,
    Progress,
    Report,
)

BY_HAND = Done(True, "no endpoint: hand over its pack by hand")
PACK = "pack/"
"""Names of the steps that hand over packs begin so; clouds have other names."""


@dataclass(frozen=True, slots=True)
class CloudTask:
    """Something to be there at a cloud."""

    driver: CloudDriver
    step: CloudStep

    @property
    def name(self) -> str:
        return self.step.name

    @property
    def needs(self) -> frozenset[str]:
        return self.step.needs

    def do(self, report: Report, stop: threading.Event) -> Done:
        return self.driver.do(self.step, report, stop)


@dataclass(frozen=True, slots=True)
class SiteTask:
    """One site gateway is handed its pack; None where a person does that."""

    driver: GatewayDriver | None
    gateway: str
    pack: Pack = field(repr=False)
    needs: frozenset[str] = frozenset()

    @property
    def name(self) -> str:
        return PACK + self.gateway

    def do(self, report: Report, stop: threading.Event) -> Done:
        if self.driver is None:
            return BY_HAND
        return self.driver.hand_over(self.pack.config, self.pack.keys)


Task = CloudTask | SiteTask


def tasks_of(
    settled: Settled, packs: Mapping[str, Pack], secrets: Secrets, ends: Ends
) -> list[Task]:
    """All that is to be done. Raises ObrinError for what a cloud of that kind cannot have."""
    tasks: list[Task] = []
    for driver, clouds in ends.by_driver():
        tasks += [CloudTask(driver, step) for step in driver.steps(settled, clouds, secrets)]
    tasks += [
        SiteTask(ends.gateways.get(name), name, pack)
        for name, pack in packs.items()
        if name in settled.gateways
    ]
    return tasks


def execute(
    tasks: Iterable[Task],
    journal: Journal,
    report: Report,
    design: str = "",
    before: Mapping[str, Done] = MappingProxyType({}),
) -> dict[str, Done]:
    """Do every task for a design but those done `before`; what was done, by name, these included.
    Raises OutsideError for the first that fails.

    When one fails, tasks that already run are finished, and no new one is begun. What somebody does
    later keeps only those that need it, and raises Postponed in the end. When the program is
    interrupted, waiting ends at once; the journal knows what was begun.
    """
    left = {task.name: task for task in tasks if task.name not in before}
    done = dict(before)
    failure: Exception | None = None
    running: dict[Future[Done], Task] = {}
    later: list[str] = []
    run = _Run(journal, report, design)
    with ThreadPoolExecutor(SIDE_BY_SIDE) as pool:
        try:
            while left or running:
                if failure is None:
                    for task in [t for t in left.values() if t.needs <= done.keys()]:
                        del left[task.name]
                        running[pool.submit(run.do, task)] = task
                if not running:
                    break
                finished, _ = wait(running, return_when=FIRST_COMPLETED)
                for future in finished:
                    task = running.pop(future)
                    error = future.exception()
                    if isinstance(error, Postponed):
                        later.append(f"{task.name}: {error}")
                        continue
                    if error is not None:
                        failure = failure or OutsideError(f"{task.name}: {error}")
                        continue
                    done[task.name] = future.result()
        finally:
            run.stop.set()
    if failure is not None:
        raise failure
    if later:
        raise Postponed(f"left for later: {later[0]}" + _more(len(later) - 1))
    if left:
        raise OutsideError(f"steps that wait for something that never comes: {', '.join(left)}")
    return done


def _more(count: int) -> str:
    return f" ({count} more)" if count else ""


@dataclass(slots=True)
class _Run:
    """What every task needs; `stop` ends the waiting of all."""

    journal: Journal
    report: Report
    design: str
    stop: threading.Event = field(default_factory=threading.Event)

    def do(self, task: Task) -> Done:
        """Journal first, act second, verify third."""
        self.journal.begin(task.name)
        self.journal.note_made(task.name, self.design)
        self.report(Progress(task.name, "begun"))
        done = task.do(self.report, self.stop)
        self.journal.done(task.name, done.note)
        self.report(Progress(task.name, "done", done.note))
        return done
