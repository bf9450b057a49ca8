"""Cloud networks, hubs and their gateways, as they stand once every blank has a value."""

from __future__ import annotations

import itertools
import zlib
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from datetime import date

from obrin.core.address.dual import Dual
from obrin.core.address.prefix import Address, Prefix, parse_address
from obrin.core.catalogue.offering import Demand
from obrin.core.design.abilities import Able, cloud_able
from obrin.core.design.joining_references import joined_to
from obrin.core.design.model import Cloud, CloudGateway, Design, Subnet
from obrin.core.design.needs import Needs
from obrin.core.design.sites import FilterRule
from obrin.core.design.wishes import HostRule
from obrin.core.ipsec.profile import Profile
from obrin.core.settle.blank import cloud_key
from obrin.core.settle.classes import demand_of
from obrin.core.settled.picking import Picker


@dataclass(frozen=True, slots=True, kw_only=True)
class SettledSubnet:
    """`routes` are the own ones of its route table, with their targets. `hosts_accept` is what the
    firewalls of its hosts let in; None is everything."""

    name: str
    prefix: Dual[Prefix]
    propagation: bool
    routes: tuple[tuple[Prefix, str], ...] = ()
    hosts_accept: tuple[HostRule, ...] | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class SettledHubTable:
    """A route table of a hub: who uses it, and whose routes are in it."""

    name: str
    users: frozenset[str]
    learns: frozenset[str]


@dataclass(frozen=True, slots=True, kw_only=True)
class SettledCloudGateway:
    """`instances` are the public addresses, instance 1 first, of each family in which somebody
    calls; `zones` are theirs, where known; `peers` are theirs in the gateway subnet, where these
    are not the first ones. Of what the cloud `assigns`, `unknown` is what it has not reported
    yet; `given` is what the design itself says, of `addresses` and `peers`. `demand` is what is
    asked of it, `asn` None where it speaks no BGP."""

    subnet: Dual[Prefix]
    gateway_class: str
    demand: Demand
    asn: int | None
    instances: tuple[Dual[Address], ...]
    zones: tuple[str, ...] = ()
    peers: tuple[Address, ...] = ()
    assigns: frozenset[str] = frozenset()
    unknown: frozenset[str] = frozenset()
    given: frozenset[str] = frozenset()


@dataclass(frozen=True, slots=True, kw_only=True)
class SettledCloud:
    """`gateway` is None where none is built: a member of a hub has the hub's.

    `internet` is whether it leads there by itself. A hub has no subnets, but `members` and route
    tables.
    `owner` is somebody else, where it is theirs, and `accepted` the day on which they agreed.
    """

    name: str
    region: str
    spaces: Dual[tuple[Prefix, ...]]
    subnets: dict[str, SettledSubnet]
    gateway: SettledCloudGateway | None
    filters: tuple[FilterRule, ...] | None
    able: Able
    internet: bool = True
    is_hub: bool = False
    members: tuple[str, ...] = ()
    hub_tables: tuple[SettledHubTable, ...] = ()
    owner: str | None = None
    accepted: date | None = None

    @property
    def profile(self) -> Profile:
        """What its gateway can do."""
        return self.able.profile

    @property
    def gateway_class(self) -> str:
        """Empty without a gateway."""
        return "" if self.gateway is None else self.gateway.gateway_class

    @property
    def instances(self) -> tuple[Dual[Address], ...]:
        """Public addresses of its gateway's instances."""
        return () if self.gateway is None else self.gateway.instances

    @property
    def addresses(self) -> tuple[Address, ...]:
        """All public ones."""
        return tuple(address for instance in self.instances for address in instance)

    @property
    def zones(self) -> tuple[str, ...]:
        """Zones of the instances, where known."""
        return () if self.gateway is None else self.gateway.zones

    @property
    def asn(self) -> int | None:
        """Return None where it speaks no BGP."""
        return None if self.gateway is None else self.gateway.asn

    @property
    def as_number(self) -> int:
        """0 where it speaks no BGP: no speaker ever has that (RFC 7607)."""
        return self.asn or 0

    @property
    def all_spaces(self) -> tuple[Prefix, ...]:
        """Address spaces of both families."""
        return tuple(space for family in self.spaces for space in family)

    def holds(self, prefix: Prefix) -> bool:
        """Whether a prefix lies inside the cloud's space."""
        return any(space.covers(prefix) for space in self.all_spaces)

    def table_of(self, user: str) -> SettledHubTable | None:
        """The route table of a hub that a member, link or circuit uses; None where this is none."""
        return next((table for table in self.hub_tables if user in table.users), None)

    def own_address(self, instance: int) -> Address | None:
        """The instance's in the gateway subnet: given, assigned, or after what the cloud keeps."""
        if self.gateway is None:
            return None
        if self.gateway.peers:
            return self.gateway.peers[instance - 1]
        return self.gateway.subnet.first.address_at(FIRST_FREE + instance)

    @property
    def own_addresses(self) -> tuple[Address, ...]:
        """Addresses of all instances in the gateway subnet."""
        found = (self.own_address(number) for number, _ in enumerate(self.instances, 1))
        return tuple(address for address in found if address is not None)

    def router_id(self, instance: int) -> int:
        """The instance's own address; without a gateway, that of the network's own router. Without
        IPv4, a number made of it."""
        own = self.own_address(instance)
        return identifier_of(own or self.spaces.first[0].address_at(1))


