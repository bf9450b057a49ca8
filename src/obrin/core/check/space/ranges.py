"""What kind of range things were given: nobody's, somebody's on the internet, or one's own."""

from __future__ import annotations

from collections.abc import Iterator

from obrin.core.address.prefix import Prefix, parse_prefix
from obrin.core.address.special import is_public, special
from obrin.core.address.ula import UNIQUE_LOCAL
from obrin.core.check.finding import Finding, Severity
from obrin.core.check.space.inside import placed_blocks
from obrin.core.design.reader import Location
from obrin.core.settle.blank import suffix
from obrin.core.settled.expected import FAMILY_NAMES
from obrin.core.settled.model import Settled
from obrin.core.settled.sites import SettledNetwork

_NOT_LOCAL = parse_prefix("fc00::/8")
"""The half of unique local space whose L bit is clear (RFC 4193 section 3.1)."""


def ranges(settled: Settled) -> Iterator[Finding]:
    own = [prefix for pool in settled.surroundings.pools.values() for prefix in pool.prefixes]
    reported: set[Location] = set()
    for here, owner, prefix in _given(settled):
        yield from _nobodys(here, owner, prefix)
        place = here[:2]
        if is_public(prefix) and place not in reported and not _within(prefix, own):
            reported.add(place)
            yield _public(here, owner, prefix)
    for here, owner, prefix in _of_gateways(settled):
        if is_public(prefix) and not _within(prefix, own):
            yield _of_somebody(here, owner, prefix)
    yield from _not_local(settled)
    yield from _inner_routers(settled)


Given = Iterator[tuple[Location, str, Prefix]]


def _given(settled: Settled) -> Given:
    """Say where hosts are. What lies in a cloud's space is judged with it."""
    for name, site in settled.sites.items():
        for network in site.networks.values():
            for prefix in network.prefix:
                here = ("sites", name, "networks", network.name)
                yield here, f"{name}/{network.name}", prefix
    for name, cloud in settled.clouds.items():
        for prefix in cloud.all_spaces:
            yield ("clouds", name, "space"), f"cloud {name}", prefix


def _of_gateways(settled: Settled) -> Given:
    for here, leg, block in placed_blocks(settled):
        yield here, f"the block inside {leg.label}", block
    for gateway in settled.gateways.values():
        if gateway.loopback is not None:
            here = (*settled.location_of(gateway.name), "loopback")
            yield here, f"the loopback address of {gateway.name}", gateway.loopback.alone


def _inner_routers(settled: Settled) -> Iterator[Finding]:
    """A router that leads to a network stands in another one, beside the gateways."""
    for site in settled.sites.values():
        for network in site.networks.values():
            yield from _other_family(site.name, network)
            for inner in network.behind:
                if settled.network_of_router(site.name, inner) is not None:
                    continue
                key = f"behind{suffix(inner.bits)}"
                yield Finding(
                    Severity.ERROR,
                    "behind-nowhere",
                    ("sites", site.name, "networks", network.name, key),
                    f"{network.name} is to be reached by {inner}, which is in none of the networks "
                    f"of {site.name} that its gateways stand in",
                    "the gateways have no way to that router, and drop what is for the network",
                    "give the router's address on the gateways' side of it",
                )


def _within(prefix: Prefix, wide: list[Prefix]) -> bool:
    return any(one.covers(prefix) for one in wide)


def _nobodys(here: Location, owner: str, prefix: Prefix) -> Iterator[Finding]:
    found = special(prefix)
    # A range that is everything is reported as such, a cloud's by what the cloud forbids.
    if found is None or prefix.length <= 1 or here[0] == "clouds":
        return
    if not (found.hosts and found.routed):
        yield Finding(
            Severity.ERROR,
            "range-nobodys",
            here,
            f"{prefix} of {owner} lies in {found.prefix}, which is {found.what}",
            "no host can have an address there that others reach",
            "write the range that the network really has, or leave it blank",
        )


def _public(here: Location, owner: str, prefix: Prefix) -> Finding:
    return Finding(
        Severity.NOTE,
        "range-public",
        here,
        f"{prefix} of {owner} is public address space",
        "unless it is yours, whoever has it on the internet cannot be reached any more from here",
        "if it is yours, list it under 'pools'; private ranges are 10.0.0.0/8, 172.16.0.0/12 and "
        "192.168.0.0/16",
    )


def _of_somebody(here: Location, owner: str, prefix: Prefix) -> Finding:
    shown = str(prefix).removesuffix(f"/{prefix.bits}")
    return Finding(
        Severity.WARNING,
        "inside-public",
        here,
        f"{shown}, {owner}, is public address space, and no pool of this design lists it",
        "whoever has it on the internet cannot be reached any more through this gateway",
        "leave it blank, or list the range under 'pools' if it is yours",
    )


def _not_local(settled: Settled) -> Iterator[Finding]:
    """Once for the range that all others come from, otherwise for each."""
    ula = settled.surroundings.ula
    given: list[tuple[Location, str, Prefix]] = []
    if ula is not None:
        given.append((("ula",), "this design", ula))
    given += _given(settled)
    for here, owner, prefix in given:
        mine = ula is not None and here != ("ula",) and ula.covers(prefix)
        if _NOT_LOCAL.covers(prefix) and not mine:
            yield Finding(
                Severity.WARNING,
                "ula-not-local",
                here,
                f"{prefix} of {owner} is in {_NOT_LOCAL}, the half of {UNIQUE_LOCAL} that nobody "
                "hands out yet (RFC 4193, 3.1)",
                "it may be given to somebody else one day, and was not drawn at random",
                "take a /48 of fd00::/8, or leave 'ula' blank to have one drawn",
            )


def _other_family(site: str, network: SettledNetwork) -> Iterator[Finding]:
    """A network that an inner router leads to in one of its two families."""
    for prefix in network.prefix if any(network.behind) else ():
        if network.behind.of(prefix.bits) is None:
            key = f"behind{suffix(prefix.bits)}"
            yield Finding(
                Severity.ERROR,
                "behind-family",
                ("sites", site, "networks", network.name, key),
                f"{prefix} of {site}/{network.name} is behind an inner router, whose address in "
                "that family is not said",
                "the gateways have no route to it there, and announce it all the same",
                f"give '{key}'",
            )


def left_out(settled: Settled) -> Iterator[Finding]:
    """Prefixes of a family that the design does not carry."""
    carried = " and ".join(FAMILY_NAMES[bits] for bits in settled.families)
    for place in settled.surroundings.left_out:
        yield Finding(
            Severity.WARNING,
            "family-left-out",
            place,
            f"it is given, and the design carries {carried} only",
            "nothing is made of it: no route, no rule, no row on a sheet",
            "carry both ('stack: dual'), or take it out",
        )
