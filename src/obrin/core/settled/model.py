"""The settled design: every value concrete, every tunnel seen from both ends.

This is what all later stages read, and all that they read: what is written in the design file and
matters later stands here. `build_settled` makes it from a design and the choices for its blanks.
It is a frozen value; another state is made of it with `dataclasses.replace`.
"""

from __future__ import annotations

import functools
from collections.abc import Iterator
from dataclasses import dataclass

from obrin.core.address.dual import Dual
from obrin.core.address.prefix import Address, Prefix, parse_address
from obrin.core.address.special import EXAMPLES
from obrin.core.address.translation import Exposure
from obrin.core.design.abilities import Able
from obrin.core.design.places import NetworkRef, Reference
from obrin.core.design.wishes import AcceptedFinding, HostRule
from obrin.core.ipsec.profile import KeyRules
from obrin.core.settled.clouds import SettledCloud, SettledSubnet
from obrin.core.settled.expected import Expected
from obrin.core.settled.granting import Granted
from obrin.core.settled.indexing import Index, make_index
from obrin.core.settled.links import Bundle, Leg, SettledCircuit, SettledLink, SettledTunnel
from obrin.core.settled.sessions import SettledSession, by_tunnel, sessions_of
from obrin.core.settled.shared_secrets import KEY, PASSWORD, SharedSecret, password_label
from obrin.core.settled.sites import SettledGateway, SettledNetwork, SettledSite
from obrin.core.settled.standing import Standards, Surroundings
from obrin.core.settled.ways import Attachment, Way

_INTERNET = tuple(map(parse_address, ("192.0.2.1", "2001:db8::1")))


