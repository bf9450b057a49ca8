"""Sites with their networks and gateways, as they stand once every blank has a value."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from obrin.core.address.dual import Dual, of_families
from obrin.core.address.prefix import Address, Prefix, parse_address
from obrin.core.design.abilities import Able, gateway_able
from obrin.core.design.arrangement import identity_of
from obrin.core.design.needs import Needs
from obrin.core.design.sites import FilterRule, Gateway, Site
from obrin.core.design.wishes import HostRule, Network
from obrin.core.ipsec.profile import Profile
from obrin.core.settle.blank import site_key
from obrin.core.settled.clouds import identifier_of
from obrin.core.settled.picking import Picker

NO_ROUTER: Dual[Address] = Dual(None)


@dataclass(frozen=True, slots=True, kw_only=True)
class SettledNetwork:
    """`hosts_accept` is what the firewalls of its hosts let in; None is everything. `behind` are
    the addresses of the inner router that leads to it, none where gateways stand in it
    themselves."""

    name: str
    prefix: Dual[Prefix]
    hosts_accept: tuple[HostRule, ...] | None = None
    behind: Dual[Address] = NO_ROUTER
    owner: str = ""
    note: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class SettledAccess:
    """A site's own way to the internet: the networks that use it, and the destinations that its
    source translation leaves alone, None where it is just what tunnels and circuits carry."""

    networks: frozenset[str]
    exempt: tuple[Prefix, ...] | None


TUNNELS, GATEWAYS, NOTHING = "tunnels", "gateways", "nothing"
"""What makes hosts leave a gateway for another one."""


@dataclass(frozen=True, slots=True, kw_only=True)
class SettledSite:
    """`ways` are its links and circuits, the preferred first. `given_spaces` are what the design
    says that its blank networks come from. `internet` is None where it has no way there.
    `first_hop` is in seconds, until hosts leave a gateway that is dead. `hosts_follow` is TUNNELS,
    GATEWAYS or NOTHING, empty where the design does not say it, and TUNNELS are assumed."""

    name: str
    region: str
    given_spaces: tuple[Prefix, ...]
    networks: dict[str, SettledNetwork]
    gateways: tuple[str, ...]
    internal_bgp: bool
    first_hop: float
    ways: tuple[str, ...]
    internet: SettledAccess | None = None
    hosts_follow: str = ""

    @property
    def leaves_by_order(self) -> bool:
        """Whether hosts use the first gateway that is there, whatever its routes are."""
        return self.hosts_follow in (GATEWAYS, NOTHING)

    @property
    def follow_is_assumed(self) -> bool:
        """Whether the design leaves open what makes hosts change between its gateways."""
        return len(self.gateways) > 1 and not self.hosts_follow


@dataclass(frozen=True, slots=True, kw_only=True)
class SettledUplink:
    """`own` is the address on the device: the public one, unless a translator is in front.

    `forwards` is whether the translator passes on what comes from outside, None where unsaid.
    `mtu` is that of the whole path, in bytes; `rate` in Mbit/s, None where unsaid; `identity` is
    what the device says it is.
    """

    name: str
    address: Address
    own: Address
    provider: str | None
    mtu: int
    identity: str
    rate: float | None = None
    forwards: bool | None = None

    @property
    def translated(self) -> bool:
        return self.own != self.address


@dataclass(frozen=True, slots=True, kw_only=True)
class SettledGateway:
    """`maximum_prefixes` is the most that it takes from one BGP neighbour, None where unsaid;
    `asn` is None where it speaks no BGP."""

    name: str
    site: str
    asn: int | None
    router_id: int
    able: Able
    uplinks: dict[str, SettledUplink]
    networks: dict[str, SettledNetwork]
    filters: tuple[FilterRule, ...] | None
    loopback: Address | None = None
    maximum_prefixes: int | None = None

    @property
    def profile(self) -> Profile:
        """What the device can do."""
        return self.able.profile

    @property
    def as_number(self) -> int:
        """0 where it speaks no BGP: no speaker ever has that (RFC 7607)."""
        return self.asn or 0


def sites_of(picker: Picker, ways: Mapping[str, tuple[str, ...]]) -> dict[str, SettledSite]:
    """`ways` are those of each site, the preferred first."""
    return {
        name: SettledSite(
            name=name,
            region=site.region or "",
            given_spaces=(*(site.space or ()), *(site.space6 or ())),
            networks=_networks(picker, name, site),
            gateways=tuple(site.gateways),
            internal_bgp=site.internal_bgp,
            first_hop=site.first_hop,
            ways=ways.get(name, ()),
            internet=_access(site),
            hosts_follow=site.hosts_follow or "",
        )
        for name, site in picker.design.sites.items()
    }


def _access(site: Site) -> SettledAccess | None:
    if site.internet is False:
        return None
    given = site.internet
    return SettledAccess(
        networks=frozenset((given and given.networks) or site.networks),
        exempt=given.exempt if given else None,
    )


def _networks(picker: Picker, site: str, entity: Site) -> dict[str, SettledNetwork]:
    return {
        name: _network(picker, site_key(site, "networks", name), name, network)
        for name, network in entity.networks.items()
    }


def _network(picker: Picker, here: str, name: str, network: Network) -> SettledNetwork:
    accepts = network.hosts_accept
    return SettledNetwork(
        name=name,
        prefix=picker.dual(here, "prefix", network.prefix, network.prefix6),
        hosts_accept=None if accepts is None else tuple(accepts),
        behind=_router(network, picker.families),
        owner=network.owner or "",
        note=network.note or "",
    )


def _router(network: Network, families: tuple[int, ...]) -> Dual[Address]:
    given = [parse_address(text) for text in (network.behind, network.behind6) if text is not None]
    return of_families(address for address in given if address.bits in families)


def gateways_of(
    picker: Picker, needs: Needs, sites: Mapping[str, SettledSite]
) -> dict[str, SettledGateway]:
    return {
        name: _gateway(picker, sites[site], name, gateway, needs)
        for site, entity in picker.design.sites.items()
        for name, gateway in entity.gateways.items()
    }


def _gateway(
    picker: Picker, site: SettledSite, name: str, gateway: Gateway, needs: Needs
) -> SettledGateway:
    able = gateway_able(picker.design, site.name, name)
    key = site_key(site.name, "gateways", name, "as")
    asn = (
        picker.integer(key, gateway.asn) if gateway.asn or name in needs.gateways_with_bgp else None
    )
    uplinks = _uplinks(gateway, able.profile)
    loopback = picker.loopback(site.name, name)
    identifier = loopback or min(uplink.address for uplink in uplinks.values())
    return SettledGateway(
        name=name,
        site=site.name,
        asn=asn,
        router_id=identifier_of(identifier),
        able=able,
        uplinks=uplinks,
        networks=site.networks,
        filters=None if gateway.filters is None else tuple(gateway.filters),
        loopback=loopback,
        maximum_prefixes=gateway.maximum_prefixes,
    )


def _uplinks(gateway: Gateway, profile: Profile) -> dict[str, SettledUplink]:
    return {
        name: SettledUplink(
            name=name,
            address=parse_address(uplink.address),
            own=parse_address(uplink.inside or uplink.address),
            provider=uplink.provider,
            mtu=uplink.mtu,
            identity=identity_of(uplink, profile),
            rate=uplink.rate,
            forwards=uplink.forwards,
        )
        for name, uplink in gateway.uplinks.items()
    }
