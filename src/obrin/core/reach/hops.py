"""Names of the routers on a path, found by the addresses that answered."""

from __future__ import annotations

from collections.abc import Iterable

from obrin.core.address.prefix import Address
from obrin.core.settled.model import Settled

SILENT = "one that says nothing"


def hop_name(settled: Settled, places: Iterable[str], router: Address | None) -> str:
    """Name one hop of a path between two places. The inside address with which a gateway answers
    tells which tunnel was used. An address that the design does not know is not repeated."""
    if router is None:
        return SILENT
    held = set(places)
    for leg in settled.legs():
        near = {leg.cloud, settled.gateways[leg.gateway].site}
        if not near & held:
            continue
        for end, at_site in ((leg.gateway, True), (leg.cloud, False)):
            if router in leg.insides(at_site=at_site):
                return f"{end} at {leg.label}"
    for site in settled.sites.values():
        for name, network in site.networks.items():
            if any(prefix.holds(router) for prefix in network.prefix):
                return f"a router in {site.name}/{name}"
    return "a router that the design does not know"
