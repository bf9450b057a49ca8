"""From a design and the choices for its blanks to the settled design."""

from __future__ import annotations

from datetime import date

from obrin.core.design.model import Design
from obrin.core.settle.choices import Choices
from obrin.core.settled.indexing import make_index
from obrin.core.settled.model import Settled
from obrin.core.settled.picking import Picker
from obrin.core.settled.places import cloud_of, gateways_of, networks_of
from obrin.core.settled.ways import Ground, circuit_of, link_of, over


def build_settled(design: Design, choices: Choices, today: date | None = None) -> Settled:
    """Raises SettleError when a blank has no choice yet.

    With `today`, what was granted until an earlier day is gone: links are left out, and flows that
    had to work must not any more.
    """
    picker = Picker(design, choices)
    networks, networks6 = networks_of(picker)
    gateways = gateways_of(picker, networks, networks6)
    clouds = {name: cloud_of(picker, name, cloud) for name, cloud in design.clouds.items()}
    ground = Ground.of(picker, networks, gateways, clouds)
    circuits = {name: circuit_of(ground, name, c) for name, c in design.circuits.items()}
    links = {
        name: link_of(ground, name, link)
        for name, link in design.links.items()
        if not over(link.until, today)
    }
    wishes = tuple(
        wish.model_copy(update={"must": "not"}) if over(wish.until, today) else wish
        for wish in design.expectations
    )
    return Settled(
        design, networks, networks6, gateways, clouds, links, circuits, wishes,
        frozenset(name for name, site in design.sites.items() if site.internal_bgp),
        make_index(wishes, links, circuits, clouds),
    )  # fmt: skip
