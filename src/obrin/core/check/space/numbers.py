"""AS numbers."""

from __future__ import annotations

from collections.abc import Iterator

from obrin.core.catalogue.as_numbers import EXAMPLE_AS, PRIVATE_AS, RESERVED_AS
from obrin.core.check.finding import Finding, Severity
from obrin.core.design.reader import Location
from obrin.core.settled.model import Settled


def as_numbers(settled: Settled) -> Iterator[Finding]:
    places: list[tuple[int, str, Location]] = [
        (c.asn, f"cloud {name}", ("clouds", name, "gateway", "as"))
        for name, c in settled.clouds.items()
        if c.asn is not None
    ]
    places += [
        (g.asn, f"gateway {name}", ("sites", g.site, "gateways", name, "as"))
        for name, g in settled.gateways.items()
        if g.asn is not None
    ]
    for number, owner, place in places:
        if number in RESERVED_AS:
            yield Finding(
                Severity.ERROR,
                "as-reserved",
                place,
                f"AS {number} of {owner} is reserved ({RESERVED_AS[number]})",
                "no neighbour takes it: sessions end with 'Bad Peer AS', routes are dropped",
                "use 64512 to 65534 or 4200000000 to 4294967294 (RFC 6996), or leave it blank",
            )
        elif any(number in pool for pool in EXAMPLE_AS):
            yield Finding(
                Severity.WARNING,
                "as-not-private",
                place,
                f"AS {number} of {owner} is a number for examples (RFC 5398)",
                "it was copied from a manual; filters upstream drop routes with it in their path",
                "use 64512 to 65534 or 4200000000 to 4294967294 (RFC 6996), or leave it blank",
            )
        elif not any(number in pool for pool in (*PRIVATE_AS, *settled.standards.own_as)):
            yield Finding(
                Severity.WARNING,
                "as-not-private",
                place,
                f"AS {number} of {owner} is not a private number",
                "it belongs to somebody; routes with it in their path may be dropped upstream",
                "use 64512 to 65534 or 4200000000 to 4294967294 (RFC 6996); one's own belongs into "
                "'as-numbers'",
            )
    for link in settled.bundles():
        if link.routing != "bgp":
            continue
        for gateway_name in dict.fromkeys(leg.gateway for leg in link.legs):
            gateway, cloud = settled.gateways[gateway_name], settled.clouds[link.cloud]
            if gateway.asn == cloud.asn:
                yield Finding(
                    Severity.ERROR,
                    "as-equal-ends",
                    ("sites", gateway.site, "gateways", gateway_name, "as"),
                    f"{gateway_name} and cloud {link.cloud} both have AS {gateway.asn}",
                    f"{link.name} becomes an internal session and its routes are not passed on",
                    "give the two ends different AS numbers, or leave one blank",
                )
    yield from _same_behind_one_gateway(settled)


def _same_behind_one_gateway(settled: Settled) -> Iterator[Finding]:
    for cloud in settled.clouds:
        sites: dict[int, str] = {}
        for tunnel in settled.legs_at(cloud):
            gateway = settled.gateways[tunnel.gateway]
            if settled.bundle(tunnel).routing != "bgp":
                continue
            first = sites.setdefault(gateway.as_number, gateway.site)
            if first != gateway.site:
                yield Finding(
                    Severity.WARNING,
                    "as-equal-sites",
                    ("sites", gateway.site, "gateways", tunnel.gateway, "as"),
                    f"{gateway.site} and {first} both have AS {gateway.asn} behind {cloud}",
                    "each drops the other's routes (AS path loop check), should they be passed on",
                    "give every site a number of its own, or leave it blank",
                )
                sites[gateway.as_number] = gateway.site
