"""From a design and the choices for its blanks to the settled design."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import date

from obrin.core.design.model import Design
from obrin.core.design.places import NetworkRef, Reference, format_part
from obrin.core.design.reader import Location
from obrin.core.design.sites import FilterRule
from obrin.core.errors import Misfit
from obrin.core.settle.choices import Choices
from obrin.core.settled.clouds import cloud_of
from obrin.core.settled.links import Ground, circuit_of, link_of, over
from obrin.core.settled.model import Settled
from obrin.core.settled.picking import Picker
from obrin.core.settled.ranks import rank_ways
from obrin.core.settled.sites import gateways_of, sites_of
from obrin.core.settled.standing import granted_by, standards_of, surroundings_of


def build_settled(design: Design, choices: Choices, today: date | None = None) -> Settled:
    """Raises SettleError when a blank has no choice yet, Misfit for values that do not fit.

    With `today`, what was granted until an earlier day is gone: links are left out, and flows that
    had to work must not any more.
    """
    picker = Picker(design, choices)
    ranks = rank_ways(design)
    sites = sites_of(picker, {site: tuple(ranked) for site, ranked in ranks.items()})
    gateways = gateways_of(picker, sites)
    clouds = {name: cloud_of(picker, name, cloud) for name, cloud in design.clouds.items()}
    ground = Ground(picker=picker, sites=sites, gateways=gateways, clouds=clouds, ranks=ranks)
    settled = Settled(
        name=design.name,
        sites=sites,
        gateways=gateways,
        clouds=clouds,
        links={
            name: link_of(ground, name, link)
            for name, link in design.links.items()
            if not over(link.until, today)
        },
        circuits={name: circuit_of(ground, name, c) for name, c in design.circuits.items()},
        expectations=tuple(
            wish.model_copy(update={"must": "not"}) if over(wish.until, today) else wish
            for wish in design.expectations
        ),
        granted=tuple(granted_by(design)),
        standards=standards_of(design),
        surroundings=surroundings_of(design),
        chosen=frozenset(choices),
        accepted_findings=tuple(design.accepted_findings),
    )
    _parts_fit(settled)
    return settled


def _parts_fit(settled: Settled) -> None:
    """Hosts and parts of networks that a design names must be in them. Raises Misfit."""
    for place, reference in _references(settled):
        if isinstance(reference, NetworkRef) and reference.part is not None:
            whole = settled.network(reference.whole)
            if not whole.covers(reference.part):
                raise Misfit(
                    place,
                    f"{format_part(reference.part)} is not inside {whole} of {reference.whole}",
                    "Give an address of it, or a prefix inside it",
                )


def _references(settled: Settled) -> Iterator[tuple[Location, Reference]]:
    """Every name of a network in flows and rules, with its place in the design."""
    for index, wish in enumerate(settled.expectations):
        yield ("expectations", index, "from"), wish.source
        yield ("expectations", index, "to"), wish.destination
    for network, accepts in settled.all_hosts_accept():
        at = ("sites", "networks") if network.place in settled.sites else ("clouds", "subnets")
        here: Location = (at[0], network.place, at[1], network.network, "hosts-accept")
        for index, host_rule in enumerate(accepts):
            if host_rule.source is not None:
                yield (*here, index, "from"), host_rule.source
    given: list[tuple[Location, tuple[FilterRule, ...] | None]] = [
        (("clouds", cloud.name), cloud.filters) for cloud in settled.clouds.values()
    ]
    given += [(settled.location_of(g.name), g.filters) for g in settled.gateways.values()]
    for here, rules in given:
        for index, rule in enumerate(rules or ()):
            yield (*here, "filters", index, "from"), rule.source
            yield (*here, "filters", index, "to"), rule.destination
