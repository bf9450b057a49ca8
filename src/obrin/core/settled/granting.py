"""Access with a last day: what is granted until when, and the design once some of it has ended."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import date
from typing import TypeVar

from obrin.core.design.model import Cloud, Design, Expectation
from obrin.core.design.reader import Location
from obrin.core.design.rules import holders_of_filters, holders_of_host_rules
from obrin.core.design.sites import FilterRule, Site
from obrin.core.design.wishes import HostRule

Rule = TypeVar("Rule", FilterRule, HostRule)


@dataclass(frozen=True, slots=True, kw_only=True)
class Granted:
    """`about` says what it is, in words, and `subject` what for; `place` leads to its day. One of
    `link` and `flow` may say whether it is a link or a flow that must work; else it is a rule."""

    place: Location
    until: date
    about: str
    subject: str
    link: str = ""
    flow: Expectation | None = None


def granted_by(design: Design) -> Iterator[Granted]:
    """Flows first, then links, then rules, each in the order of the design."""
    for index, wish in enumerate(design.expectations):
        if wish.until is not None and wish.must == "work":
            subject = f"{wish.flow} from {wish.source} to {wish.destination}"
            yield Granted(
                place=("expectations", index, "until"),
                until=wish.until,
                about=f"access for {subject}",
                subject=subject,
                flow=wish,
            )
    for name, link in design.links.items():
        if link.until is not None:
            yield Granted(
                place=("links", name, "until"),
                until=link.until,
                about=f"link {name}",
                subject=name,
                link=name,
            )
    for here, rules in holders_of_filters(design):
        for index, rule in enumerate(rules):
            if rule.until is not None:
                flow = f"{rule.allow} from {rule.source} to {rule.destination}"
                yield _of_rule((*here, index), rule.until, f"the rule of {here[-2]} for {flow}")
    for here, host_rules in holders_of_host_rules(design):
        for index, host_rule in enumerate(host_rules):
            if host_rule.until is not None:
                about = f"the rule of the hosts in {here[1]}/{here[3]} for {host_rule}"
                yield _of_rule((*here, index), host_rule.until, about)


def _of_rule(place: Location, until: date, about: str) -> Granted:
    return Granted(place=(*place, "until"), until=until, about=about, subject=about)


def in_force(design: Design, today: date) -> Design:
    """Leave out links and rules that ended before; flows that had to work must not any more."""
    return design.model_copy(
        update={
            "links": {n: link for n, link in design.links.items() if not _over(link.until, today)},
            "expectations": [
                wish.model_copy(update={"must": "not"}) if _over(wish.until, today) else wish
                for wish in design.expectations
            ],
            "clouds": {name: _cloud(cloud, today) for name, cloud in design.clouds.items()},
            "sites": {name: _site(site, today) for name, site in design.sites.items()},
        }
    )


def _over(until: date | None, today: date) -> bool:
    return until is not None and until < today


def _left(rules: list[Rule] | None, today: date) -> list[Rule] | None:
    """Filter a list; None stays: it means what is usual. A list that has become empty lets
    nothing through."""
    return None if rules is None else [rule for rule in rules if not _over(rule.until, today)]


def _cloud(cloud: Cloud, today: date) -> Cloud:
    subnets = {
        name: subnet.model_copy(update={"hosts_accept": _left(subnet.hosts_accept, today)})
        for name, subnet in cloud.subnets.items()
    }
    filters = _left(cloud.filters, today)
    return cloud.model_copy(update={"filters": filters, "subnets": subnets})


def _site(site: Site, today: date) -> Site:
    gateways = {
        name: gateway.model_copy(update={"filters": _left(gateway.filters, today)})
        for name, gateway in site.gateways.items()
    }
    networks = {
        name: network.model_copy(update={"hosts_accept": _left(network.hosts_accept, today)})
        for name, network in site.networks.items()
    }
    return site.model_copy(update={"gateways": gateways, "networks": networks})
