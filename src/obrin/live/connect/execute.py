"""Doing the steps of a connect: in dependency order, independent ones side by side."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait
from dataclasses import dataclass

from obrin.core.errors import OutsideError
from obrin.live.connect.journal import Journal
from obrin.live.connect.steps import CloudStep, Json, SiteStep, Step
from obrin.live.http import CloudClient, Ends, HttpError

SIDE_BY_SIDE = 8
POLL = 0.1


@dataclass(frozen=True, slots=True)
class Progress:
    """`state` is begun, waiting or done; `note` what happened, `left` seconds expected."""

    step: str
    state: str
    note: str = ""
    left: float = 0.0


Report = Callable[[Progress], None]


def execute(steps: Iterable[Step], ends: Ends, journal: Journal, report: Report) -> list[str]:
    """Do every step; the notes by step. Raises OutsideError for the first that fails.

    When one fails, steps that already run are finished, and no new one is begun.
    """
    left = {step.name: step for step in steps}
    done: set[str] = set()
    notes: list[str] = []
    failure: Exception | None = None
    running: dict[Future[str], Step] = {}
    with ThreadPoolExecutor(SIDE_BY_SIDE) as pool:
        while left or running:
            if failure is None:
                for step in [s for s in left.values() if s.needs <= done]:
                    del left[step.name]
                    running[pool.submit(_do, step, ends, journal, report)] = step
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
    if failure is not None:
        raise failure
    if left:
        raise OutsideError(f"steps that wait for something that never comes: {', '.join(left)}")
    return notes


def _do(step: Step, ends: Ends, journal: Journal, report: Report) -> str:
    journal.begin(step.name)
    report(Progress(step.name, "begun"))
    if isinstance(step, SiteStep):
        client = ends.gateways.get(step.gateway)
        if client is None:
            note = "no endpoint: hand over its pack by hand"
        else:
            changed = client.configure(step.pack.config, step.pack.keys)
            note = "pack handed over" if changed else "already so"
    else:
        note = _cloud(step, ends.cloud, report)
    journal.done(step.name, note)
    report(Progress(step.name, "done", note))
    return note


def _cloud(step: CloudStep, cloud: CloudClient, report: Report) -> str:
    path = f"/v1/{step.name}"
    try:
        response = cloud.call("PUT", path, step.body)
    except HttpError as error:
        if error.status != 428:
            raise
        # It exists and differs: change what we read, or learn that it changed meanwhile.
        etag = cloud.call("GET", path).headers["ETag"]
        response = cloud.call("PUT", path, step.body, {"If-Match": etag})
    if response.status_code == 202:
        _wait(step.name, response.headers["Location"], cloud, report)
        return "built"
    return "already so"


def _wait(name: str, operation: str, cloud: CloudClient, report: Report) -> None:
    while True:
        state: Json = cloud.get(operation)
        if state["status"] == "succeeded":
            return
        if state["status"] != "running":
            raise OutsideError(f"the cloud gave up: {state['status']}")
        report(Progress(name, "waiting", f"{state['percent']} %", float(state["seconds_left"])))
        time.sleep(min(max(float(state["seconds_left"]), 0.02), POLL))
