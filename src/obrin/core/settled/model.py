"""The settled design: every value concrete, every tunnel seen from both ends.

This is what all later stages read. `build_settled` makes it from a design and the choices for its
blanks; it is a frozen value: nothing later reaches back to change it.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

from obrin.core.address.prefix import Address, Prefix, parse_prefix
from obrin.core.address.translation import Exposure
from obrin.core.design.model import Design, Expectation, FilterRule
from obrin.core.design.values import Flow
from obrin.core.ipsec.liveness import Bfd, Liveness
from obrin.core.ipsec.profile import UNKNOWN, KeyRules, Profile
from obrin.core.ipsec.suite import Suite


@dataclass(frozen=True, slots=True)
class SettledUplink:
    """`own` is the address on the device: the public one, unless a translator is in front.

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

    @property
    def translated(self) -> bool:
        return self.own != self.address


class Inside:
    """The addresses of both ends on a point-to-point block `inside`."""

    __slots__ = ()
    inside: Prefix

    @property
    def cloud_inside(self) -> Address:
        """The first host of the block."""
        return self.inside.ends()[0]

    @property
    def site_inside(self) -> Address:
        return self.inside.ends()[1]


@dataclass(frozen=True, slots=True)
class SettledTunnel(Inside):
    """One tunnel.

    `rank` is its place in the link, from 1. `preference` is the rank that routing gives it, the
    lower the better: that of the first shared one for all that are shared.
    """

    name: str
    link: str
    gateway: str
    uplink: SettledUplink
    cloud: str
    instance: int
    cloud_address: Address
    inside: Prefix
    rank: int
    preference: int
    role: str
    inside6: Prefix | None = None

    @property
    def label(self) -> str:
        """Unique in the design: link and tunnel."""
        return f"{self.link}/{self.name}"


@dataclass(frozen=True, slots=True)
class SettledCircuit(Inside):
    """A dedicated line. `preference` counts as in tunnels: lower comes first."""

    name: str
    site: str
    gateway: str
    cloud: str
    inside: Prefix
    preference: int
    provider: str | None
    rate: float | None
    mtu: int
    exposures: tuple[Exposure, ...]
    cloud_exposures: tuple[Exposure, ...]
    routing: str
    hold: int
    prepend: int = 0
    inside6: Prefix | None = None
    bfd: Bfd | None = None

    @property
    def label(self) -> str:
        """Unique in the design, and unlike that of any tunnel."""
        return f"{self.name}/circuit"


Leg = SettledTunnel | SettledCircuit
"""What crosses from a site to a cloud: a tunnel or a circuit."""


@dataclass(frozen=True, slots=True)
class SettledLink:
    """`exposures` are the site's networks, or parts of them, that use the link;
    `cloud_exposures` are the cloud's space, or that of a hub's members.

    `prepend` is how often the site puts its AS in front once more on this link, so that what
    several hubs bring leads back over the preferred one.
    """

    name: str
    site: str
    cloud: str
    exposures: tuple[Exposure, ...]
    cloud_exposures: tuple[Exposure, ...]
    routing: str
    suite: Suite
    liveness: Liveness
    hold: int
    always_encapsulate: bool
    selection: str
    authentication: str
    bfd: Bfd | None
    tunnels: tuple[SettledTunnel, ...]
    summaries: tuple[Prefix, ...] = ()
    cloud_summaries: tuple[Prefix, ...] = ()
    communities: tuple[str, ...] = ()
    prepend: int = 0


@dataclass(frozen=True, slots=True)
class SettledGateway:
    name: str
    site: str
    asn: int
    router_id: int
    profile: Profile
    uplinks: dict[str, SettledUplink]
    networks: dict[str, Prefix]
    filters: tuple[FilterRule, ...] | None
    networks6: dict[str, Prefix] = field(default_factory=dict)
    loopback: str | None = None
    routes: int | None = None


@dataclass(frozen=True, slots=True)
class SettledSubnet:
    """`routes` are the own ones of its route table, with their targets."""

    name: str
    prefix: Prefix
    propagation: bool
    prefix6: Prefix | None = None
    routes: tuple[tuple[Prefix, str], ...] = ()


@dataclass(frozen=True, slots=True)
class SettledHubTable:
    """A route table of a hub: who uses it, and whose routes are in it."""

    name: str
    users: frozenset[str]
    learns: frozenset[str]


