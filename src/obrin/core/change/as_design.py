"""A state between two designs as a design, for the same model as any other.

It has links that are on their way from the old to the new: each tunnel is of one or the other, or
of what both have, or it is left out, since it carries nothing.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import replace
from typing import TypeVar

from obrin.core.address.translation import Exposure
from obrin.core.change.ground import with_versions
from obrin.core.change.states import BOTH, NONE, OLD, Between, Done
from obrin.core.design.places import NetworkRef
from obrin.core.settled.clouds import SettledCloud
from obrin.core.settled.links import (
    Bundle,
    Leg,
    SettledCircuit,
    SettledLink,
    SettledTunnel,
)
from obrin.core.settled.model import Settled
from obrin.core.settled.sites import SettledGateway, SettledSite

B = TypeVar("B", SettledLink, SettledCircuit)


def state(between: Between, done: Done, without: frozenset[str] = frozenset()) -> Settled:
    """A design that does what the state does, for the model: a link on its way is several.
    `without` are labels of tunnels and circuits that are down."""
    clouds: dict[str, SettledCloud] = {}
    gateways: dict[str, SettledGateway] = {}
    for place in between.places:
        ground = between.standing(place, done)
        if isinstance(ground, SettledCloud):
            clouds[place] = ground
        elif isinstance(ground, SettledGateway):
            gateways[place] = ground
    left = [label for label in between.legs if label not in without]
    links, circuits = _bundles(between, done, left, gateways, clouds)
    clouds = {name: with_versions(cloud, links) for name, cloud in clouds.items()}
    sites = _sites(between, gateways, [*circuits.values(), *links.values()])
    wishes = [*between.after.expectations, *between.before.expectations]
    return replace(
        between.after,
        sites=sites,
        gateways={n: g for n, g in gateways.items() if g.site in sites},
        clouds=clouds,
        links=links,
        circuits=circuits,
        expectations=tuple(
            wish
            for wish in dict.fromkeys(wishes)
            if all(_is_there(end, sites, clouds) for end in (wish.source, wish.destination))
        ),
    )


def grounds(between: Between, done: Done) -> Settled:
    """What stands there in a state, with the links and circuits of either design."""
    now = state(between, done)
    places = {*now.gateways, *now.clouds}

    def stands(bundle: Bundle) -> bool:
        return {bundle.cloud, *(leg.gateway for leg in bundle.legs)} <= places

    links = {**between.before.links, **between.after.links}
    circuits = {**between.before.circuits, **between.after.circuits}
    return replace(
        now,
        links={name: link for name, link in links.items() if stands(link)},
        circuits={name: circuit for name, circuit in circuits.items() if stands(circuit)},
    )


def _sites(
    between: Between, gateways: Mapping[str, SettledGateway], bundles: Iterable[Bundle]
) -> dict[str, SettledSite]:
    """Sites that have a gateway, with the networks of these."""
    made: dict[str, SettledSite] = {}
    ways: dict[str, list[str]] = {}
    for bundle in bundles:
        ways.setdefault(bundle.site, []).append(bundle.name)
    for name in dict.fromkeys((*between.after.sites, *between.before.sites)):
        mine = [g for g in gateways.values() if g.site == name]
        if not mine:
            continue
        usual = between.after.sites.get(name) or between.before.sites[name]
        networks = {n: net for g in mine for n, net in g.networks.items()}
        made[name] = replace(
            usual,
            networks=networks or usual.networks,
            gateways=tuple(g.name for g in mine),
            ways=tuple(ways.get(name, ())),
        )
    return made


def _bundles(
    between: Between,
    done: Done,
    labels: Iterable[str],
    gateways: Mapping[str, SettledGateway],
    clouds: Mapping[str, SettledCloud],
) -> tuple[dict[str, SettledLink], dict[str, SettledCircuit]]:
    parts: dict[tuple[str, str], list[SettledTunnel]] = {}
    circuits: dict[str, SettledCircuit] = {}
    for label in labels:
        version = between.version(label, done)
        leg = _leg(between, label, version)
        if leg is None or leg.gateway not in gateways or leg.cloud not in clouds:
            continue
        if isinstance(leg, SettledCircuit):
            circuits[leg.name] = leg
        else:
            parts.setdefault((leg.link, version), []).append(leg)
    links = {}
    for (name, version), tunnels in parts.items():
        link = _link(between, name, version)
        alone = sum(1 for other, _ in parts if other == name) == 1
        called, origin = (name, "") if alone else (f"{name} ({version})", name)
        versions = tuple(replace(t, link=called, origin=origin) for t in tunnels)
        links[called] = replace(link, name=called, origin=origin, tunnels=versions)
    return links, circuits


def _leg(between: Between, label: str, version: str) -> Leg | None:
    if version == NONE:
        return None
    old, new = (s.index.by_label.get(label) for s in (between.before, between.after))
    if version == BOTH and isinstance(old, SettledCircuit) and isinstance(new, SettledCircuit):
        return _narrowed(new, old)
    return old if version == OLD else new or old


def _link(between: Between, name: str, version: str) -> SettledLink:
    old, new = between.before.links.get(name), between.after.links.get(name)
    if version == OLD and old is not None:
        return old
    if version == BOTH and old is not None and new is not None:
        return _narrowed(new, old)
    return new or between.before.links[name]


def _is_there(
    end: NetworkRef, sites: Mapping[str, SettledSite], clouds: Mapping[str, SettledCloud]
) -> bool:
    """Whether a network that is wished something of stands already, or still."""
    if end.is_internet:
        return True
    if end.place in clouds:
        return end.network in clouds[end.place].subnets
    return end.place in sites and end.network in sites[end.place].networks


def _narrowed(new: B, old: Bundle) -> B:
    """What both ends have in common while one has the old and one the new."""
    return replace(
        new,
        exposures=_common(new.exposures, old.exposures),
        cloud_exposures=_common(new.cloud_exposures, old.cloud_exposures),
    )


def _common(one: tuple[Exposure, ...], other: tuple[Exposure, ...]) -> tuple[Exposure, ...]:
    return tuple(part for part in one if part in other)
