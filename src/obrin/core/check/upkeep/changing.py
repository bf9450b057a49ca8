"""What goes wrong on the way from the design that is built to the one that is wanted."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import groupby

from obrin.core.change.advice import advice_for
from obrin.core.change.plan import MOST_FLOWS, Plan, Planned, some_flows
from obrin.core.change.states import Flow
from obrin.core.check.finding import Finding, Severity
from obrin.core.design.reader import Location
from obrin.core.settled.model import Settled


def changing(plan: Plan, before: Settled, after: Settled) -> Iterator[Finding]:
    """Findings about a plan in the best order that there is."""
    yield from _lost(plan, after)
    yield from _opened(plan, after)
    yield from _too_much(plan, after)
    yield from _numbers(before, after)
    yield from _acceptance(plan, after)


def _lost(plan: Plan, after: Settled) -> Iterator[Finding]:
    """One for each reason and the steps in a row that it holds for."""
    reasons = dict.fromkeys(why for planned in plan.steps for _, why in planned.lost)
    for reason in reasons:
        for held in _in_a_row(plan, [any(w == reason for _, w in p.lost) for p in plan.steps]):
            flows = [flow for planned in held for flow, why in planned.lost if why == reason]
            yield Finding(
                Severity.WARNING,
                "change-loses",
                _place(held[0], after),
                f"in every order of this change, {some_flows(flows)} "
                f"{_stop(flows)} {_until(plan, held)}: {reason}",
                "that traffic stands still for as long as these steps take",
                f"{advice_for([reason])}, or do it in a maintenance window",
            )


def _stop(flows: Sequence[Flow]) -> str:
    return "stop" if len(set(flows)) > 1 else "stops"


def _opened(plan: Plan, after: Settled) -> Iterator[Finding]:
    for held in _in_a_row(plan, [bool(planned.opened) for planned in plan.steps]):
        flows = [flow for planned in held for flow in planned.opened]
        yield Finding(
            Severity.ERROR,
            "change-opens",
            _place(held[0], after),
            f"this change lets in {some_flows(flows)} {_until(plan, held)}, though neither design "
            "does",
            "for that time somebody can reach what must not be reached",
            "take away what lets them in first, as a change of its own",
        )


def _too_much(plan: Plan, after: Settled) -> Iterator[Finding]:
    for held in _in_a_row(plan, [bool(planned.too_much) for planned in plan.steps]):
        things = dict.fromkeys(thing for planned in held for thing in planned.too_much)
        yield Finding(
            Severity.WARNING,
            "change-overloads",
            _place(held[0], after),
            f"{_until(plan, held)}, {'; '.join(list(things)[:MOST_FLOWS])}",
            "what is above it is dropped meanwhile, and everything there becomes slow",
            "change it when less is carried, or make room first",
        )


def _numbers(before: Settled, after: Settled) -> Iterator[Finding]:
    """Speakers that get another AS number, with who has to know."""
    pairs = [b for b in after.bundles() if b.routing == "bgp"]
    for name, cloud in after.clouds.items():
        old = before.clouds.get(name)
        if old is not None:
            sites = dict.fromkeys(bundle.site for bundle in pairs if bundle.cloud == name)
            place: Location = ("clouds", name, "gateway", "as")
            yield from _number(place, (old.as_number, cloud.as_number), list(sites))
    for name, gateway in after.gateways.items():
        was = before.gateways.get(name)
        if was is not None:
            site = gateway.site
            clouds = dict.fromkeys(bundle.cloud for bundle in pairs if bundle.site == site)
            place = ("sites", site, "gateways", name, "as")
            yield from _number(place, (was.as_number, gateway.as_number), list(clouds))


def _number(place: Location, numbers: tuple[int, int], others: Sequence[str]) -> Iterator[Finding]:
    """0 is that of a device that speaks no BGP."""
    old, new = numbers
    if others and old and new and old != new:
        expect = "expect" if len(others) > 1 else "expects"
        yield Finding(
            Severity.WARNING,
            "change-as-number",
            place,
            f"{place[-2]} changes its AS number from {old} to {new}, and {', '.join(others)} "
            f"{expect} {old}",
            "all its sessions begin again, and those with a peer that does not change stay down: "
            "the peer refuses its OPEN message (RFC 4271 section 6.2)",
            "inform whoever has a session with it, and follow the order of 'obrin reshape'",
        )


def _acceptance(plan: Plan, after: Settled) -> Iterator[Finding]:
    for planned in plan.steps:
        for wait in planned.waits:
            yield Finding(
                Severity.NOTE,
                "change-waits",
                _place(planned, after),
                f"step {planned.number} of this change works once {wait}",
                "the change stands still there until somebody else acts",
                "ask them before it begins",
            )


def _in_a_row(plan: Plan, holds: Sequence[bool]) -> Iterator[list[Planned]]:
    pairs = zip(holds, plan.steps, strict=True)
    for held, group in groupby(pairs, key=lambda pair: pair[0]):
        if held:
            yield [planned for _, planned in group]


def _until(plan: Plan, held: Sequence[Planned]) -> str:
    first, last = held[0].number, held[-1].number
    if last == len(plan.steps):
        return f"from step {first} on"
    return f"after step {first}, until step {last + 1}"


def _place(planned: Planned, after: Settled) -> Location:
    """What of the design a step is about."""
    step = planned.step
    leg = after.index.by_label.get(step.leg)
    if leg is not None:
        bundle = after.bundle(leg)
        return ("links" if bundle.name in after.links else "circuits", bundle.name)
    if step.place in after.gateways:
        return ("sites", after.gateways[step.place].site, "gateways", step.place)
    return ("clouds", step.place) if step.place in after.clouds else ()
