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
    ends = [expectation.source.partition("/")[0], expectation.destination.partition("/")[0]]
    if ends[0] == ends[1]:
        return True
    clouds = [e for e in ends if e in settled.clouds]
    sites = [e for e in ends if e not in settled.clouds]
    if len(clouds) != 1 or len(sites) != 1:
        return False
    cloud = clouds[0]
    site = sites[0]
    outbound = ends[0] == site
    at_site, at_cloud = (
        (
            settled.seen_as(expectation.source, place),
            settled.seen_as(expectation.destination, place),
        )
        for place in (site, cloud)
    )
    to_cloud, to_site = at_site[outbound][0], at_cloud[not outbound][0]
    if model.match(cloud, to_site.value) is None:
        return False
    for gateway in settled.design.sites[site].gateways:
        joined = any(t.cloud == cloud for t in settled.tunnels_at(gateway))
        if not joined or model.match(gateway, to_cloud.value) is None:
            continue
        if all(
            any(
                rule.could_match(source, destination, expectation.flow)
                for rule in rules
                for source in known[0]
                for destination in known[1]
            )
            for rules, known in (
                (model.rules(gateway).rules, at_site),
                (model.rules(cloud).rules, at_cloud),
            )
        ):
            return True
    return False
