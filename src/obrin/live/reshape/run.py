"""Carrying a change out: journal first, act second, verify third, at every step.

The record says which steps are done and which was begun. A step that was begun is done again:
drivers find done what is done. Going back does the same steps the other way, in the other order.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterable, Sequence
from contextlib import closing
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from obrin.core.change.lines import Line, Lines, inverse, one_by_one
from obrin.core.change.outlook import Outlooks
from obrin.core.change.states import CLEAR, READY, Between, Done, Step
from obrin.core.errors import ObrinError, OutsideError
from obrin.core.handover.secrets import Secrets
from obrin.core.handover.sheet.awake import sleeps
from obrin.core.known import NotKnown
from obrin.core.settled.model import Settled
from obrin.live.connect.journal import Journal
from obrin.live.drivers.by_hand.drivers import ByHand
from obrin.live.drivers.by_hand.person import HandStep
from obrin.live.drivers.protocol import Ends, Progress, Report
from obrin.live.files import private_folder
from obrin.live.observe.status import ask_once
from obrin.live.packs import handed_over, retire_old
from obrin.live.project import Project
from obrin.live.reshape.built import keep_built
from obrin.live.reshape.change_file import Record, forget, record_path
from obrin.live.reshape.seeing import Sight, look
from obrin.live.reshape.times import due
from obrin.live.reshape.work import At, cloud_work, gateway_work

SETTLING = 30.0
"""Seconds that a state has to become what it is said to be."""
LOOK_EVERY = 0.5
_OTHER_WAY = {READY: CLEAR, CLEAR: READY}


@dataclass(frozen=True, slots=True)
class Carrying:
    """What carrying out needs. `step` is what one takes: it is begun when the window of its place
    is open for so long, and late enough if it interrupts something; None at any time. `unseen`:
    it goes on, too, where it cannot be seen whether a step has its effect."""

    project: Project
    ends: Ends
    secrets: Secrets
    report: Report
    settling: float = SETTLING
    step: timedelta | None = None
    unseen: bool = False
    now: Callable[[], datetime] = lambda: datetime.now(UTC)
    sleep: Callable[[float], None] = time.sleep


def carry_on(
    carrying: Carrying, looks: Outlooks, record: Record, order: Sequence[Step]
) -> list[Sight]:
    """Do every step that is left; what was seen after each. Raises OutsideError for one that fails,
    after which something is not as said, or whose effect is not seen: it stops there, and can go on
    or back."""
    private_folder(carrying.project.own_folder)
    lines = Lines(looks.between, order)
    sights = list[Sight]()
    done: Done = frozenset(step for step in order if step.name in record.done)
    left = [step for step in order if step.name not in record.done]
    for number, step in enumerate(left):
        _in_time(carrying, left[number:], done, looks, looks.between)
        record.begun = step.name
        record.write(record_path(carrying.project))
        done |= {step}
        _do(carrying, looks.between, step, done, lines.of(step))
        sights.append(_checked(carrying, looks, step, done))
        record.done.append(step.name)
        record.begun = ""
        record.write(record_path(carrying.project))
    _check_whole(carrying, looks.between.after)
    for driver in _by_hand(carrying.ends):
        driver.stands(looks.between.after)
    packs = handed_over(carrying.project, looks.between.after).packs
    for note in retire_old(carrying.project, packs):
        carrying.report(Progress("packs", "done", note))
    keep_built(carrying.project)
    return sights


def go_back(
    carrying: Carrying, looks: Outlooks, record: Record, order: Sequence[Step]
) -> list[Sight]:
    """Undo what is done, the last first. Raises OutsideError likewise."""
    back = Outlooks(Between(looks.between.after, looks.between.before))
    touched = [s for s in order if s.name in (*record.done, record.begun)]
    lines = Lines(looks.between, order)
    sights = list[Sight]()
    done: Done = frozenset(_other_way(s) for s in order if s not in touched)
    left = [_other_way(step) for step in reversed(touched)]
    for number, (step, undone) in enumerate(zip(reversed(touched), left, strict=True)):
        _in_time(carrying, left[number:], done, back, looks.between)
        record.begun = step.name
        record.write(record_path(carrying.project))
        done |= {undone}
        _do(carrying, back.between, undone, done, inverse(lines.of(step)))
        sights.append(_checked(carrying, back, undone, done))
        record.done = [name for name in record.done if name != step.name]
        record.begun = ""
        record.write(record_path(carrying.project))
    _check_whole(carrying, looks.between.before)
    for driver in _by_hand(carrying.ends):
        driver.stands(looks.between.before)
    forget(carrying.project)
    return sights


def _checked(carrying: Carrying, looks: Outlooks, step: Step, done: Done) -> Sight:
    sight = _check(carrying, looks, step, done)
    carrying.report(Progress(step.name, "done", sight.words))
    return sight


def need_assigned(between: Between, ends: Ends) -> None:
    """Raises ObrinError for a cloud by hand that assigns something only once it is built."""
    for name, driver in ends.clouds.items():
        if isinstance(driver, ByHand) and driver.assigns_anew(between.before, between.after):
            raise ObrinError(
                f"cloud {name} assigns addresses only once its gateway is built, and the steps of "
                "others need them. Build it first: 'obrin connect --by-hand'; then change the rest"
            )


def need_everybody(steps: Iterable[Step], ends: Ends) -> None:
    """Raises ObrinError for a place where nobody does its steps, before the first of them."""
    there = {*ends.clouds, *ends.gateways}
    missing = list(dict.fromkeys(step.place for step in steps if step.place not in there))
    if missing:
        raise ObrinError(
            f"nobody does the steps at {', '.join(missing)}: not in the file of places, nor in the "
            "practice world that runs. Name who does them there, give --by-hand, or start the "
            "practice world with this design"
        )


def _by_hand(ends: Ends) -> list[ByHand]:
    drivers = [*ends.clouds.values(), *ends.gateways.values()]
    return [driver for driver in drivers if isinstance(driver, ByHand)]


def _have_entered(driver: ByHand, step: Step, lines: Sequence[Line]) -> None:
    """A person does it, from the values of the sheets that differ."""
    shown = HandStep(
        name=step.name,
        title=f"{step.leg or step.kind} at {step.place}",
        lines=tuple((f"{x.what}: {x.part}: {x.called}", x.value) for x in one_by_one(lines)),
        look="whether it is there as entered, before you say so",
        who=driver.who,
    )
    if lines:
        driver.have_entered(shown)


def _other_way(step: Step) -> Step:
    return Step(_OTHER_WAY.get(step.kind, step.kind), step.place, step.leg)


def _in_time(
    carrying: Carrying, left: Sequence[Step], done: Done, looks: Outlooks, between: Between
) -> None:
    """Waits until the first of the steps that are left may be begun, for the time of one step at
    most. Raises OutsideError where that is later."""
    while carrying.step is not None:
        now = carrying.now()
        found = due(left, done, looks, between, now, carrying.step)
        if found is None:
            return
        name, seconds = left[0].name, (found.begin - now).total_seconds()
        if found.begin - now > carrying.step:
            raise OutsideError(
                f"{name}: {found.why}. Run it again {found.begin:%a %Y-%m-%d %H:%M} UTC, or give "
                "--any-time"
            )
        carrying.report(Progress(name, "waiting", f"until {found.begin:%H:%M} UTC", seconds))
        carrying.sleep(seconds)


def _do(
    carrying: Carrying, between: Between, step: Step, done: Done, lines: Sequence[Line]
) -> None:
    ends, report = carrying.ends, carrying.report
    report(Progress(step.name, "begun"))
    held = ends.clouds.get(step.place) or ends.gateways.get(step.place)
    if isinstance(held, ByHand):
        _have_entered(held, step, lines)
    elif step.place in ends.clouds:
        driver = ends.clouds[step.place]
        served = [name for name, other in ends.clouds.items() if other is driver]
        work = cloud_work(between, step, done, At(driver, served, carrying.secrets))
        with closing(Journal(carrying.project.journal_path)) as journal:
            for made in work.make:
                journal.note_made(made.name, carrying.project.design_path.stem)
                driver.do(made, report, threading.Event())
            for name in work.remove:
                driver.remove(name, report)
                journal.removed(name)
    elif step.place in ends.gateways:
        gateway = ends.gateways[step.place]
        gateway.hand_over(*gateway_work(between, step.place, done, carrying.secrets))
    else:
        raise OutsideError(f"{step.place} has no endpoint: this step cannot be sent")


def _check_whole(carrying: Carrying, settled: Settled) -> None:
    """At the end, ask both ends of every tunnel and circuit until they agree that it is up. Raises
    OutsideError for one that is not; run again, only this is left to do."""
    until = time.monotonic() + carrying.settling
    asleep = {tunnel.label for tunnel in settled.tunnels() if sleeps(settled, tunnel)}
    while True:
        ways = [way for way in ask_once(settled, carrying.ends) if way.tunnel not in asleep]
        wrong = [way for way in ways if way.right is False]
        if not wrong:
            break
        if time.monotonic() > until:
            raise OutsideError(
                f"all steps are done, and {wrong[0].tunnel} is {wrong[0].state}. It stops here: "
                "mend that and run it again, or give --back"
            )
        time.sleep(LOOK_EVERY)
    unseen = [f"{w.tunnel} ({w.right.why})" for w in ways if isinstance(w.right, NotKnown)]
    sight = Sight("", tuple(way.tunnel for way in ways if way.right is True), unseen=tuple(unseen))
    carrying.report(Progress("all tunnels and circuits", "done", sight.words))


def _check(carrying: Carrying, looks: Outlooks, step: Step, done: Done) -> Sight:
    """Ask until everything is as it is said to be after this step. Raises OutsideError where it is
    not, and where the effect of the step itself cannot be seen and nobody said to go on."""
    until = time.monotonic() + carrying.settling
    while True:
        sight = look(carrying.ends, looks, step, done)
        over = time.monotonic() > until
        if sight.odd and over:
            raise OutsideError(
                f"{step.name}: after it, {sight.odd[0]}. It stops here: mend that and run it "
                "again, or give --back"
            )
        unknown = sight.effect if isinstance(sight.effect, NotKnown) else None
        if not sight.odd and (unknown is None or carrying.unseen):
            return sight
        if not sight.odd and unknown is not None and (sight.by_hand or over):
            raise OutsideError(
                f"{step.name}: it is done, and whether it has its effect is not seen: "
                f"{unknown.why}. It stops here: look there, then give --unseen to go on, or --back"
            )
        time.sleep(LOOK_EVERY)