FIRST_FREE = 3
"""Reserved addresses at the start of a gateway subnet, before those of the instances."""


def identifier_of(address: Address) -> int:
    """A BGP identifier (RFC 6286: 32 bits, not zero): an IPv4 address, or a number that hardly
    another IPv6 address leads to."""
    return address.value if address.bits == 32 else zlib.crc32(address.value.to_bytes(16)) or 1


def cloud_of(picker: Picker, needs: Needs, name: str, cloud: Cloud) -> SettledCloud:
    here = cloud_key(name)
    return SettledCloud(
        name=name,
        region=cloud.region or "",
        spaces=picker.dual_spaces(here, cloud.space, cloud.space6),
        subnets={n: _subnet(picker, here, n, s, cloud) for n, s in cloud.subnets.items()},
        gateway=_gateway(picker, needs, name, cloud) if name in needs.cloud_gateways else None,
        filters=None if cloud.filters is None else tuple(cloud.filters),
        able=cloud_able(picker.design, name),
        internet=cloud.hub is None if cloud.internet is None else cloud.internet,
        is_hub=cloud.hub is not None,
        members=tuple(cloud.hub.members) if cloud.hub is not None else (),
        hub_tables=tuple(_hub_tables(picker.design, name)),
        owner=cloud.owner,
        accepted=cloud.accepted,
    )


def _gateway(picker: Picker, needs: Needs, name: str, cloud: Cloud) -> SettledCloudGateway:
    here, own = cloud_key(name, "gateway"), cloud.gateway
    families = [_public(picker, needs, name, own, bits) for bits in (32, 128)]
    speaks = own.asn is not None or name in needs.clouds_with_bgp
    peers = picker.optional(f"{here}.peers", own.peers)
    assigned = {"addresses": ("addresses", "addresses6"), "peers": ("peers",)}
    known = {n for n, keys in assigned.items() if any(picker.assigned(f"{here}.{k}") for k in keys)}
    return SettledCloudGateway(
        subnet=picker.dual(here, "subnet", own.subnet, own.subnet6),
        gateway_class=str(picker.value(f"{here}.class", own.gateway_class)),
        demand=demand_of(picker.design, name),
        asn=picker.integer(f"{here}.as", own.asn) if speaks else None,
        instances=tuple(Dual(*pair) for pair in itertools.zip_longest(*families)),
        zones=tuple(own.zones or ()),
        peers=tuple(map(parse_address, peers)) if isinstance(peers, list) else (),
        assigns=frozenset(own.assigns),
        unknown=frozenset(own.assigns) - known,
        given=frozenset(_given(own)),
    )


def _given(own: CloudGateway) -> Iterator[str]:
    if own.public(32) is not None or own.public(128) is not None:
        yield "addresses"
    if own.peers is not None:
        yield "peers"


def _public(picker: Picker, needs: Needs, name: str, own: CloudGateway, bits: int) -> list[Address]:
    """Empty in a family in which nobody calls and nothing is given."""
    given = own.public(bits)
    if given is None and bits not in needs.outside[name]:
        return []
    found = picker.value(cloud_key(name, "gateway", "addresses", bits=bits), given)
    return [parse_address(text) for text in (found if isinstance(found, list) else [str(found)])]


def _subnet(picker: Picker, cloud: str, name: str, subnet: Subnet, of: Cloud) -> SettledSubnet:
    table = None if subnet.table is None else of.tables[subnet.table]
    accepts = subnet.hosts_accept
    return SettledSubnet(
        name=name,
        prefix=picker.dual(f"{cloud}.subnets.{name}", "prefix", subnet.prefix, subnet.prefix6),
        propagation=subnet.propagation and (table is None or table.propagation),
        routes=() if table is None else tuple(table.routes.items()),
        hosts_accept=None if accepts is None else tuple(accepts),
    )


def _hub_tables(design: Design, name: str) -> Iterator[SettledHubTable]:
    """The route tables of a hub: as the design says, or one for members and one for sites."""
    hub = design.clouds[name].hub
    if hub is None:
        return
    joined = frozenset(joined_to(design, name))
    members = frozenset(hub.members)
    if not hub.tables:
        yield SettledHubTable(name="members", users=members, learns=joined)
        yield SettledHubTable(name="sites", users=joined - members, learns=members)
    for table, entry in hub.tables.items():
        users = frozenset(entry.of)
        blank = joined if users & members else members
        learns = blank if entry.learns is None else frozenset(entry.learns)
        yield SettledHubTable(name=table, users=users, learns=learns)


def spaces_behind(clouds: Mapping[str, SettledCloud], name: str, way: str) -> tuple[Prefix, ...]:
    """A cloud's space; behind a hub that of the members which the way's table there learns."""
    cloud = clouds[name]
    if not cloud.is_hub:
        return cloud.all_spaces
    table = cloud.table_of(way)
    learned = () if table is None else (m for m in cloud.members if m in table.learns)
    return tuple(space for member in learned for space in clouds[member].all_spaces)