@dataclass(frozen=True, kw_only=True)
class Settled:
    """`links` and `expectations` are as they hold today: what has ended is not in them any more,
    and in `granted` all the same. `chosen` are the keys of the blanks that were filled."""

    name: str
    sites: dict[str, SettledSite]
    gateways: dict[str, SettledGateway]
    clouds: dict[str, SettledCloud]
    links: dict[str, SettledLink]
    circuits: dict[str, SettledCircuit]
    expectations: tuple[Expected, ...]
    granted: tuple[Granted, ...]
    standards: Standards
    surroundings: Surroundings
    chosen: frozenset[str]
    accepted_findings: tuple[AcceptedFinding, ...] = ()

    @functools.cached_property
    def index(self) -> Index:
        """What belongs to which place, looked up often and made once."""
        return make_index(
            wishes=self.expectations,
            links=self.links,
            circuits=self.circuits,
            clouds=self.clouds,
            gateways=self.gateways,
        )

    @functools.cached_property
    def advertised_over_hubs(self) -> dict[object, tuple[Prefix, ...]]:
        """What the tables of hubs advertise, kept by who works it out: it is the same for all
        that use a table, and as long as the design is wide."""
        return {}

    @functools.cached_property
    def _sessions_over(self) -> dict[str, tuple[SettledSession, ...]]:
        return by_tunnel(self.links.values())

    def sessions_over(self, leg: Leg) -> tuple[SettledSession, ...]:
        """The BGP sessions that go over a tunnel; none where its link is static, or over a
        circuit, which has its own."""
        return self._sessions_over.get(leg.label, ())

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

    def bundles(self) -> Iterator[Bundle]:
        """All circuits and links."""
        yield from self.circuits.values()
        yield from self.links.values()

    def bundles_of(self, site: str) -> tuple[Bundle, ...]:
        """The circuits and links of a site."""
        return self.index.bundles_of.get(site, ())

    def bundle(self, leg: Leg) -> Bundle:
        """What a leg belongs to: the link of a tunnel, or the circuit itself."""
        return self.links[leg.link] if isinstance(leg, SettledTunnel) else leg

    def attachments(self) -> Iterator[Attachment]:
        """Attachments between every hub and its members."""
        return (way for way in self.index.ways.values() if isinstance(way, Attachment))

    def hubs_of(self, place: str) -> tuple[str, ...]:
        """The hubs that a cloud is a member of, or to which a site has a link or circuit."""
        return self.index.hubs_of.get(place, ())

    def tunnels_at(self, place: str) -> tuple[SettledTunnel, ...]:
        """The tunnels that end at a site gateway or a cloud."""
        return self.index.tunnels_at.get(place, ())

    def location_of(self, name: str) -> tuple[str, ...]:
        """Say where the design file describes a site gateway, or the gateway of a cloud."""
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

    def certified_tunnels(self) -> list[SettledTunnel]:
        """The tunnels whose ends prove themselves by certificates."""
        links = (k for k in self.links.values() if k.authentication == "certificate")
        return [tunnel for link in links for tunnel in link.tunnels]

    def shared_secrets(self) -> Iterator[SharedSecret]:
        """Pre-shared keys, then passwords of sessions, each in the order of the tunnels."""
        for tunnel in self.keyed_tunnels():
            yield SharedSecret(label=tunnel.label, tunnel=tunnel, what=KEY)
        for link in self.links.values():
            if link.password:
                for session in sessions_of(link):
                    label = password_label(session.label)
                    yield SharedSecret(label=label, tunnel=session.first, what=PASSWORD)

    def certified(self) -> dict[str, tuple[str, ...]]:
        """Gateways and clouds that need a certificate, with the identities it must stand for."""
        found: dict[str, dict[str, None]] = {}
        for tunnel in self.certified_tunnels():
            found.setdefault(tunnel.gateway, {})[tunnel.uplink.identity] = None
            found.setdefault(tunnel.cloud, {})[str(tunnel.cloud_address)] = None
        return {name: tuple(identities) for name, identities in found.items()}

    def key_rules(self, tunnel: SettledTunnel) -> tuple[KeyRules, KeyRules]:
        """What the devices at both ends accept as a pre-shared key."""
        ends = self.gateways[tunnel.gateway].profile, self.clouds[tunnel.cloud].profile
        return ends[0].key, ends[1].key

    def secret_rules(self, secret: SharedSecret) -> tuple[KeyRules, ...]:
        """What the devices at both ends accept; nothing is known of passwords but their length."""
        return self.key_rules(secret.tunnel) if secret.is_key else (KeyRules(most=80),) * 2

    def internal_peers(self, gateway: str) -> Iterator[SettledGateway]:
        """The gateways of its site that a site gateway speaks internal BGP with: between
        loopbacks, since no single line of the site may be what it hangs on."""
        mine = self.gateways[gateway]
        site = self.sites[mine.site]
        if site.internal_bgp and mine.loopback is not None:
            for name in site.gateways:
                other = self.gateways[name]
                if other is not mine and other.asn == mine.asn and other.loopback is not None:
                    yield other

    def expectations_at(self, place: str) -> tuple[Expected, ...]:
        """The expectations that begin or end at a site or cloud."""
        return self.index.expectations_at.get(place, ())

    def ends_of(self, link: SettledLink) -> Iterator[Able]:
        """What can be done at the cloud's end first, then at each gateway of the link's tunnels."""
        yield self.clouds[link.cloud].able
        for name in dict.fromkeys(tunnel.gateway for tunnel in link.tunnels):
            yield self.gateways[name].able

    def way(self, label: str) -> Way:
        """What a route leads into: a tunnel, a circuit, an attachment or a neighbour. Raises
        KeyError."""
        return self.index.ways[label]

    def network(self, reference: NetworkRef) -> Prefix:
        """The prefix of a network or subnet in the family that is meant (the first where none is),
        or the part that is. Raises KeyError."""
        if reference.is_internet:
            return self.internet_host(reference.bits or 32).alone
        if reference.part is not None:
            return reference.part
        held = self._entity(reference).prefix
        return (held.of(reference.bits) if reference.bits else None) or held.first

    def families_at(self, reference: NetworkRef) -> Dual[Prefix]:
        """The prefixes of a network or subnet in every family. Raises KeyError."""
        return self._entity(reference).prefix

    @property
    def families(self) -> tuple[int, ...]:
        """Families that are carried, in bits."""
        return self.surroundings.families

    def internet_host(self, bits: int) -> Address:
        """An address that stands for the internet: for examples (RFC 5737), and nobody's here."""
        return self._internet_hosts[bits]

    @functools.cached_property
    def _internet_hosts(self) -> dict[int, Address]:
        own = {u.address for g in self.gateways.values() for u in g.uplinks.values()}
        own |= {address for cloud in self.clouds.values() for address in cloud.addresses}
        hosts = (*(prefix.address_at(-2) for prefix in EXAMPLES), *_INTERNET)
        free = [host for host in hosts if host not in own]
        return {bits: next(host for host in free if host.bits == bits) for bits in (32, 128)}

    def own_expectations(self) -> Iterator[Expected]:
        """Expectations whose ends both belong to the design; the internet cannot be tried."""
        return (wish for wish in self.expectations if not wish.destination.is_internet)

    def _entity(self, reference: NetworkRef) -> SettledNetwork | SettledSubnet:
        if reference.place in self.clouds:
            return self.clouds[reference.place].subnets[reference.network]
        return self.sites[reference.place].networks[reference.network]

    def hosts_accept(self, reference: NetworkRef) -> tuple[HostRule, ...] | None:
        """What the firewalls of the hosts of a network let in; None is everything."""
        if reference.is_internet:
            return None
        return self._entity(reference).hosts_accept

    def all_hosts_accept(self) -> Iterator[tuple[NetworkRef, tuple[HostRule, ...]]]:
        """Every network whose hosts have firewalls, with their rules."""
        for place in (*self.sites, *self.clouds):
            yield from self.hosts_accept_at(place)

    def hosts_accept_at(self, place: str) -> Iterator[tuple[NetworkRef, tuple[HostRule, ...]]]:
        """Rules of the hosts of a site or cloud, by network."""
        cloud = self.clouds.get(place)
        held = self.sites[place].networks if cloud is None else cloud.subnets
        for name, network in held.items():
            if network.hosts_accept is not None:
                yield NetworkRef(place, name), network.hosts_accept

    def host_senders(self, rule: HostRule, place: str) -> list[Prefix] | None:
        """Resolve from where a rule of a host's firewall lets in, as its place knows it; None:
        anywhere."""
        return None if rule.source is None else self.seen_as(rule.source, place)

    def networks_at(self, site: str) -> list[tuple[str, Prefix]]:
        """The prefixes of a site's networks, with their names."""
        networks = self.sites[site].networks.values()
        return [(network.name, prefix) for network in networks for prefix in network.prefix]

    def network_of_router(self, site: str, router: Address) -> str | None:
        """The network of a site in which an inner router stands, beside the gateways; None where
        there is no such network."""
        return next(
            (
                name
                for name, network in self.sites[site].networks.items()
                if not any(network.behind) and any(p.holds(router) for p in network.prefix)
            ),
            None,
        )

    def prefixes_of(self, reference: Reference) -> list[Prefix]:
        """The prefixes behind a network or all of a place, in the families that are meant; a
        prefix stands for itself."""
        if isinstance(reference, Prefix):
            return [reference]
        if reference.part is not None or reference.is_internet:
            return [self.network(reference)]
        if reference.network:
            found = list(self.families_at(reference))
        elif reference.place in self.clouds:
            found = list(self.clouds[reference.place].all_spaces)
        else:
            found = [prefix for _, prefix in self.networks_at(reference.place)]
        return [prefix for prefix in found if reference.bits in (0, prefix.bits)]

    def links_between(self, here: str, there: str) -> tuple[Bundle, ...]:
        """What joins a site and a cloud, also through a hub; for two sites, what joins the first
        one to a hub that both have."""
        found = self.index.links_between.get(frozenset((here, there)), ())
        if not found and here in self.sites and there in self.sites:
            for hub in self.hubs_of(here):
                if hub in self.hubs_of(there):
                    found += self.index.links_between.get(frozenset((here, hub)), ())
        return found

    def exposures(self, reference: NetworkRef, peer: str) -> list[Exposure]:
        """How a network is known at the place `peer`, in the families that are meant; the network
        as it is when no link says."""
        found: list[Exposure] = []
        for whole in self.prefixes_of(reference):
            parts = list(dict.fromkeys(self._exposed(reference, whole, peer)))
            found += parts or [Exposure(reference.network, whole, whole)]
        return found

    def _exposed(self, reference: NetworkRef, whole: Prefix, peer: str) -> Iterator[Exposure]:
        place, name = reference.place, reference.network
        for link in self.links_between(place, peer):
            if place != link.site:
                for part in link.cloud_exposures:
                    if part.real.covers(whole):
                        yield Exposure(name, whole, part.outward_prefix(whole))
            else:
                for part in link.exposures:
                    if part.network == name and (inner := part.within(whole)) is not None:
                        yield inner

    def seen_as(self, reference: Reference, place: str) -> list[Prefix]:
        """The prefixes by which the hosts of a place know what `prefixes_of` gives."""
        if isinstance(reference, Prefix) or reference.place == place:
            return self.prefixes_of(reference)
        if reference.network:
            return [part.seen for part in self.exposures(reference, place)]
        links = self.links_between(reference.place, place)
        if reference.place in self.clouds:
            found = [part.seen for link in links for part in link.cloud_exposures]
        else:
            found = [part.seen for link in links for part in link.exposures]
        known = [prefix for prefix in dict.fromkeys(found) if reference.bits in (0, prefix.bits)]
        return known or self.prefixes_of(reference)

    def host(self, reference: NetworkRef, peer: str) -> tuple[Address, Address]:
        """The address that stands for a network in probes: at home, and as `peer` knows it."""
        usual = host_of(self.network(reference))
        parts = [p for p in self.exposures(reference, peer) if p.real.bits == usual.bits]
        part = next((p for p in parts if p.real.holds(usual)), parts[0])
        address = usual if part.real.holds(usual) else host_of(part.real)
        return address, part.outward(address)


def host_of(prefix: Prefix) -> Address:
    """The address that stands for a network in probes and practice: the tenth, or the middle."""
    return prefix.address_at(10 if prefix.size >= 16 else prefix.size // 2)
