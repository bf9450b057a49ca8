"""AS numbers and inside addresses."""

from __future__ import annotations

from collections.abc import Iterator

from obrin.core.address.prefix import LINK_LOCAL_IPV4, Prefix
from obrin.core.check.finding import Finding, Severity
from obrin.core.design.offering import Offering
from obrin.core.design.reader import Location
from obrin.core.design.settled import Settled
from obrin.core.design.settling.numbers import PRIVATE_AS


def as_numbers(settled: Settled) -> Iterator[Finding]:
    places: list[tuple[int, str, Location]] = [
        (c.asn, f"cloud {name}", ("clouds", name, "gateway", "as"))
        for name, c in settled.clouds.items()
    ]
    places += [
        (g.asn, f"gateway {name}", ("sites", g.site, "gateways", name, "as"))
        for name, g in settled.gateways.items()
    ]
    for number, owner, place in places:
        if not any(number in pool for pool in PRIVATE_AS):
            yield Finding(
                Severity.WARNING, "as-not-private", place,
                f"AS {number} of {owner} is not a private number",
                "it belongs to somebody; routes with it in their path may be dropped upstream",
                "use 64512 to 65534 or 4200000000 to 4294967294 (RFC 6996), or leave it blank",
            )  # fmt: skip
    for name, link in settled.links.items():
        if link.routing != "bgp":
            continue
        for gateway_name in dict.fromkeys(t.gateway for t in link.tunnels):
            gateway, cloud = settled.gateways[gateway_name], settled.clouds[link.cloud]
            if gateway.asn == cloud.asn:
                yield Finding(
                    Severity.ERROR, "as-equal-ends",
                    ("sites", gateway.site, "gateways", gateway_name, "as"),
                    f"{gateway_name} and cloud {link.cloud} both have AS {gateway.asn}",
                    f"link {name} becomes an internal session and its routes are not passed on",
                    "give the two ends different AS numbers, or leave one blank",
                )  # fmt: skip
    yield from _same_behind_one_gateway(settled)


def _same_behind_one_gateway(settled: Settled) -> Iterator[Finding]:
    for cloud in settled.clouds:
        sites: dict[int, str] = {}
        for tunnel in settled.tunnels():
            gateway = settled.gateways[tunnel.gateway]
            if tunnel.cloud != cloud or settled.links[tunnel.link].routing != "bgp":
                continue
            first = sites.setdefault(gateway.asn, gateway.site)
            if first != gateway.site:
                yield Finding(
                    Severity.WARNING, "as-equal-sites",
                    ("sites", gateway.site, "gateways", tunnel.gateway, "as"),
                    f"{gateway.site} and {first} both have AS {gateway.asn} behind {cloud}",
                    "each drops the other's routes (AS path loop check), should they be passed on",
                    "give every site a number of its own, or leave it blank",
                )  # fmt: skip
                sites[gateway.asn] = gateway.site


def inside_blocks(settled: Settled, offering: Offering) -> Iterator[Finding]:
    seen: dict[str, list[tuple[Prefix, str]]] = {}
    by_value: dict[tuple[str, int], str] = {}
    for tunnel in settled.tunnels():
        here: Location = ("links", tunnel.link, "tunnels", tunnel.name, "inside")
        block = tunnel.inside
        if block.length not in (30, 31):
            yield Finding(
                Severity.ERROR, "inside-size", here,
                f"{block} is not a point-to-point block",
                "the two ends may take addresses that are not neighbours",
                "use a /30 or a /31, or leave it blank",
            )  # fmt: skip
        for reserved in offering.reserved_inside:
            if reserved.overlaps(block):
                yield Finding(
                    Severity.ERROR, "inside-reserved", here,
                    f"{block} lies in {reserved}, which the cloud keeps for itself",
                    "the cloud refuses the tunnel", "use another block, or leave it blank",
                )  # fmt: skip
        if not LINK_LOCAL_IPV4.covers(block):
            yield from _not_link_local(settled, block, tunnel.label, here)
        ends = (tunnel.gateway, tunnel.cloud)
        other = next(
            (
                label
                for end in ends
                for label in (
                    by_value.get((end, block.value)),
                    *(label for prefix, label in seen.get(end, ()) if prefix.overlaps(block)),
                )
                if label is not None
            ),
            None,
        )
        if other is not None:
            yield Finding(
                Severity.ERROR, "inside-twice", here,
                f"{block} of {tunnel.label} is also used by {other}",
                "answers leave by the wrong tunnel and BGP stays idle",
                "use another block, or leave it blank",
            )  # fmt: skip
        for end in ends:
            by_value[end, block.value] = tunnel.label
            if block.length != 30:
                seen.setdefault(end, []).append((block, tunnel.label))


def _not_link_local(
    settled: Settled, block: Prefix, label: str, here: Location
) -> Iterator[Finding]:
    for reference, prefix in [
        *((f"{s}/{n}", p) for s, held in settled.networks.items() for n, p in held.items()),
        *((f"cloud {n}", p) for n, c in settled.clouds.items() for p in c.spaces),
    ]:
        if prefix.overlaps(block):
            yield Finding(
                Severity.ERROR, "inside-twice", here,
                f"{block} of {label} lies in {prefix} of {reference}",
                "the tunnel's own addresses are taken for hosts there",
                "use a block of 169.254.0.0/16, or leave it blank",
            )  # fmt: skip
