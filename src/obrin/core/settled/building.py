"""Build the settled design from a design and the values chosen for its blanks."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import date

from obrin.core.design.model import Design
from obrin.core.design.needs import needs_of
from obrin.core.design.places import NetworkRef, Reference, format_part
from obrin.core.design.reader import Location
from obrin.core.design.rules import holders_of_filters, holders_of_host_rules
from obrin.core.errors import Misfit
from obrin.core.settle.choices import Choices
from obrin.core.settled.clouds import cloud_of
from obrin.core.settled.expected import expected, families_of
from obrin.core.settled.granting import granted_by, in_force
from obrin.core.settled.links import Ground, circuit_of, link_of
from obrin.core.settled.model import Settled
from obrin.core.settled.picking import Picker
from obrin.core.settled.ranks import rank_ways
from obrin.core.settled.sites import gateways_of, sites_of
from obrin.core.settled.standing import standards_of, surroundings_of
from obrin.core.settled.summing import with_summaries


def build_settled(design: Design, choices: Choices, today: date | None = None) -> Settled:
    """Raises SettleError when a blank has no choice yet, Misfit for values that do not fit.

    With `today`, what was granted until an earlier day is gone (see `in_force`).
    """
    granted, whole = tuple(granted_by(design)), design
    if today is not None and any(access.until < today for access in granted):
        design = in_force(design, today)
    picker, needs = Picker(design, choices), needs_of(design)
    ranks = rank_ways(design)
    sites = sites_of(picker, {site: tuple(ranked) for site, ranked in ranks.items()})
    gateways = gateways_of(picker, needs, sites)
    clouds = {name: cloud_of(picker, needs, name, cloud) for name, cloud in design.clouds.items()}
    ground = Ground(picker=picker, sites=sites, gateways=gateways, clouds=clouds, ranks=ranks)
    links = {name: link_of(ground, name, link) for name, link in design.links.items()}
    circuits = {name: circuit_of(ground, name, c) for name, c in design.circuits.items()}
    settled = Settled(
        name=design.name,
        sites=sites,
        gateways=gateways,
        clouds=clouds,
        links=with_summaries(design, sites, clouds, links, circuits),
        circuits=circuits,
        expectations=tuple(
            expected(
                design.expectations,
                lambda reference: families_of(reference, sites, clouds, picker.families),
            )
        ),
        granted=granted,
        standards=standards_of(design),
        surroundings=surroundings_of(design),
        chosen=frozenset(choices),
        accepted_findings=tuple(design.accepted_findings),
    )
    _parts_fit(whole, settled)
    return settled


def _parts_fit(design: Design, settled: Settled) -> None:
    """Hosts and parts of networks that a design names must be in them. Raises Misfit."""
    for place, reference in _references(design):
        if isinstance(reference, NetworkRef) and reference.part is not None:
            wholes = settled.families_at(reference.whole)
            if not any(whole.covers(reference.part) for whole in wholes):
                raise Misfit(
                    place,
                    f"{format_part(reference.part)} is not inside {wholes} of {reference.whole}",
                    "Give an address of it, or a prefix inside it",
                )


def _references(design: Design) -> Iterator[tuple[Location, Reference]]:
    """Every name of a network in flows and rules, with its place."""
    for index, wish in enumerate(design.expectations):
        yield ("expectations", index, "from"), wish.source
        yield ("expectations", index, "to"), wish.destination
    for here, host_rules in holders_of_host_rules(design):
        for index, host_rule in enumerate(host_rules):
            if host_rule.source is not None:
                yield (*here, index, "from"), host_rule.source
    for here, rules in holders_of_filters(design):
        for index, rule in enumerate(rules):
            yield (*here, index, "from"), rule.source
            yield (*here, index, "to"), rule.destination
