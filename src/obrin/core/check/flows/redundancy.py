"""Redundancy: what a site's flows to a cloud depend on, over everything that joins the two.

A tunnel that dies is not an outage where another link or a circuit carries the same networks; and
two tunnels are not redundant where one thing takes both. So a link is judged with all that can
stand in for it: what joins the same site, carries at least its networks, and leads to at least what
it leads to.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from obrin.core.address.prefix import Address
from obrin.core.address.translation import Exposure
from obrin.core.check.finding import Finding, Severity
from obrin.core.check.flows.routing import same_networks
from obrin.core.design.reader import Location
from obrin.core.settled.links import (
    Bundle,
    Leg,
    SettledCircuit,
    SettledLink,
    SettledTunnel,
)
from obrin.core.settled.model import Settled


def redundancy(settled: Settled) -> Iterator[Finding]:
    by_site: dict[str, list[Bundle]] = {}
    for bundle in settled.bundles():
        by_site.setdefault(bundle.site, []).append(bundle)
    reported: set[frozenset[str]] = set()
    bundles: list[Bundle] = [*settled.links.values(), *settled.circuits.values()]
    for bundle in bundles:
        beside = [b for b in by_site[bundle.site] if b is bundle or _stands_in(b, bundle)]
        legs = [leg for b in beside for leg in b.legs]
        together = frozenset(leg.label for leg in legs)
        if together in reported:
            continue  # said of the first of them
        reported.add(together)
        if len(legs) == 1:
            others = (b for b in by_site[bundle.site] if b is not bundle)
            # A line of one's own is not all that there is where something else carries a part.
            if isinstance(bundle, SettledLink) or not any(_meet(b, bundle) for b in others):
                yield _alone(bundle)
        else:
            yield from _shared_fate(settled, bundle, beside, legs)


def _stands_in(other: Bundle, bundle: Bundle) -> bool:
    """Whether what one bundle carries can go by another one of the same site."""
    return _covers(other.exposures, bundle.exposures) and _covers(
        other.cloud_exposures, bundle.cloud_exposures
    )


def _covers(wide: tuple[Exposure, ...], narrow: tuple[Exposure, ...]) -> bool:
    """Also by the same prefixes where they are translated: hosts call each other by one address."""
    return all(
        any(
            one.real.covers(part.real) and one.outward_prefix(part.real) == part.seen
            for one in wide
        )
        for part in narrow
    )


def _meet(one: Bundle, other: Bundle) -> bool:
    """Whether the networks of the other can go by this one to some of where they go."""
    return _covers(one.exposures, other.exposures) and same_networks(one, other)


def _place(bundle: Bundle) -> Location:
    """Say where the finding points; for a link, its tunnels."""
    here = bundle.place
    return here if isinstance(bundle, SettledCircuit) else (*here, "tunnels")


def _alone(bundle: Bundle) -> Finding:
    if isinstance(bundle, SettledCircuit):
        return Finding(
            Severity.WARNING,
            "circuit-alone",
            _place(bundle),
            f"circuit {bundle.name} is the only way from {bundle.site} to {bundle.cloud}",
            "when the line is cut, the site is cut off until it is mended",
            "add a link with tunnels as the backup",
        )
    return Finding(
        Severity.ERROR,
        "one-tunnel",
        _place(bundle),
        f"link {bundle.name} has one tunnel",
        "any failure and any maintenance cuts the site off",
        "add a tunnel over another uplink to another instance",
    )


@dataclass(frozen=True, slots=True)
class _Fate:
    """What all legs depend on, in words, and the cure."""

    severity: Severity
    kind: str
    what: str
    fix: str


def _shared_fate(
    settled: Settled, bundle: Bundle, beside: list[Bundle], legs: list[Leg]
) -> Iterator[Finding]:
    who = f"all tunnels of link {bundle.name} depend on"
    if len(beside) > 1:
        who = f"all that joins {bundle.site} and {bundle.cloud} depends on"
    for fate in _fates(settled, legs):
        yield Finding(
            fate.severity,
            f"shared-{fate.kind}",
            _place(bundle),
            f"{who} {fate.what}",
            "when it fails, all of them fail with it",
            fate.fix,
        )
    if len({leg.gateway for leg in legs}) == 1:
        yield Finding(
            Severity.NOTE,
            "one-gateway",
            _place(bundle),
            f"{who} gateway {legs[0].gateway}"
            if len(beside) > 1
            else f"all tunnels of link {bundle.name} end at gateway {legs[0].gateway}",
            "when the device fails or restarts, the site is cut off",
            "add a second gateway at the site, if that outage is too long",
        )


def _fates(settled: Settled, legs: list[Leg]) -> Iterator[_Fate]:
    """A circuit is a line of its own, and ends at no instance."""
    first = legs[0]
    tunnels = [leg for leg in legs if isinstance(leg, SettledTunnel)]
    whole = len(tunnels) == len(legs)
    uplinks = {(t.gateway, t.uplink.name) for t in tunnels}
    providers = {_provider(leg) for leg in legs}
    if whole and len(uplinks) == 1:
        uplink, site = tunnels[0].uplink.name, settled.gateways[first.gateway].site
        if sum(len(settled.gateways[g].uplinks) for g in settled.sites[site].gateways) > 1:
            fix = "lead one of them over another uplink"
            yield _Fate(Severity.ERROR, "uplink", f"uplink {uplink}", fix)
        else:
            what = f"uplink {uplink}, the only one of {site}"
            fix = "order a second path to the internet, if the site cannot bear that outage"
            yield _Fate(Severity.WARNING, "uplink", what, fix)
    elif len(providers) == 1:
        fix = "use an uplink of another provider"
        yield _Fate(Severity.ERROR, "provider", f"provider {providers.pop()}", fix)
    if whole and len({(t.cloud, t.instance) for t in tunnels}) == 1:
        fix = "end one of them at the other instance"
        if len(settled.clouds[first.cloud].instances) == 1:
            fix = "run two instances and end one tunnel at each"
        what = f"instance {tunnels[0].instance} of {first.cloud}"
        yield _Fate(Severity.ERROR, "instance", what, fix)


def _provider(leg: Leg) -> str:
    """Say whose line it is; a line of nobody known is a line of its own."""
    if isinstance(leg, SettledCircuit):
        return leg.provider or leg.label
    return leg.uplink.provider or f"{leg.gateway}/{leg.uplink.name}"


def same_ends(settled: Settled) -> Iterator[Finding]:
    """Two tunnels between the same two public addresses: neither end can tell them apart."""
    seen: dict[tuple[Address, Address], str] = {}
    for tunnel in settled.tunnels():
        ends = (tunnel.uplink.address, tunnel.cloud_address)
        first = seen.setdefault(ends, tunnel.label)
        if first != tunnel.label:
            yield Finding(
                Severity.ERROR,
                "tunnel-same-ends",
                ("links", tunnel.link, "tunnels", tunnel.name),
                f"{tunnel.label} and {first} both run between {ends[0]} and {ends[1]}",
                "neither end can tell them apart: one of them never comes up",
                "give the gateways public addresses of their own, or end it at another instance",
            )
