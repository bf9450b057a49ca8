"""Summaries that are left to Obrin: the fewest prefixes that stand for what a link advertises."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from dataclasses import replace

from obrin.core.address.covering import Ranges, covering
from obrin.core.address.prefix import Prefix
from obrin.core.design.model import Design
from obrin.core.design.values import AUTO
from obrin.core.settled.clouds import SettledCloud
from obrin.core.settled.links import Bundle, SettledCircuit, SettledLink
from obrin.core.settled.sites import SettledSite
from obrin.core.settled.telling import led_through

Links = dict[str, SettledLink]


def with_summaries(
    design: Design,
    sites: Mapping[str, SettledSite],
    clouds: Mapping[str, SettledCloud],
    links: Links,
    circuits: Mapping[str, SettledCircuit],
) -> Links:
    """The links, with a value wherever the design says 'auto': first for what sites advertise,
    which hubs pass on."""
    auto = {name: design.links[name].bgp for name in links}
    if not any(AUTO in (bgp.summaries, bgp.cloud_summaries) for bgp in auto.values()):
        return links
    known = Ranges(_all_ranges(design, sites, clouds, [*links.values(), *circuits.values()]))
    made = {
        name: replace(link, summaries=_fewer([p.seen for p in link.exposures], known))
        if auto[name].summaries == AUTO
        else link
        for name, link in links.items()
    }
    done: dict[object, tuple[Prefix, ...]] = {}
    bundles: list[Bundle] = [*made.values(), *circuits.values()]
    for name, link in made.items():
        if auto[name].cloud_summaries != AUTO:
            continue
        own = tuple(part.seen for part in link.cloud_exposures)
        table = clouds[link.cloud].table_of(link.name)
        key = link.cloud, table and table.name, own
        if key not in done:
            done[key] = _fewer([*own, *led_through(clouds, bundles, link)], known)
        made[name] = replace(link, cloud_summaries=done[key])
    return made


def _fewer(advertised: Collection[Prefix], known: Ranges) -> tuple[Prefix, ...]:
    """Keep only those that stand for something else than themselves."""
    return tuple(prefix for prefix in covering(advertised, known) if prefix not in advertised)


def _all_ranges(
    design: Design,
    sites: Mapping[str, SettledSite],
    clouds: Mapping[str, SettledCloud],
    bundles: list[Bundle],
) -> Iterator[Prefix]:
    """Everything that is somebody's: networks, spaces, both as they are and as they are known
    elsewhere, blocks inside tunnels, public addresses."""
    for site in sites.values():
        yield from (prefix for network in site.networks.values() for prefix in network.prefix)
    for cloud in clouds.values():
        yield from cloud.all_spaces
        yield from (address.alone for address in cloud.addresses)
    yield from (e.prefix for e in design.elsewhere.values())
    for bundle in bundles:
        yield from (part.seen for part in (*bundle.exposures, *bundle.cloud_exposures))
        for leg in bundle.legs:
            yield from leg.inside
            if not isinstance(leg, SettledCircuit):
                yield leg.uplink.address.alone
