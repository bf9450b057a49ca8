"""Addresses that belong to the gateways themselves: blocks inside tunnels, and loopbacks."""

from __future__ import annotations

from collections.abc import Iterator

from obrin.core.address.prefix import LINK_LOCAL_IPV4, Address, Prefix
from obrin.core.address.table import PrefixTable
from obrin.core.catalogue.offering import Offered, Offering
from obrin.core.check.finding import Finding, Severity
from obrin.core.design.reader import Location
from obrin.core.settle.blank import suffix
from obrin.core.settled.links import Leg, SettledTunnel
from obrin.core.settled.model import Settled

_LENGTHS = {32: (30, 31), 128: (126, 127)}


def inside_blocks(settled: Settled, offering: Offered) -> Iterator[Finding]:
    """Each block by itself, then those that meet at one gateway."""
    networks = _networks(settled)
    at: dict[str, list[tuple[Prefix, str, Location]]] = {}
    for here, leg, block in placed_blocks(settled):
        yield from _alone(block, leg.label, here, offering.of(leg.cloud), networks)
        for place in (leg.gateway, leg.cloud):
            at.setdefault(place, []).append((block, leg.label, here))
    reported: set[Location] = set()
    for blocks in at.values():
        yield from _twice(blocks, reported)


def placed_blocks(settled: Settled) -> Iterator[tuple[Location, Leg, Prefix]]:
    """The blocks inside tunnels and circuits, of both families, with their places in the design."""
    for leg in settled.legs():
        for block in leg.inside:
            key = f"inside{suffix(block.bits)}"
            here: Location = ("circuits", leg.name, key)
            if isinstance(leg, SettledTunnel):
                here = ("links", leg.link, "tunnels", leg.name, key)
            yield here, leg, block


def _networks(settled: Settled) -> PrefixTable[str]:
    table: PrefixTable[str] = PrefixTable()
    for site in settled.sites:
        for name, prefix in settled.networks_at(site):
            table[prefix] = f"{site}/{name}"
    for name, cloud in settled.clouds.items():
        for space in cloud.all_spaces:
            table[space] = f"cloud {name}"
    for name, entry in settled.surroundings.elsewhere.items():
        reported = entry.prefix.length <= 1  # as a range that is everything
        if not reported and table.get(entry.prefix) is None:
            table[entry.prefix] = f"{name} (elsewhere)"
    return table


def _alone(
    block: Prefix, label: str, here: Location, offering: Offering, networks: PrefixTable[str]
) -> Iterator[Finding]:
    first, second = _LENGTHS[block.bits]
    if block.length not in (first, second):
        yield Finding(
            Severity.ERROR,
            "inside-size",
            here,
            f"{block} is not a point-to-point block",
            "the two ends may take addresses that are not neighbours",
            f"use a /{first} or a /{second}, or leave it blank",
        )
    for reserved in offering.reserved_inside:
        if reserved.overlaps(block):
            yield Finding(
                Severity.ERROR,
                "inside-reserved",
                here,
                f"{block} lies in {reserved}, which the cloud keeps for itself",
                "the cloud refuses the tunnel",
                "use another block, or leave it blank",
            )
    if not LINK_LOCAL_IPV4.covers(block):
        found = networks.match(block.address_at(0)) or networks.match(block.address_at(-1))
        if found is not None:
            yield Finding(
                Severity.ERROR,
                "inside-twice",
                here,
                f"{block} of {label} lies in {found[0]} of {found[1]}",
                "its own addresses are taken for hosts there",
                "use a block of 169.254.0.0/16, or leave it blank"
                if block.bits == 32
                else "use a block that nobody has, or leave it blank",
            )


def _twice(
    blocks: list[tuple[Prefix, str, Location]], reported: set[Location]
) -> Iterator[Finding]:
    """A sorted walk: overlapping blocks at one gateway stand next to each other."""
    above: tuple[Prefix, str, Location] | None = None
    for entry in sorted(blocks, key=lambda item: item[0]):
        block, label, here = entry
        if above is not None and above[0].covers(block):
            if here not in reported:
                reported.add(here)
                yield Finding(
                    Severity.ERROR,
                    "inside-twice",
                    here,
                    f"{block} of {label} is also used by {above[1]}",
                    "answers leave by the wrong tunnel and BGP stays idle",
                    "use another block, or leave it blank",
                )
        else:
            above = entry


def loopbacks(settled: Settled) -> Iterator[Finding]:
    """An address twice, or one that a network has."""
    networks = _networks(settled)
    seen: dict[Address, str] = {
        address: f"uplink {uplink.name} of {gateway.name}"
        for gateway in settled.gateways.values()
        for uplink in gateway.uplinks.values()
        for address in (uplink.address, uplink.own)
    }
    blocks = ((leg.label, block) for leg in settled.legs() for block in leg.inside)
    seen |= {end: label for label, block in blocks for end in block.ends()}
    for gateway in settled.gateways.values():
        if gateway.loopback is None:
            continue
        here: Location = ("sites", gateway.site, "gateways", gateway.name, "loopback")
        found = networks.match(gateway.loopback)
        other = seen.setdefault(gateway.loopback, gateway.name)
        if other != gateway.name or found is not None:
            owner = other if found is None else f"{found[0]} of {found[1]}"
            yield Finding(
                Severity.ERROR,
                "loopback-twice",
                here,
                f"loopback {gateway.loopback} of {gateway.name} is also used by {owner}",
                "BGP identifiers and management sessions meet the wrong device",
                "use another address, or leave it blank",
            )