@dataclass(frozen=True, slots=True)
class SettledCloud:
    """`instances` are the public addresses, instance 1 first; `zones` are theirs, where known.

    A hub has no subnets, but `members` and route tables.
    """

    name: str
    region: str
    spaces: tuple[Prefix, ...]
    subnets: dict[str, SettledSubnet]
    gateway_subnet: Prefix
    gateway_class: str
    asn: int
    instances: tuple[Address, ...]
    filters: tuple[FilterRule, ...] | None
    profile: Profile = UNKNOWN
    spaces6: tuple[Prefix, ...] = ()
    gateway_subnet6: Prefix | None = None
    zones: tuple[str, ...] = ()
    is_hub: bool = False
    members: tuple[str, ...] = ()
    hub_tables: tuple[SettledHubTable, ...] = ()

    def holds(self, prefix: Prefix) -> bool:
        """Whether a prefix lies inside the cloud's space."""
        return any(space.covers(prefix) for space in self.spaces)

    def table_of(self, user: str) -> SettledHubTable | None:
        """The route table of a hub that a member, link or circuit uses; None where this is none."""
        return next((table for table in self.hub_tables if user in table.users), None)

    def router_id(self, instance: int) -> int:
        """The instance's address in the gateway subnet, after the cloud's reserved ones."""
        return self.gateway_subnet.value + 3 + instance


@dataclass(frozen=True, slots=True)
class SettledIndex:
    """What belongs to which place, looked up often and made once."""

    tunnels_at: dict[str, tuple[SettledTunnel, ...]]
    legs_at: dict[str, tuple[Leg, ...]]
    by_label: dict[str, Leg]
    links_between: dict[frozenset[str], tuple[SettledLink | SettledCircuit, ...]]
    hubs_of: dict[str, tuple[str, ...]]
    expectations_at: dict[str, tuple[tuple[int, Expectation], ...]]


