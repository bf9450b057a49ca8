"""What two ends will say to each other: every exchange, what is agreed or what fails, and when.

The same offers, choice and lifetimes as in the wire engine, played through in order (RFC 7296):

- IKE_SA_INIT: the first of the initiator's proposals that the responder allows; a wrong guess of
  the group is asked again (INVALID_KE_PAYLOAD, section 1.2).
- IKE_AUTH: identities and keys; and the first child, which takes its keys from the IKE SA without
  a group of its own, so that a difference in perfect forward secrecy shows only at its first rekey;
  its traffic selectors are narrowed to what both ends have (section 2.9). Further child SAs, where
  an end holds one pair of selectors in each, are made like rekeys.
- Rekeys: lifetimes are not negotiated (section 2.8), each end acts on its own; so the end whose
  time comes first proposes, and what it may propose can differ from what was agreed at first.
- A device that reauthenticates instead deletes the IKE SA and starts anew (section 2.8.3).

Two ends that share IKEv1 only go through its phases instead (`phases.py`).

The invariant. It ends where the engines end: the same exchange, the same notify, at the same time.

Proven: `tests/wire/test_agreement.py` lets both engines speak for random pairs of ends.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

from obrin.core.ipsec.ends import (
    AUTH_FAILED,
    NO_PROPOSAL,
    OTHER_VERSION,
    SELECTORS_APART,
    End,
    Step,
    apart,
    child_count,
    first_refused,
    names,
    selected,
    stranger,
)
from obrin.core.ipsec.offers import (
    FIRST_SHARE,
    JITTER,
    SECOND_SHARE,
    child_offers,
    esp_lifetime,
    ike_lifetime,
    ike_offers,
)
from obrin.core.ipsec.phases import predict_phases
from obrin.core.ipsec.proposal import Proposal, choose
from obrin.core.ipsec.registry import Kind
from obrin.core.ipsec.suite import Suite
from obrin.core.quantity import plain


def predict(initiator: End, responder: End, *, same_key: bool = True) -> tuple[Step, ...]:
    """The exchanges in the order of their time, up to the first that ends it all."""
    both = initiator.versions & responder.versions
    if not both:
        spoken = [
            " and ".join(f"IKEv{v}" for v in sorted(e.versions)) or "nothing"
            for e in (initiator, responder)
        ]
        text = f"{initiator.name} speaks {spoken[0]}, {responder.name} {spoken[1]}"
        return (Step(0, 0, "IKE_SA_INIT", text, OTHER_VERSION),)
    version = max(both)
    ends = initiator.speaking(version), responder.speaking(version)
    if version == 1:
        return tuple(predict_phases(*ends, same_key=same_key))
    return tuple(_predict(*ends, same_key))


def _predict(one: End, two: End, same_key: bool) -> Iterator[Step]:
    offered, accepted = ike_offers(one.suites), ike_offers(two.suites)
    agreed = choose(offered, accepted)
    if agreed is None:
        yield Step(0, 0, "IKE_SA_INIT", apart(offered, accepted, two), NO_PROPOSAL)
        return
    again = _again(agreed, one.suites[0].ike.group.number)
    yield Step(0, 0, "IKE_SA_INIT", names(agreed) + again + _decided(one, two))
    fault = stranger(one, two) or stranger(two, one)
    if not fault and not same_key:
        fault = f"{two.name} finds that the pre-shared keys differ"
    if fault:
        yield Step(0, 0, "IKE_AUTH", fault, AUTH_FAILED)
        return
    yield Step(0, 0, "IKE_AUTH", "identities and proofs fit")
    offered = child_offers(one.suites, with_group=False)
    accepted = child_offers(two.suites, with_group=False)
    child = choose(offered, accepted)
    if child is None:
        text = f"{apart(offered, accepted, two)}; the IKE SA stays, without a child SA"
        yield Step(0, 0, "first child SA", text, NO_PROPOSAL)
        return
    narrowed = selected(one, two)
    if narrowed is None:
        text = f"{two.name} has none of the traffic selectors; the IKE SA stays, without a child SA"
        yield Step(0, 0, "first child SA", text, SELECTORS_APART)
        return
    missed = first_refused(one, two)
    if missed:
        text = f"{two.name} does not have {missed}; the next pair is asked for"
        yield Step(0, 0, "first child SA", text, SELECTORS_APART)
    else:
        text = f"{names(child)}; keys from the IKE SA, no group of its own{narrowed}"
        yield Step(0, 0, "first child SA", text)
    if missed or child_count(one, two) > 1:
        # With a group of their own, as in rekeys: a difference in PFS shows here already.
        text, notify = _child_rekey(one, two)
        yield Step(0, 0, "further child SAs", text, notify)
        if missed and notify:
            return
    rekeys = [
        _rekey("first child rekey", one, two, child, esp_lifetime, _child_rekey),
        _rekey("IKE rekey", one, two, agreed, ike_lifetime, _ike_rekey),
    ]
    for steps in sorted(rekeys, key=lambda found: found[0].earliest):
        yield from steps


Rekey = Callable[[End, End], tuple[str, str]]


def _rekey(
    name: str,
    one: End,
    two: End,
    agreed: Proposal,
    life: Callable[[tuple[Suite, ...], Proposal], float],
    rekey: Rekey,
) -> list[Step]:
    lives = [life(end.suites, agreed) for end in (one, two)]
    windows = [
        (seconds * share, seconds * (share + JITTER))
        for seconds, share in zip(lives, (FIRST_SHARE, SECOND_SHARE), strict=True)
    ]
    if windows[0][1] < windows[1][0]:
        movers = [(one, two)]
    elif windows[1][1] < windows[0][0]:
        movers = [(two, one)]
    else:
        movers = [(one, two), (two, one)]
    if name == "IKE rekey" and movers[0][0].reauthenticates:
        name = "reauthentication"
    earliest = min(low for low, _ in windows)
    latest = min(high for _, high in windows)
    outcomes = {mover.name: rekey(mover, other) for mover, other in movers}
    failed = {who: found for who, found in outcomes.items() if found[1]}
    who, (text, notify) = next(iter(failed.items() or outcomes.items()))
    maybe = "may come first" if len(movers) > 1 else "acts"
    step = Step(earliest, latest, name, f"{who} {maybe}: {text}", notify)
    if not notify:
        return [step]
    end = min(lives)
    what = "no traffic passes" if name.startswith("first child") else "the tunnel starts anew"
    return [
        step,
        Step(
            end,
            end,
            f"end of the {name.split()[-2]} SA",
            f"its lifetime of {plain(end)} s is over: {what}",
            "lifetime ended",
        ),
    ]


def _child_rekey(mover: End, other: End) -> tuple[str, str]:
    offered = child_offers(mover.suites, with_group=True)
    accepted = child_offers(other.suites, with_group=True)
    chosen = choose(offered, accepted)
    if chosen is None:
        return apart(offered, accepted, other), NO_PROPOSAL
    first = mover.suites[0].esp.group
    return names(chosen) + _again(chosen, 0 if first is None else first.number), ""


def _ike_rekey(mover: End, other: End) -> tuple[str, str]:
    if mover.reauthenticates:
        return (
            "deletes the IKE SA and starts anew with IKE_SA_INIT and IKE_AUTH; no traffic passes "
            "for about a second"
        ), ""
    offered, accepted = ike_offers(mover.suites), ike_offers(other.suites)
    chosen = choose(offered, accepted)
    if chosen is None:
        return apart(offered, accepted, other), NO_PROPOSAL
    return names(chosen) + _again(chosen, mover.suites[0].ike.group.number), ""


def _decided(one: End, two: End) -> str:
    """Say who decides, where there was something to decide (RFC 7296 section 3.3)."""
    if len(one.suites) == 1:
        return ""
    return f"; the first of {len(one.suites)} that {one.name} offers and {two.name} accepts"


def _again(chosen: Proposal, guess: int) -> str:
    group = chosen.one(Kind.GROUP)
    if group is None or group.number == guess:
        return ""
    return f"; asked again with group {group.number} (INVALID_KE_PAYLOAD)"


@dataclass(frozen=True, slots=True)
class Edit:
    """A change that makes both ends able to use `suite`: at these ends it has to be offered."""

    suite: str
    ends: tuple[str, ...]


def smallest_edit(
    ends: tuple[End, End], known: dict[str, Suite], preferred: Callable[[Suite], tuple[bool, int]]
) -> Edit:
    """The suite that the fewest ends lack; among equals the one that `preferred` puts first."""

    def cost(suite: Suite) -> tuple[int, tuple[bool, int]]:
        return sum(suite not in end.suites for end in ends), preferred(suite)

    best = min(known.values(), key=cost)
    return Edit(best.name, tuple(end.name for end in ends if best not in end.suites))
