"""What the ends of a design need to have: a gateway of a cloud, an AS number for BGP."""

from __future__ import annotations

from dataclasses import dataclass

from obrin.core.design.joining import Circuit
from obrin.core.design.model import Design, Link


@dataclass(frozen=True, slots=True, kw_only=True)
class Needs:
    """Names: of clouds with a gateway, of clouds and of site gateways that speak BGP."""

    cloud_gateways: frozenset[str]
    clouds_with_bgp: frozenset[str]
    gateways_with_bgp: frozenset[str]


def needs_of(design: Design) -> Needs:
    """A member of a hub that nothing else leads to has no gateway, unless the design says something
    of it. Without BGP nothing needs a number."""
    joining: list[Link | Circuit] = [*design.links.values(), *design.circuits.values()]
    led_to = {way.cloud for way in joining}
    hubs = [cloud.hub for cloud in design.clouds.values() if cloud.hub is not None]
    members = {name for hub in hubs for name in hub.members}
    return Needs(
        cloud_gateways=frozenset(
            name
            for name, cloud in design.clouds.items()
            if name in led_to or name not in members or "gateway" in cloud.model_fields_set
        ),
        clouds_with_bgp=frozenset(way.cloud for way in joining if way.routing == "bgp"),
        gateways_with_bgp=frozenset(_speaking(design)),
    )


def _speaking(design: Design) -> set[str]:
    found = {
        tunnel.gateway
        for link in design.links.values()
        if link.routing == "bgp"
        for tunnel in link.tunnels.values()
    }
    found |= {c.gateway for c in design.circuits.values() if c.routing == "bgp"}
    for site in design.sites.values():
        if site.internal_bgp:
            found |= site.gateways.keys()
    return found
