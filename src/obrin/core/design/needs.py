"""What the ends of a design need to have: a gateway of a cloud, an AS number for BGP."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from obrin.core.address.prefix import parse_address
from obrin.core.design.joining import Circuit
from obrin.core.design.model import Design, Link


@dataclass(frozen=True, slots=True, kw_only=True)
class Needs:
    """Names: of clouds with a gateway, of clouds and of site gateways that speak BGP. `outside` are
    the families of the uplinks that lead to a cloud, in bits, IPv4 first."""

    cloud_gateways: frozenset[str]
    clouds_with_bgp: frozenset[str]
    gateways_with_bgp: frozenset[str]
    outside: Mapping[str, tuple[int, ...]]


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
        outside={name: tuple(sorted(found)) for name, found in _outside(design).items()},
    )


def _outside(design: Design) -> dict[str, set[int]]:
    """A cloud to which no uplink leads has IPv4."""
    found: dict[str, set[int]] = {}
    for link in design.links.values():
        gateways = design.sites[link.site].gateways
        for tunnel in link.tunnels.values():
            address = gateways[tunnel.gateway].uplinks[tunnel.uplink].address
            found.setdefault(link.cloud, set()).add(parse_address(address).bits)
    return {name: found.get(name, {32}) for name in design.clouds}


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
