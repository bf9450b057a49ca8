"""What is to be seen after a step before anybody goes on, and what it may be if it is not."""

from __future__ import annotations

from dataclasses import dataclass

from obrin.core.change.groups import Groups
from obrin.core.change.states import LEG, NEW, NONE, READY, Between, Done, Step
from obrin.core.handover.sheet.awake import sleeps
from obrin.core.handover.sheet.steps import leg_check
from obrin.core.settled.links import SettledTunnel


@dataclass(frozen=True, slots=True)
class Sign:
    """`look` is short enough for a table; `check` says all that is to be seen, and `otherwise`
    where to look where it is not seen."""

    look: str
    check: str
    otherwise: str


def sign_of(groups: Groups, step: Step) -> Sign:
    """After the step is done in the groups that it touches."""
    if step.kind == LEG:
        (group,) = groups.by_step[step]
        return _of_leg(group.looks.between, step, group.done)
    return _READY if step.kind == READY else _CLEAR


_READY = Sign(
    "what is listed is there, and nothing else has changed",
    "the device shows every line above, and what worked before works",
    "a flow that stopped: a line was changed or removed where it was to be added",
)
_CLEAR = Sign(
    "what is listed is gone, and everything works",
    "the device shows none of the lines that were removed, and every flow works",
    "a flow that stopped still used what was removed: enter it again and report that",
)


def _of_leg(between: Between, step: Step, done: Done) -> Sign:
    label, version = step.leg, between.version(step.leg, done)
    leg = between.after.index.by_label.get(label)
    if leg is None or step.place not in (leg.gateway, leg.cloud):
        return Sign(
            f"{label} is gone at this end, and what used it goes on",
            f"the device shows no {label} any more, and every flow works",
            "it is still up: an entry of it is left",
        )
    if version == NONE:
        if between.is_joined(label, done):
            return Sign(
                f"{label} stays up, and carries nothing until its other end is changed",
                f"the IKE SA of {label} is up; no route leads into it from both ends yet",
                "it went down: another value of it was changed, too",
            )
        return Sign(
            f"{label} is down at this end, and what used it goes on",
            f"{label} is down until its other end is changed, and every flow works",
            "a flow stopped: it had no other way; go on with the next step, or take this one back",
        )
    settled = between.after
    if isinstance(leg, SettledTunnel) and sleeps(settled, leg):
        look = (
            f"{label} is up at both ends once the site has sent something: "
            "it starts for traffic alone, and loses the first packets"
        )
        return Sign(look, look, leg_check(settled, step.place, label)[1])
    look = f"{label} is up at both ends"
    check, otherwise = leg_check(settled, step.place, label)
    return Sign(look, check if version == NEW else look, otherwise)
