"""Every place of a design that holds rules of a filter, or of the firewalls of hosts."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from obrin.core.design.model import Design
from obrin.core.design.reader import Location
from obrin.core.design.sites import FilterRule
from obrin.core.design.wishes import HostRule, Wish


def holders_of_filters(design: Design) -> Iterator[tuple[Location, Sequence[FilterRule]]]:
    """Clouds, then gateways, in the order of the design; those that leave it blank are left out."""
    for name, cloud in design.clouds.items():
        if cloud.filters is not None:
            yield ("clouds", name, "filters"), cloud.filters
    for name, site in design.sites.items():
        for gateway, device in site.gateways.items():
            if device.filters is not None:
                yield ("sites", name, "gateways", gateway, "filters"), device.filters


def holders_of_host_rules(design: Design) -> Iterator[tuple[Location, Sequence[HostRule]]]:
    """Networks of sites, then subnets of clouds, likewise."""
    asked: list[tuple[Location, Wish]] = [
        (("sites", name, "networks", network), wish)
        for name, site in design.sites.items()
        for network, wish in site.networks.items()
    ]
    asked += [
        (("clouds", name, "subnets", subnet), wish)
        for name, cloud in design.clouds.items()
        for subnet, wish in cloud.subnets.items()
    ]
    for place, wish in asked:
        if wish.hosts_accept is not None:
            yield (*place, "hosts-accept"), wish.hosts_accept
