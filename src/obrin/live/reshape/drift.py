"""What somebody changed by hand since the last connect, and how it is undone: one thing after the
other, and after each what worked before is asked for again."""

from __future__ import annotations

import contextlib
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import closing
from dataclasses import dataclass, field
from functools import partial

from obrin.core.errors import OutsideError
from obrin.core.handover.configured import device_config
from obrin.core.handover.pack import gateways_of
from obrin.core.handover.secrets import Secrets, key_data
from obrin.core.handover.standard.device import encode
from obrin.core.json_text import Json
from obrin.core.settled.expected import Expected
from obrin.core.settled.model import Settled
from obrin.live.connect.execute import CloudTask, tasks_of
from obrin.live.connect.journal import Journal
from obrin.live.connect.whole import standing_of
from obrin.live.drivers.asking import side_by_side
from obrin.live.drivers.differing import Differing, of_data
from obrin.live.drivers.protocol import CloudStep, Done, Ends, GatewayDriver, Progress, Report
from obrin.live.observe.outcome import Outcome
from obrin.live.observe.probe import probe_all
from obrin.live.project import Project
from obrin.live.reshape.run import LOOK_EVERY


@dataclass(frozen=True, slots=True, kw_only=True)
class Drifted:
    """Something at a cloud, or a gateway's configuration, and where its values differ. `at` is the
    cloud or gateway, `place` what of the design it is made from, as keys in the design file."""

    name: str
    at: str
    differing: tuple[Differing, ...]
    place: tuple[str, ...]
    mend: Callable[[Report], Done] = field(repr=False)


@dataclass(frozen=True, slots=True)
class Look:
    """What was `found` to differ, and what was not `seen`, with the reason: of that nothing is
    known."""

    found: tuple[Drifted, ...]
    unseen: dict[str, str]


NOT_THERE = "it is not there, or its driver cannot compare it"
NOT_REPORTED = "its driver cannot report what it is configured with"
NO_DRIVER = "no driver serves it"
SILENT = "it does not answer"


def drifted(settled: Settled, ends: Ends, secrets: Secrets, *, but_silent: bool = False) -> Look:
    """Look at clouds in the order of their needs, then at gateways. What is not there at all is
    not drift: `connect` makes it. Secrets do not show.

    Raises OutsideError for an end that does not answer, a gateway with `but_silent` left out."""
    found, unseen = _at_clouds(settled, ends, secrets)
    used = gateways_of(settled)
    here = [name for name in settled.gateways if name in ends.gateways and name in used]
    unseen |= {n: NO_DRIVER for n in settled.gateways if n in used and n not in ends.gateways}

    def held(name: str) -> Json | None:
        with contextlib.suppress(OutsideError) if but_silent else contextlib.nullcontext():
            return ends.gateways[name].held()
        return None

    entries = dict(zip(here, side_by_side(held, here), strict=True))
    for name, data in entries.items():
        if data is None:
            unseen[name] = NOT_REPORTED if not but_silent else f"{NOT_REPORTED}, or {SILENT}"
        else:
            found += _at_gateway(settled, ends.gateways[name], name, data, secrets)
    return Look(tuple(found), unseen)


def _at_clouds(
    settled: Settled, ends: Ends, secrets: Secrets
) -> tuple[list[Drifted], dict[str, str]]:
    tasks = [t for t in tasks_of(settled, {}, secrets, ends) if isinstance(t, CloudTask)]
    standing = standing_of(tasks)
    found = [
        Drifted(
            name=task.name,
            at=task.step.cloud,
            differing=parts,
            place=place_of_step(settled, task.step),
            mend=partial(_do, task),
        )
        for task in tasks
        if (parts := standing.get(task.name))
    ]
    return found, {task.name: NOT_THERE for task in tasks if task.name not in standing}


def _do(task: CloudTask, report: Report) -> Done:
    return task.do(report, threading.Event())


def _at_gateway(
    settled: Settled, driver: GatewayDriver, name: str, held: Json, secrets: Secrets
) -> Iterator[Drifted]:
    wanted = encode(device_config(settled, name))
    if parts := of_data(held, wanted):
        yield Drifted(
            name=name,
            at=name,
            differing=parts,
            place=("sites", settled.gateways[name].site, "gateways", name),
            mend=partial(_hand_over, driver, wanted, key_data(settled, name, secrets)),
        )


def _hand_over(driver: GatewayDriver, config: Json, keys: Json, _: Report) -> Done:
    return driver.hand_over(config, keys)


def place_of_step(settled: Settled, step: CloudStep) -> tuple[str, ...]:
    """Name the tunnel or circuit that a step is for; else its cloud."""
    legs = [settled.index.by_label[leg] for leg in sorted(step.legs)]
    if legs:
        bundle = settled.bundle(legs[0])
        group = "links" if bundle.name in settled.links else "circuits"
        return group, bundle.name
    cloud = step.cloud
    subnets = settled.clouds[cloud].subnets
    subnet = next((name for name in subnets if step.name == f"subnets/{cloud}.{name}"), None)
    return ("clouds", cloud) if subnet is None else ("clouds", cloud, "subnets", subnet)


def undo(
    project: Project,
    settled: Settled,
    ends: Ends,
    found: Sequence[Drifted],
    report: Report,
    settling: float,
) -> list[Outcome]:
    """Change it back to what the design has; what is still not met in the end. Raises
    OutsideError for a thing that cannot be changed, or after which something fails that was met
    before: it stops there."""
    good = {outcome.expectation for outcome in _asked(settled, ends) if outcome.met}
    for drift in found:
        with closing(Journal(project.journal_path)) as journal:
            journal.note_made(drift.name, project.design_path.stem)
        report(Progress(drift.name, "begun"))
        done = drift.mend(report)
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
        left = (o for o in _asked(settled, ends) if o.verdict is False and o.expectation in good)
        lost = next(left, None)
        if lost is None or time.monotonic() > until:
            return lost
        time.sleep(LOOK_EVERY)
