"""Doing the steps of a connect: in dependency order, independent ones side by side."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterable
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait
from dataclasses import dataclass, field

from obrin.core.errors import OutsideError
from obrin.live.connect.journal import Journal
from obrin.live.connect.steps import CloudStep, Json, SiteStep, Step
from obrin.live.http import Ends, HttpError

SIDE_BY_SIDE = 8
POLL = 0.1
UNCHANGED = "already so"


@dataclass(frozen=True, slots=True)
class Progress:
    """`state` is begun, waiting or done; `note` what happened, `left` seconds expected."""

    step: str
    state: str
    note: str = ""
    left: float = 0.0


Report = Callable[[Progress], None]


def execute(
    steps: Iterable[Step], ends: Ends, journal: Journal, report: Report, design: str = ""
) -> list[str]:
    """Do every step for a design; the notes by step. Raises OutsideError for the first that fails.

    When one fails, steps that already run are finished, and no new one is begun. When the program
    is interrupted, waiting ends at once; the journal knows what was begun.
    """
    left = {step.name: step for step in steps}
    done: set[str] = set()
    notes: list[str] = []
    failure: Exception | None = None
    running: dict[Future[str], Step] = {}
    run = _Run(ends, journal, report, design)
    with ThreadPoolExecutor(SIDE_BY_SIDE) as pool:
        try:
            while left or running:
                if failure is None:
                    for step in [s for s in left.values() if s.needs <= done]:
                        del left[step.name]
                        running[pool.submit(run.do, step)] = step
                if not running:
                    break
                finished, _ = wait(running, return_when=FIRST_COMPLETED)
                for future in finished:
                    step = running.pop(future)
                    error = future.exception()
                    if error is not None:
                        failure = failure or OutsideError(f"{step.name}: {error}")
                        continue
                    done.add(step.name)
                    notes.append(f"{step.name}: {future.result()}")
        finally:
            run.stop.set()
    if failure is not None:
        raise failure
    if left:
        raise OutsideError(f"steps that wait for something that never comes: {', '.join(left)}")
    return notes


@dataclass(slots=True)
class _Run:
    """What every step needs; `stop` ends the waiting of all."""

    ends: Ends
    journal: Journal
    report: Report
    design: str
    stop: threading.Event = field(default_factory=threading.Event)

    def do(self, step: Step) -> str:
        """Journal first, act second, verify third. What was done, in words."""
        self.journal.begin(step.name)
        self.journal.note_made(step.name, self.design)
        self.report(Progress(step.name, "begun"))
        note = self._site(step) if isinstance(step, SiteStep) else self._cloud(step)
        self.journal.done(step.name, note)
        self.report(Progress(step.name, "done", note))
        return note

    def _site(self, step: SiteStep) -> str:
        client = self.ends.gateways.get(step.gateway)
        if client is None:
            return "no endpoint: hand over its pack by hand"
        changed = client.configure(step.pack.config, step.pack.keys)
        return "pack handed over" if changed else UNCHANGED

    def _cloud(self, step: CloudStep) -> str:
        return put_resource(self.ends, step, self.report, self.stop)


def put_resource(
    ends: Ends, step: CloudStep, report: Report, stop: threading.Event | None = None
) -> str:
    """Make or change one resource and wait for it; what was done. Raises OutsideError."""
    cloud, path = ends.cloud, f"/v1/{step.name}"
    try:
        response = cloud.call("PUT", path, step.body)
    except HttpError as error:
        if error.status != 428:
            raise
        # It exists and differs: change what we read, or learn that it changed meanwhile.
        etag = cloud.call("GET", path).headers["ETag"]
        response = cloud.call("PUT", path, step.body, {"If-Match": etag})
    if response.status_code != 202:
        return UNCHANGED
    wait_for(ends, step.name, response.headers["Location"], report, stop)
    return "built"


def wait_for(
    ends: Ends, name: str, operation: str, report: Report, stop: threading.Event | None = None
) -> None:
    """Wait for an operation of the cloud's. Raises OutsideError."""
    stop = stop or threading.Event()
    while True:
        state: Json = ends.cloud.get(operation)
        if state["status"] == "succeeded":
            return
        if state["status"] != "running":
            raise OutsideError(f"the cloud gave up: {state['status']}")
        left = float(state["seconds_left"])
        report(Progress(name, "waiting", f"{state['percent']} %", left))
        if stop.wait(min(max(left, 0.02), POLL)):
            raise OutsideError("interrupted while the cloud was building")
