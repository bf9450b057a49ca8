"""What is seen after a step of a change: what is as the plan says, what is not, and what nobody can
be asked about."""

from __future__ import annotations

from dataclasses import dataclass

from obrin.core.change.as_design import state
from obrin.core.change.outlook import UNPROMISED, Outlooks
from obrin.core.change.states import NONE, Done, Step
from obrin.core.handover.sheet.awake import sleeps
from obrin.core.known import NotKnown, Verdict, all_of
from obrin.core.settled.expected import Expected
from obrin.core.settled.links import SettledTunnel
from obrin.core.settled.model import Settled
from obrin.live.drivers.protocol import Ends
from obrin.live.observe.outcome import ANSWERED
from obrin.live.observe.probe import probe_one
from obrin.live.observe.status import ask_once

MOST_NAMED = 3


@dataclass(frozen=True, slots=True)
class Sight:
    """`seen` is what was looked at and is as said, `odd` what is not as said, `unseen` what could
    not be looked at, with why. `effect` is whether the step does what it is for: not known where
    that could not be looked at. `by_hand`: waiting does not help, since no driver can be asked."""

    step: str
    seen: tuple[str, ...] = ()
    odd: tuple[str, ...] = ()
    unseen: tuple[str, ...] = ()
    effect: Verdict = True
    by_hand: bool = False

    @property
    def words(self) -> str:
        """What was checked, and what was not."""
        parts = [f"{len(self.seen)} checked" if self.seen else "nothing to check"]
        if self.unseen:
            listed = "; ".join(self.unseen[:MOST_NAMED])
            more = "; ..." if len(self.unseen) > MOST_NAMED else ""
            parts = [f"{len(self.seen)} checked", f"not seen: {listed}{more}"]
        return ", ".join(parts)

    def as_json(self) -> dict[str, object]:
        why = self.effect.why if isinstance(self.effect, NotKnown) else ""
        return {
            "name": self.step,
            "seen": list(self.seen),
            "not_seen": list(self.unseen),
            "effect": None if isinstance(self.effect, NotKnown) else self.effect,
            "why_not_known": why,
        }


def _by_flow(settled: Settled) -> dict[tuple[str, str, str], Expected]:
    wishes = settled.own_expectations()
    return {(str(wish.source), str(wish.destination), wish.service): wish for wish in wishes}


def not_askable(ends: Ends, looks: Outlooks, done: Done) -> list[str]:
    """Flows that nobody can be asked about now, with why: a step that changes one of them has an
    effect that is not seen."""
    settled = state(looks.between, done)
    wishes = _by_flow(settled)
    found = []
    for flow in looks.between.flows:
        wish = wishes.get((flow.source, flow.destination, flow.service))
        problem = "" if wish is None else probe_one(settled, ends, wish).problem
        if problem:
            found.append(f"{flow.words}: {problem}")
    return found


def look(ends: Ends, looks: Outlooks, step: Step, done: Done) -> Sight:
    """Look once at every flow that the plan says something of, and at the tunnel or circuit of the
    step. `done` has the step itself."""
    outlook, before = looks.of(done), looks.of(done - {step})
    settled = state(looks.between, done)
    wishes = _by_flow(settled)
    seen, odd, unseen, effect = list[str](), list[str](), list[str](), list[Verdict]()
    for flow in looks.between.flows:
        works = flow in outlook.works
        wish = wishes.get((flow.source, flow.destination, flow.service))
        if outlook.why.get(flow) in UNPROMISED or wish is None:
            continue
        outcome = probe_one(settled, ends, wish)
        if outcome.problem:
            unseen.append(f"{flow.words} ({outcome.problem})")
            if works is not (flow in before.works):
                effect.append(NotKnown(f"{flow.words}: {outcome.problem}"))
        elif (outcome.seen == ANSWERED) is works:
            seen.append(flow.words)
        else:
            odd.append(f"{flow.words} {'does not work' if works else 'works, and should not yet'}")
    up, by_hand = _up(ends, looks, step, done)
    effect.append(True if up is None else up)
    if isinstance(up, NotKnown):
        unseen.append(f"{step.leg} ({up.why})")
    elif up is False:
        odd.append(f"{step.leg} is not up at both ends")
    elif up:
        seen.append(step.leg)
    found = all_of(effect)
    return Sight(step.name, tuple(seen), tuple(odd), tuple(unseen), found, by_hand)


def _up(ends: Ends, looks: Outlooks, step: Step, done: Done) -> tuple[Verdict | None, bool]:
    """Whether the tunnel or circuit of a step carries, by both its ends, and whether an end is done
    by hand; None where the step leaves it without both ends, or asleep. A tunnel of which an end
    was just changed has to carry before the next step: another may go down with that."""
    if not step.leg or looks.between.version(step.leg, done) == NONE:
        return None, False
    settled = looks.between.after
    leg = settled.index.by_label.get(step.leg)
    if leg is None or (isinstance(leg, SettledTunnel) and sleeps(settled, leg)):
        return None, False
    name = leg.link if isinstance(leg, SettledTunnel) else leg.name
    found = next(s for s in ask_once(settled, ends, [name]) if s.tunnel == step.leg)
    return found.as_wished, found.by_hand
