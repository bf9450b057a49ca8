"""Sites' networks, gateways and clouds, as they stand once every blank has a value."""

from __future__ import annotations

from obrin.core.address.prefix import Prefix, parse_address, parse_ipv4
from obrin.core.design.abilities import cloud_able, gateway_able
from obrin.core.design.arrangement import identity_of
from obrin.core.design.model import Cloud, Gateway
from obrin.core.ipsec.profile import Profile
from obrin.core.settled.joined import hub_tables
from obrin.core.settled.model import SettledCloud, SettledGateway, SettledSubnet, SettledUplink
from obrin.core.settled.picking import Picker

Networks = dict[str, dict[str, Prefix]]
"""By site, by name."""


def networks_of(picker: Picker) -> tuple[Networks, Networks]:
    """(IPv4, IPv6); IPv6 only where the design has it."""
    networks: Networks = {}
    networks6: Networks = {}
    for site, entity in picker.design.sites.items():
        here = f"sites.{site}.networks"
        networks[site] = {
            n: picker.prefix(f"{here}.{n}.prefix", network.prefix)
            for n, network in entity.networks.items()
        }
        found = {
            n: picker.prefix6(f"{here}.{n}.prefix6", network.prefix6)
            for n, network in entity.networks.items()
        }
        networks6[site] = {n: prefix for n, prefix in found.items() if prefix is not None}
    return networks, networks6


def gateways_of(
    picker: Picker, networks: Networks, networks6: Networks
) -> dict[str, SettledGateway]:
    return {
        name: _gateway(picker, site, name, gateway, networks[site], networks6[site])
        for site, entity in picker.design.sites.items()
        for name, gateway in entity.gateways.items()
    }


def _gateway(
    picker: Picker, site: str, name: str, gateway: Gateway,
    networks: dict[str, Prefix], networks6: dict[str, Prefix],
) -> SettledGateway:  # fmt: skip
    profile = gateway_able(picker.design, site, name).profile
    uplinks = _uplinks(gateway, profile)
    loopback = picker.loopback(site, name)
    lowest = min(uplink.address.value for uplink in uplinks.values())
    return SettledGateway(
        name=name,
        site=site,
        asn=picker.integer(f"sites.{site}.gateways.{name}.as", gateway.asn),
        router_id=parse_ipv4(loopback) if loopback else lowest,
        profile=profile,
        uplinks=uplinks,
        networks=networks,
        filters=None if gateway.filters is None else tuple(gateway.filters),
        networks6=networks6,
        loopback=loopback,
        routes=gateway.routes,
    )


def _uplinks(gateway: Gateway, profile: Profile) -> dict[str, SettledUplink]:
    return {
        n: SettledUplink(
            name=n,
            address=parse_address(u.address),
            own=parse_address(u.inside or u.address),
            provider=u.provider,
            mtu=u.mtu,
            identity=identity_of(u, profile),
            rate=u.rate,
        )
        for n, u in gateway.uplinks.items()
    }


def cloud_of(picker: Picker, name: str, cloud: Cloud) -> SettledCloud:
    here = f"clouds.{name}"
    own = cloud.gateway
    addresses = picker.value(f"{here}.gateway.addresses", own.addresses)
    given = addresses if isinstance(addresses, list) else [str(addresses)]
    return SettledCloud(
        name=name,
        region=cloud.region or "unnamed",
        spaces=picker.prefixes(f"{here}.space", cloud.space),
        subnets=_subnets(picker, here, cloud),
        gateway_subnet=picker.prefix(f"{here}.gateway.subnet", own.subnet),
        gateway_class=str(picker.value(f"{here}.gateway.class", own.gateway_class)),
        asn=picker.integer(f"{here}.gateway.as", own.asn),
        instances=tuple(map(parse_address, given)),
        filters=None if cloud.filters is None else tuple(cloud.filters),
        profile=cloud_able(picker.design, name).profile,
        spaces6=picker.prefixes6(f"{here}.space6", cloud.space6),
        gateway_subnet6=picker.prefix6(f"{here}.gateway.subnet6", own.subnet6),
        zones=tuple(own.zones or ()),
        is_hub=cloud.hub is not None,
        members=tuple(cloud.hub.members) if cloud.hub is not None else (),
        hub_tables=tuple(hub_tables(picker.design, name)),
    )


def _subnets(picker: Picker, here: str, cloud: Cloud) -> dict[str, SettledSubnet]:
    return {
        n: SettledSubnet(
            name=n,
            prefix=picker.prefix(f"{here}.subnets.{n}.prefix", s.prefix),
            propagation=s.propagation and (s.table is None or cloud.tables[s.table].propagation),
            prefix6=picker.prefix6(f"{here}.subnets.{n}.prefix6", s.prefix6),
            routes=() if s.table is None else tuple(cloud.tables[s.table].routes.items()),
        )
        for n, s in cloud.subnets.items()
    }
