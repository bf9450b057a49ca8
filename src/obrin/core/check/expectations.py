"""Expectations held against the model's routes and filters, there and back."""

from __future__ import annotations

from collections.abc import Iterator

from obrin.core.check.finding import Finding, Severity
from obrin.core.design.model import Expectation
from obrin.core.design.reader import Location
from obrin.core.design.settled import Settled
from obrin.core.reach.model import ReachModel
from obrin.core.reach.trace import there_and_back


def expectations(settled: Settled) -> Iterator[Finding]:
    model = ReachModel(settled)
    for index, expectation in enumerate(settled.expectations):
        here: Location = ("expectations", index)
        flow = f"{expectation.flow} from {expectation.source} to {expectation.destination}"
        if expectation.must == "work":
            there, back = there_and_back(model, expectation)
            if there.dropped:
                yield _unmet(here, flow, there.dropped, "")
            elif back is not None and back.dropped:
                yield _unmet(here, flow, back.dropped, " the answer")
        elif _may_pass(model, expectation):
            yield Finding(
                Severity.ERROR, "expectation-leak", here,
                f"{flow} must not work, and nothing on the way drops it",
                "more is reachable than was asked for",
                "narrow the filter rule that lets it through",
            )  # fmt: skip


def _unmet(here: Location, flow: str, reason: str, what: str) -> Finding:
    return Finding(
        Severity.ERROR, "expectation-unmet", here,
        f"{flow} must work;{what or ' it'} stops: {reason}",
        "users of this flow get no answer",
        "add the route or filter rule that is missing, or drop the expectation",
    )  # fmt: skip


def _may_pass(model: ReachModel, expectation: Expectation) -> bool:
    """Whether any first packet of the flow could get through: routes exist and filters overlap."""
    settled = model.settled
    source = settled.network(expectation.source)
    destination = settled.network(expectation.destination)
    ends = [expectation.source.partition("/")[0], expectation.destination.partition("/")[0]]
    if ends[0] == ends[1]:
        return True
    clouds = [e for e in ends if e in settled.clouds]
    sites = [e for e in ends if e not in settled.clouds]
    if len(clouds) != 1 or len(sites) != 1:
        return False
    cloud = clouds[0]
    to_site, to_cloud = (destination, source) if ends[1] == sites[0] else (source, destination)
    if model.table(cloud).match(to_site.value) is None:
        return False
    for gateway in settled.design.sites[sites[0]].gateways:
        joined = any(t.cloud == cloud for t in settled.tunnels_at(gateway))
        if not joined or model.table(gateway).match(to_cloud.value) is None:
            continue
        if all(
            any(rule.could_match(source, destination, expectation.flow) for rule in rules)
            for rules in (model.rules(gateway).rules, model.rules(cloud).rules)
        ):
            return True
    return False
