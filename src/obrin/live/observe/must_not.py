"""Whether a flow that must not work is kept out, when nothing of it was answered: silence proves
nothing where nothing passes at all.

Proof is a device that says it dropped the packet, for the reason that the design has or for one
that is stricter; or an answer to another flow between the same two networks, which shows that
packets cross and hosts answer.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from obrin.core.design.values import PROTOCOLS
from obrin.core.known import NotKnown, Verdict
from obrin.core.reach.model import ReachModel
from obrin.core.reach.paths import path_there_and_back
from obrin.core.settled.expected import Expected
from obrin.live.observe.outcome import ANSWERED, REFUSED, Outcome

DOWN, ROUTE, FILTER, OTHER = "down", "route", "filter", "other"
_KINDS = (
    (FILTER, ("filter", "firewall", "selectors")),
    (DOWN, (" is down", " has no ", "tunnel ")),
    (ROUTE, ("no route", "nowhere", "no subnet", "no network", "no host", "propagation")),
)
"""Kinds of reasons for a drop, by words of the model's reasons and the practice devices'."""
_UDP = PROTOCOLS["udp"]


def judged(model: ReachModel, outcomes: Sequence[Outcome]) -> list[Outcome]:
    """The same outcomes; those of flows that must not work with a verdict."""
    return [
        replace(one, kept_out=_kept_out(model, one, outcomes))
        if one.expectation.must != "work"
        else one
        for one in outcomes
    ]


def kind_of(reason: str) -> str:
    """What sort of reason a drop has."""
    return next((kind for kind, words in _KINDS if any(w in reason for w in words)), OTHER)


def _kept_out(model: ReachModel, one: Outcome, all_of_them: Sequence[Outcome]) -> Verdict:
    if one.problem:
        return NotKnown(one.problem)
    if one.seen == ANSWERED:
        return False
    if one.seen == REFUSED and not one.dropped:
        return False  # the host's own words: the packet got there, and the refusal back
    if one.dropped:
        return _dropped_for(kind_of(one.dropped), kind_of(_reason(model, one.expectation)), one)
    control = next((o for o in all_of_them if o is not one and _shows(o, one)), None)
    if control is not None and one.expectation.flow.protocol != _UDP:
        return True
    unasked = f", and {one.unasked}" if one.unasked else ""
    return NotKnown(
        "no answer, and no device says that it dropped it: nothing shows that it would pass "
        f"without a filter{unasked}"
    )


def _dropped_for(seen: str, wanted: str, one: Outcome) -> Verdict:
    if seen in (wanted, FILTER) or (seen == ROUTE and wanted in (ROUTE, OTHER)):
        return True
    if seen == OTHER:
        return NotKnown(f"{one.dropped}: that is not what keeps it out by the design")
    missing = "the tunnel is down" if seen == DOWN else "it has no route"
    return NotKnown(
        f"{one.dropped}. It was dropped since {missing}: whether the {wanted} of the design keeps "
        "it out is not seen"
    )


def _reason(model: ReachModel, wish: Expected) -> str:
    """Why the model has it dropped, with everything up."""
    paths = path_there_and_back(model, (wish.source, None), (wish.destination, None), wish.flow)
    return paths.there.dropped or (paths.back.dropped if paths.back is not None else "")


def _shows(other: Outcome, one: Outcome) -> bool:
    """Whether another flow was answered between the same two networks, asked from the same."""
    mine, its = one.expectation, other.expectation
    same = (mine.source, mine.destination) == (its.source, its.destination)
    return same and other.seen in (ANSWERED, REFUSED) and not other.problem and not other.dropped
