"""What belongs to which place in a settled design, found once."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from obrin.core.settled.clouds import SettledCloud
from obrin.core.settled.expected import Expected
from obrin.core.settled.links import Bundle, Leg, SettledCircuit, SettledLink, SettledTunnel
from obrin.core.settled.sites import SettledGateway
from obrin.core.settled.ways import Attachment, Neighbour, Router, Way


@dataclass(frozen=True, slots=True, kw_only=True)
class Index:
    """`by_label` has the tunnels and circuits, `ways` all that routes lead into, `routers` all
    that the model has; each by its label."""

    tunnels_at: dict[str, tuple[SettledTunnel, ...]]
    legs_at: dict[str, tuple[Leg, ...]]
    bundles_of: dict[str, tuple[Bundle, ...]]
    by_label: dict[str, Leg]
    ways: dict[str, Way]
    routers: dict[str, Router]
    links_between: dict[frozenset[str], tuple[Bundle, ...]]
    hubs_of: dict[str, tuple[str, ...]]
    expectations_at: dict[str, tuple[Expected, ...]]


def make_index(
    *,
    wishes: tuple[Expected, ...],
    links: Mapping[str, SettledLink],
    circuits: Mapping[str, SettledCircuit],
    clouds: Mapping[str, SettledCloud],
    gateways: Mapping[str, SettledGateway],
) -> Index:
    """A link to a hub also stands between its site and each member of the hub."""
    legs: list[Leg] = [*circuits.values(), *(t for link in links.values() for t in link.tunnels)]
    legs_at: dict[str, list[Leg]] = {}
    for leg in legs:
        for place in (leg.gateway, leg.cloud):
            legs_at.setdefault(place, []).append(leg)
    between: dict[frozenset[str], list[Bundle]] = {}
    hubs_of: dict[str, dict[str, None]] = {}
    bundles: list[Bundle] = [*circuits.values(), *links.values()]
    of_site: dict[str, list[Bundle]] = {}
    for bundle in bundles:
        of_site.setdefault(bundle.site, []).append(bundle)
        cloud = clouds[bundle.cloud]
        for far in (bundle.cloud, *cloud.members):
            between.setdefault(frozenset((bundle.site, far)), []).append(bundle)
        if cloud.is_hub:
            hubs_of.setdefault(bundle.site, {})[cloud.name] = None
    for cloud in clouds.values():
        for member in cloud.members:
            hubs_of.setdefault(member, {})[cloud.name] = None
    by_label = {leg.label: leg for leg in legs}
    return Index(
        tunnels_at={
            place: tuple(leg for leg in found if isinstance(leg, SettledTunnel))
            for place, found in legs_at.items()
        },
        legs_at={place: tuple(found) for place, found in legs_at.items()},
        bundles_of={site: tuple(found) for site, found in of_site.items()},
        by_label=by_label,
        ways={**by_label, **_other_ways(clouds, gateways)},
        routers={router.label: router for router in _routers(clouds, gateways)},
        links_between={pair: tuple(found) for pair, found in between.items()},
        hubs_of={place: tuple(found) for place, found in hubs_of.items()},
        expectations_at=_wishes_at(wishes),
    )


def _other_ways(
    clouds: Mapping[str, SettledCloud], gateways: Mapping[str, SettledGateway]
) -> dict[str, Way]:
    found: list[Attachment | Neighbour] = [
        Attachment(hub.name, member) for hub in clouds.values() for member in hub.members
    ]
    found += map(Neighbour, gateways)
    return {way.label: way for way in found}


def _routers(
    clouds: Mapping[str, SettledCloud], gateways: Mapping[str, SettledGateway]
) -> list[Router]:
    found = [Router(name) for name in (*gateways, *clouds)]
    for hub in clouds.values():
        found += [Router(hub.name, table.name) for table in hub.hub_tables]
    return found


def _wishes_at(wishes: tuple[Expected, ...]) -> dict[str, tuple[Expected, ...]]:
    found: dict[str, list[Expected]] = {}
    for wish in wishes:
        if wish.destination.is_internet:
            continue  # no filter and no tunnel here is for it
        for place in {wish.source.place, wish.destination.place}:
            found.setdefault(place, []).append(wish)
    return {place: tuple(here) for place, here in found.items()}
