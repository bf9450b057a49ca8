"""What a design gives in a family that it does not carry."""

from __future__ import annotations

from collections.abc import Iterator

from obrin.core.design.model import Design
from obrin.core.design.reader import Location
from obrin.core.settle.blank import suffix
from obrin.core.settle.holders import site_space
from obrin.core.settle.work import cloud_space, families, gateway_subnet, given_prefix


def left_out(design: Design) -> tuple[Location, ...]:
    """The places of prefixes that nothing is made of."""
    others = [bits for bits in (32, 128) if bits not in families(design)]
    return tuple(place for bits in others for place in _given(design, bits))


def _given(design: Design, bits: int) -> Iterator[Location]:
    tail = suffix(bits)
    for name, site in design.sites.items():
        if site_space(site, bits):
            yield ("sites", name, f"space{tail}")
        for network, wish in site.networks.items():
            if given_prefix(wish, bits) is not None:
                yield ("sites", name, "networks", network, f"prefix{tail}")
    for name, cloud in design.clouds.items():
        if cloud_space(cloud, bits):
            yield ("clouds", name, f"space{tail}")
        for subnet, part in cloud.subnets.items():
            if given_prefix(part, bits) is not None:
                yield ("clouds", name, "subnets", subnet, f"prefix{tail}")
        if gateway_subnet(cloud, bits) is not None:
            yield ("clouds", name, "gateway", f"subnet{tail}")
    for name, link in design.links.items():
        for tunnel, entry in link.tunnels.items():
            if (entry.inside if bits == 32 else entry.inside6) is not None:
                yield ("links", name, "tunnels", tunnel, f"inside{tail}")
    for name, circuit in design.circuits.items():
        if (circuit.inside if bits == 32 else circuit.inside6) is not None:
            yield ("circuits", name, f"inside{tail}")