@dataclass(frozen=True, slots=True)
class Settled:
    """`networks` and `networks6` hold those of each site by name.

    `internal_bgp` are the sites whose gateways tell each other what they learn.
    `links` and `expectations` are as they hold today: what has ended is not in them any more.
    """

    design: Design
    networks: dict[str, dict[str, Prefix]]
    networks6: dict[str, dict[str, Prefix]]
    gateways: dict[str, SettledGateway]
    clouds: dict[str, SettledCloud]
    links: dict[str, SettledLink]
    circuits: dict[str, SettledCircuit]
    expectations: tuple[Expectation, ...]
    internal_bgp: frozenset[str]
    index: SettledIndex = field(repr=False, compare=False)

    @property
    def name(self) -> str:
        return self.design.name

    def tunnels(self) -> Iterator[SettledTunnel]:
        for link in self.links.values():
            yield from link.tunnels

    def legs(self) -> Iterator[Leg]:
        """Everything that crosses from a site to a cloud."""
        yield from self.circuits.values()
        yield from self.tunnels()

    def legs_at(self, place: str) -> tuple[Leg, ...]:
        """The tunnels and circuits that end at a site gateway, a cloud or a hub."""
        return self.index.legs_at.get(place, ())

    def leg(self, label: str) -> Leg:
        """Raises KeyError."""
        return self.index.by_label[label]

    def bundles(self) -> Iterator[SettledLink | SettledCircuit]:
        """All circuits and links."""
        yield from self.circuits.values()
        yield from self.links.values()

    def bundle(self, leg: Leg) -> SettledLink | SettledCircuit:
        """What a leg belongs to: the link of a tunnel, or the circuit itself."""
        return self.links[leg.link] if isinstance(leg, SettledTunnel) else leg

    def hubs_of(self, place: str) -> tuple[str, ...]:
        """The hubs that a cloud is a member of, or to which a site has a link or circuit."""
        return self.index.hubs_of.get(place, ())

    def tunnels_at(self, place: str) -> tuple[SettledTunnel, ...]:
        """The tunnels that end at a site gateway or a cloud."""
        return self.index.tunnels_at.get(place, ())

    def location_of(self, name: str) -> tuple[str, ...]:
        """Where the design file describes a site gateway, or the gateway of a cloud."""
        if name in self.clouds:
            return ("clouds", name, "gateway")
        return ("sites", self.gateways[name].site, "gateways", name)

    def tunnel(self, label: str) -> SettledTunnel:
        """Raises KeyError."""
        found = self.index.by_label[label]
        if not isinstance(found, SettledTunnel):
            raise KeyError(label)
        return found

    def keyed_tunnels(self) -> Iterator[SettledTunnel]:
        """The tunnels whose ends prove themselves by a pre-shared key."""
        for link in self.links.values():
            if link.authentication == "pre-shared-key":
                yield from link.tunnels

    def certified(self) -> dict[str, tuple[str, ...]]:
        """Gateways and clouds that need a certificate, with the identities it must stand for."""
        found: dict[str, dict[str, None]] = {}
        for link in self.links.values():
            if link.authentication == "certificate":
                for tunnel in link.tunnels:
                    found.setdefault(tunnel.gateway, {})[tunnel.uplink.identity] = None
                    found.setdefault(tunnel.cloud, {})[str(tunnel.cloud_address)] = None
        return {name: tuple(identities) for name, identities in found.items()}

    def key_rules(self, tunnel: SettledTunnel) -> tuple[KeyRules, KeyRules]:
        """What the devices at both ends accept as a pre-shared key."""
        ends = self.gateways[tunnel.gateway].profile, self.clouds[tunnel.cloud].profile
        return ends[0].key, ends[1].key

    def expectations_at(self, place: str) -> tuple[tuple[int, Expectation], ...]:
        """The expectations that begin or end at a site or cloud, with their numbers from 1."""
        return self.index.expectations_at.get(place, ())

    def network(self, reference: str) -> Prefix:
        """The prefix behind `place/network`. Raises KeyError."""
        place, _, name = reference.partition("/")
        if place in self.clouds:
            return self.clouds[place].subnets[name].prefix
        return self.networks[place][name]

    def hosts_accept(self, reference: str) -> list[Flow] | None:
        """What the firewalls of the hosts of `place/network` let in; None is everything."""
        place, _, name = reference.partition("/")
        if place in self.clouds:
            return self.design.clouds[place].subnets[name].hosts_accept
        return self.design.sites[place].networks[name].hosts_accept

    def prefixes_of(self, reference: str) -> list[Prefix]:
        """Prefixes behind `place/network`, `place` or a prefix as text."""
        if reference in self.clouds:
            return list(self.clouds[reference].spaces)
        if reference in self.design.sites:
            return list(self.networks[reference].values())
        place = reference.partition("/")[0]
        if place in self.clouds or place in self.design.sites:
            return [self.network(reference)]
        return [parse_prefix(reference)]

    def links_between(self, here: str, there: str) -> tuple[SettledLink | SettledCircuit, ...]:
        """What joins a site and a cloud, also through a hub; for two sites, what joins the first
        one to a hub that both have."""
        found = self.index.links_between.get(frozenset((here, there)), ())
        if not found and here in self.networks and there in self.networks:
            for hub in self.hubs_of(here):
                if hub in self.hubs_of(there):
                    found += self.index.links_between.get(frozenset((here, hub)), ())
        return found

    def exposures(self, reference: str, peer: str) -> list[Exposure]:
        """How a network is known at the place `peer`; the network as it is when no link says."""
        place, _, name = reference.partition("/")
        whole = self.network(reference)
        found: list[Exposure] = []
        for link in self.links_between(place, peer):
            if place != link.site:
                found += [
                    Exposure(name, whole, part.outward_prefix(whole))
                    for part in link.cloud_exposures
                    if part.real.covers(whole)
                ]
            else:
                found += [part for part in link.exposures if part.network == name]
        return list(dict.fromkeys(found)) or [Exposure(name, whole, whole)]

    def seen_as(self, reference: str, place: str) -> list[Prefix]:
        """The prefixes by which the hosts of a place know what `prefixes_of` tells."""
        here = reference.partition("/")[0]
        if here == place or (here not in self.clouds and here not in self.networks):
            return self.prefixes_of(reference)
        if "/" in reference:
            return [part.seen for part in self.exposures(reference, place)]
        links = self.links_between(here, place)
        if here in self.clouds:
            found = [part.seen for link in links for part in link.cloud_exposures]
        else:
            found = [part.seen for link in links for part in link.exposures]
        return list(dict.fromkeys(found)) or self.prefixes_of(reference)

    def host(self, reference: str, peer: str) -> tuple[int, int]:
        """The address that stands for a network in probes: at home, and as `peer` knows it."""
        parts = self.exposures(reference, peer)
        usual = host_of(self.network(reference))
        part = next((p for p in parts if p.real.contains(usual)), parts[0])
        address = usual if part.real.contains(usual) else host_of(part.real)
        return address, part.outward(address)


def host_of(prefix: Prefix) -> int:
    """The address that stands for a network in probes and practice: the tenth, or the middle."""
    return prefix.value + (10 if prefix.size >= 16 else prefix.size // 2)
