"""Clouds and gateways as they stand while both designs have something there."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import TypeVar

from obrin.core.address.dual import Dual
from obrin.core.address.prefix import Prefix
from obrin.core.catalogue.offering import Demand
from obrin.core.design.sites import FilterRule
from obrin.core.settled.clouds import (
    SettledCloud,
    SettledCloudGateway,
    SettledHubTable,
    SettledSubnet,
)
from obrin.core.settled.links import SettledLink
from obrin.core.settled.sites import SettledGateway, SettledNetwork

T = TypeVar("T")
N = TypeVar("N", SettledSubnet, SettledNetwork)
_NO_DEMAND = Demand(throughput=0.0, tunnels=0, bgp=False, instances=0)


def entered(ground: object) -> object:
    """The same without what nobody enters, so that only what somebody does makes a difference."""
    if isinstance(ground, SettledCloud):
        own = ground.gateway
        asked = None if own is None else replace(own, demand=_NO_DEMAND, given=frozenset())
        return replace(ground, gateway=asked, filters=None, owner=None, accepted=None)
    return ground


def union(old: object, new: object) -> object:
    if old is None or new is None:
        return old or new
    if isinstance(old, SettledCloud) and isinstance(new, SettledCloud):
        return replace(
            new,
            spaces=_dual_union(old.spaces, new.spaces),
            subnets=_by_name(old.subnets, new.subnets),
            gateway=_larger(old.gateway, new.gateway),
            filters=_filters(old.filters, new.filters),
            members=tuple(dict.fromkeys((*new.members, *old.members))),
            hub_tables=_tables(old.hub_tables, new.hub_tables),
        )
    if isinstance(old, SettledGateway) and isinstance(new, SettledGateway):
        uplinks = {**old.uplinks, **new.uplinks}
        networks = _by_name(old.networks, new.networks)
        return replace(new, uplinks=uplinks, networks=networks, asn=new.asn or old.asn)
    return new


def speaking_as(ground: object, other: object) -> object:
    """The same gateway with the AS number of another, where this has none."""
    if isinstance(ground, SettledGateway) and isinstance(other, SettledGateway):
        return replace(ground, asn=ground.asn or other.asn)
    return ground


def with_versions(cloud: SettledCloud, links: Mapping[str, SettledLink]) -> SettledCloud:
    """The cloud with its route tables used and filled by every version of the links that they
    name."""
    if not cloud.hub_tables:
        return cloud

    def versions(names: frozenset[str]) -> frozenset[str]:
        found = (called for called, link in links.items() if link.origin in names)
        return names.union(found)

    tables = (
        replace(table, users=versions(table.users), learns=versions(table.learns))
        for table in cloud.hub_tables
    )
    return replace(cloud, hub_tables=tuple(tables))


def _filters(
    old: tuple[FilterRule, ...] | None, new: tuple[FilterRule, ...] | None
) -> tuple[FilterRule, ...] | None:
    if old is None or new is None:
        return new
    return tuple(dict.fromkeys((*new, *old)))


def _larger(
    old: SettledCloudGateway | None, new: SettledCloudGateway | None
) -> SettledCloudGateway | None:
    """The new one, but of a class and with as many instances as both need."""
    if old is None or new is None:
        return new or old
    both = zip(new.instances, old.instances, strict=False)
    instances = [_either(mine, theirs) for mine, theirs in both]
    new = replace(
        new,
        asn=new.asn or old.asn,
        subnet=_either(new.subnet, old.subnet),
        instances=(*instances, *new.instances[len(instances) :]),
    )
    wants = [
        (len(g.instances), g.demand.tunnels, g.demand.throughput, g.demand.routes)
        for g in (old, new)
    ]
    if wants[0] <= wants[1]:
        return new
    more = old.instances[len(new.instances) :]
    return replace(
        new,
        gateway_class=old.gateway_class,
        demand=old.demand,
        instances=(*new.instances, *more),
        zones=(*new.zones, *old.zones[len(new.zones) :]),
        peers=(*new.peers, *old.peers[len(new.peers) :]) if new.peers else (),
    )


def _either(new: Dual[T], old: Dual[T]) -> Dual[T]:
    """Take the new value of each family, or the old one where it has none."""
    return Dual(new.ipv4 or old.ipv4, new.ipv6 or old.ipv6)


def _by_name(old: Mapping[str, N], new: Mapping[str, N]) -> dict[str, N]:
    """Merge both; one that leaves a family keeps it meanwhile."""
    made = {**old, **new}
    for name in old.keys() & new.keys():
        prefix = _either(new[name].prefix, old[name].prefix)
        made[name] = replace(new[name], prefix=prefix)
    return made


Spaces = Dual[tuple[Prefix, ...]]


def _dual_union(old: Spaces, new: Spaces) -> Spaces:
    def both(bits: int) -> tuple[Prefix, ...] | None:
        found = tuple(dict.fromkeys((*(new.of(bits) or ()), *(old.of(bits) or ()))))
        return found or None

    return Dual(both(32), both(128))


def _tables(
    old: tuple[SettledHubTable, ...], new: tuple[SettledHubTable, ...]
) -> tuple[SettledHubTable, ...]:
    held = {table.name: table for table in old}
    for table in new:
        before = held.get(table.name)
        users = frozenset() if before is None else before.users
        learns = frozenset() if before is None else before.learns
        held[table.name] = replace(table, users=table.users | users, learns=table.learns | learns)
    return tuple(held.values())
