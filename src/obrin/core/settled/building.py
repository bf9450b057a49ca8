"""From a design and the choices for its blanks to the settled design."""

from __future__ import annotations

from datetime import date

from obrin.core.design.model import Design
from obrin.core.settle.choices import Choices
from obrin.core.settled.clouds import cloud_of
from obrin.core.settled.links import Ground, circuit_of, link_of, over
from obrin.core.settled.model import Settled
from obrin.core.settled.picking import Picker
from obrin.core.settled.ranks import rank_ways
from obrin.core.settled.sites import gateways_of, sites_of
from obrin.core.settled.standing import granted_by, standards_of, surroundings_of


def build_settled(design: Design, choices: Choices, today: date | None = None) -> Settled:
    """Raises SettleError when a blank has no choice yet.

    With `today`, what was granted until an earlier day is gone: links are left out, and flows that
    had to work must not any more.
    """
    picker = Picker(design, choices)
    ranks = rank_ways(design)
    sites = sites_of(picker, {site: tuple(ranked) for site, ranked in ranks.items()})
    gateways = gateways_of(picker, sites)
    clouds = {name: cloud_of(picker, name, cloud) for name, cloud in design.clouds.items()}
    ground = Ground(picker=picker, sites=sites, gateways=gateways, clouds=clouds, ranks=ranks)
    return Settled(
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
    )
