"""Expectations held against the model's routes and filters, there and back."""

from __future__ import annotations

from collections.abc import Iterator

from obrin.core.check.finding import Finding, Severity
from obrin.core.check.flows.parts import Parts, parts
from obrin.core.check.flows.standins import filters_alike
from obrin.core.design.reader import Location
from obrin.core.design.wishes import HostRule
from obrin.core.quantity import plain
from obrin.core.reach.model import ReachModel
from obrin.core.reach.trace import probe_key, stopped, there_and_back, trace
from obrin.core.settled.expected import Expected
from obrin.core.settled.model import Settled


def expectations(settled: Settled) -> Iterator[Finding]:
    model = ReachModel(settled)
    blocks = Parts(model)
    yield from filters_alike(settled, model)
    for expectation in settled.expectations:
        index = expectation.number - 1
        here: Location = ("expectations", index)
        largest = expectation.largest or 0
        load = expectation.load or largest
        if largest > load:
            yield Finding(
                Severity.WARNING,
                "largest-above-load",
                (*here, "largest"),
                f"the largest connection carries {plain(largest)} Mbit/s, all of them together "
                f"{plain(load)} Mbit/s",
                "one cannot carry more than all: loads after failures are counted wrongly",
                "exchange the two, or correct one",
            )
        flow = expectation.words
        if expectation.must == "work":
            there, back = there_and_back(model, expectation)
            if there.dropped:
                yield _unmet(here, flow, there.dropped, "")
            elif back is not None and back.dropped:
                yield _unmet(here, flow, back.dropped, " the answer")
            elif back is not None and there.ways != back.ways[::-1]:
                yield Finding(
                    Severity.WARNING,
                    "paths-part",
                    here,
                    f"{flow} goes by {there.tunnel}, its answer comes by "
                    f"{back.tunnel or 'no tunnel'}",
                    "a device that keeps state on only one of the two ways drops the answer",
                    "let both ends prefer the same way; 'obrin trace' shows both hop by hop",
                )
            if not stopped(there, back):
                yield from parts(index, expectation, blocks)
        elif (asked := _asked_by(settled, expectation)) is not None:
            yield Finding(
                Severity.ERROR,
                "expectation-contradicts",
                here,
                f"{flow} must not work, and expectation {asked} wants some or all of it to work",
                "both cannot be: the filters let it through",
                "take one of the two out, or name in both the hosts and ports that are meant",
            )
        elif _may_pass(model, expectation):
            yield Finding(
                Severity.ERROR,
                "expectation-leak",
                here,
                f"{flow} must not work, and nothing on the way drops it",
                "more is reachable than was asked for",
                "narrow the filter rule that lets it through",
            )


def _asked_by(settled: Settled, wish: Expected) -> int | None:
    """The number of an expectation that wants what this one forbids."""
    for other in settled.expectations_at(wish.source.place):
        if other.must != "work" or not other.flow.overlaps(wish.flow):
            continue
        ends = (other.source, wish.source), (other.destination, wish.destination)
        if all(one.covers(two) or two.covers(one) for one, two in ends):
            return other.number
    return None


def _unmet(here: Location, flow: str, reason: str, what: str) -> Finding:
    return Finding(
        Severity.ERROR,
        "expectation-unmet",
        here,
        f"{flow} must work;{what or ' it'} stops: {reason}",
        "users of this flow get no answer",
        next((cure for part, cure in _CURES if part in reason), _OTHERWISE),
    )


_OTHERWISE = "add the route or filter rule that is missing, or drop the expectation"
# What the trace says where it stops, and which key of the design puts it right.
_CURES = (
    ("propagation is off", "turn 'propagation' on there, or write the route into its 'table'"),
    (
        "no route",
        "let a link or circuit carry the network ('networks', 'only'), or a hub's table learn it "
        "('learns'), or drop the expectation",
    ),
    ("source translation", "correct 'exempt' of the site's 'internet', or leave it blank"),
    ("way to the internet", "say where it leads there ('internet'), or drop the expectation"),
    ("use the internet access", "add the network to the site's 'internet'"),
    ("sends it nowhere", "change that route of the subnet's 'table'"),
    (
        "no rule lets",
        "add a rule to the 'filters' there, or leave 'filters' out: then just what expectations "
        "need is let through",
    ),
    (
        "firewall of the hosts",
        "add the flow to the network's 'hosts-accept', or drop the expectation",
    ),
    ("traffic selectors", "add the network to the link's 'networks', or drop the expectation"),
    ("behind", "correct the prefix: it is advertised by a place that does not have it"),
)


def _may_pass(model: ReachModel, expectation: Expected) -> bool:
    """Whether any first packet of the flow could get through: there is a way, and the filters on it
    overlap. Every gateway of the two sites is tried, as the others may fail."""
    settled = model.settled
    ends = [expectation.source.place, expectation.destination.place]
    if ends[0] == ends[1]:
        return True
    states = [model]
    for place in ends:
        gateways = settled.sites[place].gateways if place in settled.sites else ()
        if len(gateways) > 1:
            for alone in gateways:
                others = [leg.label for g in gateways if g != alone for leg in settled.legs_at(g)]
                states.append(model.without(others))
    return any(_could_pass(state, expectation) for state in states)


def _lets_some(settled: Settled, rule: HostRule, wish: Expected) -> bool:
    """Whether the firewall of the hosts lets in some packet of the flow."""
    place = wish.destination.place
    senders = settled.host_senders(rule, place)
    return rule.allow.overlaps(wish.flow) and (
        senders is None
        or any(p.overlaps(s) for p in senders for s in settled.seen_as(wish.source, place))
    )


def _could_pass(model: ReachModel, wish: Expected) -> bool:
    """The way that the flow takes now, and whether each filter on it has a rule for some of it."""
    settled = model.settled
    found = trace(model.unfiltered(), wish.source, probe_key(settled, wish))
    if found.dropped:
        return False
    accepts = settled.hosts_accept(wish.destination)
    if accepts is not None and not any(_lets_some(settled, rule, wish) for rule in accepts):
        return False
    for place in found.filters:
        here = place if place in settled.clouds else settled.gateways[place].site
        known = settled.seen_as(wish.source, here), settled.seen_as(wish.destination, here)
        if not any(
            rule.could_match(source, destination, wish.flow)
            for rule in model.rules(place).rules
            for source in known[0]
            for destination in known[1]
        ):
            return False
    return True
