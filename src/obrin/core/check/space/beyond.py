"""The internet: default routes, and what source translation takes or leaves."""

from __future__ import annotations

from collections.abc import Iterator

from obrin.core.address.prefix import Prefix
from obrin.core.address.special import is_public
from obrin.core.check.finding import Finding, Severity
from obrin.core.design.joining import NOWHERE
from obrin.core.design.places import NetworkRef
from obrin.core.reach.model import ReachModel
from obrin.core.reach.trace import own_route, trace
from obrin.core.routing.model import accepted_at_site
from obrin.core.routing.packet import TCP, PacketKey
from obrin.core.settled.links import SettledLink
from obrin.core.settled.model import Settled, host_of
from obrin.core.settled.sites import SettledAccess
from obrin.core.settled.telling import announced_by_cloud, announced_by_site


def beyond(settled: Settled) -> Iterator[Finding]:
    wished = {wish.source.place for wish in settled.expectations if wish.destination.is_internet}
    seen: Seen = {}
    for link in settled.links.values():
        yield from _default(settled, link, wished)
    for site in settled.sites.values():
        if site.internet is not None and site.internet.exempt is not None:
            yield from _taken(settled, site.name, site.internet, site.internet.exempt, seen)
            yield from _spared(site.name, site.internet.exempt)
    yield from _nowhere(settled)


def _default(settled: Settled, link: SettledLink, wished: set[str]) -> Iterator[Finding]:
    """The default route, whole or in halves. Where flows to the internet are expected, it is these
    that say what is right."""
    both = (announced_by_cloud(link), "cloud-summaries"), (announced_by_site(link), "summaries")
    for prefixes, key in both:
        wide = [prefix for prefix in prefixes if prefix.length <= 1]
        near, far = link.site, link.cloud
        onward = settled.clouds[far].is_hub and settled.clouds[far].internet
        if key == "summaries":
            near, far, onward = far, near, settled.sites[near].internet is not None
        # The address that stands for the internet is in one half of it.
        tried = near in wished and any(p.holds(settled.internet_host(p.bits)) for p in wide)
        if wide and not tried:
            halves = (
                "" if wide[0].length == 0 else f", or half of one ({', '.join(map(str, wide))})"
            )
            ends = f"and leaves by {far}" if onward else f"and stops at {far}"
            yield Finding(
                Severity.WARNING,
                "default-route",
                ("links", link.name, "bgp", key),
                f"{near} gets a default route over {link.name}{halves}",
                f"all that {near} has no other route for goes into the tunnel, its internet "
                f"access too, {ends}",
                "summarise to the prefixes that are there, or write down what is to reach the "
                "internet: an expectation 'to: internet'",
            )


Seen = dict[tuple[int, tuple[Prefix, ...]], tuple[tuple[Prefix, ...], list[Prefix]]]
"""What of a list of prefixes is not exempt, by the identity of the list, which is kept."""


def _not_in(prefixes: tuple[Prefix, ...], exempt: tuple[Prefix, ...]) -> list[Prefix]:
    """Sources of IPv6 are nowhere translated."""
    return [p for p in prefixes if p.bits == 32 and not any(e.covers(p) for e in exempt)]


def _taken(
    settled: Settled, site: str, access: SettledAccess, exempt: tuple[Prefix, ...], seen: Seen
) -> Iterator[Finding]:
    missing: dict[Prefix, None] = {}
    for bundle in settled.bundles_of(site):
        if any(part.network in access.networks for part in bundle.exposures):
            prefixes = accepted_at_site(settled, bundle)
            # One tuple for all sites behind one table of a hub: looked at once.
            key = id(prefixes), exempt
            if key not in seen:
                seen[key] = prefixes, _not_in(prefixes, exempt)
            missing |= dict.fromkeys(seen[key][1])
    if missing:
        listed = ", ".join(map(str, missing))
        yield Finding(
            Severity.ERROR,
            "translation-takes",
            ("sites", site, "internet", "exempt"),
            f"source translation at {site} takes what tunnels and circuits carry to {listed}",
            "packets go into the tunnel with the uplink's address, and the far end drops them or "
            "answers to nowhere",
            f"add {listed} to 'exempt', or leave it blank",
        )


def _spared(site: str, exempt: tuple[Prefix, ...]) -> Iterator[Finding]:
    wide = [prefix for prefix in exempt if prefix.length <= 1 or is_public(prefix)]
    if wide:
        listed = ", ".join(map(str, wide))
        yield Finding(
            Severity.WARNING,
            "translation-spares",
            ("sites", site, "internet", "exempt"),
            f"source translation at {site} leaves {listed} alone, where the internet is",
            "what goes there keeps its private address, and nobody answers: the site's internet "
            "access breaks",
            "exempt only what tunnels and circuits carry, or leave it blank",
        )


def _nowhere(settled: Settled) -> Iterator[Finding]:
    """Default routes of subnets that are meant to lead on, and do not."""
    model, host = None, settled.internet_host(settled.families[0])
    for name, cloud in settled.clouds.items():
        for subnet in cloud.subnets.values():
            own = own_route(subnet, host)
            if own is None or own[1] == NOWHERE or own[0].length > 1:
                continue
            model = model or ReachModel(settled)
            key = PacketKey(host_of(subnet.prefix.first), host, TCP, 40000, 443)
            found = trace(model, NetworkRef(name, subnet.name), key)
            if found.dropped:
                yield Finding(
                    Severity.WARNING,
                    "default-nowhere",
                    ("clouds", name, "subnets", subnet.name, "table"),
                    f"{name}/{subnet.name} sends all that it has no other route for to {own[1]}, "
                    f"which does not lead on: {found.dropped}",
                    "its hosts have no internet access any more",
                    "let the hub lead there ('internet: true'), or take the route out; 'nowhere' "
                    "says that it is meant",
                )
