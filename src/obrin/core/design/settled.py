"""The settled design: every value concrete, every tunnel seen from both ends.

This is what all later stages read. It is built from a design and the choices for its blanks, and
it is a frozen value: nothing later reaches back to change it.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

from obrin.core.address.prefix import Prefix, parse_ipv4, parse_prefix
from obrin.core.design.choices import Choices, Value
from obrin.core.design.model import Design, Expectation, FilterRule
from obrin.core.design.references import all_suites
from obrin.core.errors import SettleError
from obrin.core.ipsec.liveness import Liveness
from obrin.core.ipsec.suite import Suite


@dataclass(frozen=True, slots=True)
class SettledUplink:
    """`own` is the address on the device: the public one, unless a translator is in front."""

    name: str
    address: str
    own: str
    provider: str | None

    @property
    def translated(self) -> bool:
        return self.own != self.address


@dataclass(frozen=True, slots=True)
class SettledTunnel:
    """One tunnel. `rank` 1 is preferred. Addresses inside are integers."""

    name: str
    link: str
    gateway: str
    uplink: SettledUplink
    cloud: str
    instance: int
    cloud_address: str
    inside: Prefix
    rank: int

    @property
    def cloud_inside(self) -> int:
        """The first host of the block; a /31 has no network address (RFC 3021)."""
        return self.inside.value + (0 if self.inside.length == 31 else 1)

    @property
    def site_inside(self) -> int:
        return self.cloud_inside + 1

    @property
    def label(self) -> str:
        """Unique in the design: link and tunnel."""
        return f"{self.link}/{self.name}"


@dataclass(frozen=True, slots=True)
class SettledLink:
    name: str
    site: str
    cloud: str
    networks: dict[str, Prefix]
    routing: str
    suite: Suite
    liveness: Liveness
    hold: int
    always_encapsulate: bool
    tunnels: tuple[SettledTunnel, ...]


@dataclass(frozen=True, slots=True)
class SettledGateway:
    name: str
    site: str
    asn: int
    router_id: int
    uplinks: dict[str, SettledUplink]
    networks: dict[str, Prefix]
    filters: tuple[FilterRule, ...] | None


@dataclass(frozen=True, slots=True)
class SettledSubnet:
    name: str
    prefix: Prefix
    propagation: bool


@dataclass(frozen=True, slots=True)
class SettledCloud:
    """`instances` are the public addresses, instance 1 first."""

    name: str
    region: str
    space: Prefix
    subnets: dict[str, SettledSubnet]
    gateway_subnet: Prefix
    gateway_class: str
    asn: int
    instances: tuple[str, ...]
    filters: tuple[FilterRule, ...] | None

    def router_id(self, instance: int) -> int:
        """The instance's address in the gateway subnet, after the cloud's reserved ones."""
        return self.gateway_subnet.value + 3 + instance


@dataclass(frozen=True, slots=True)
class SettledIndex:
    """What belongs to which place, looked up often and made once."""

    tunnels_at: dict[str, tuple[SettledTunnel, ...]]
    by_label: dict[str, SettledTunnel]
    expectations_at: dict[str, tuple[tuple[int, Expectation], ...]]


@dataclass(frozen=True, slots=True)
class Settled:
    design: Design
    gateways: dict[str, SettledGateway]
    clouds: dict[str, SettledCloud]
    links: dict[str, SettledLink]
    index: SettledIndex = field(repr=False, compare=False)

    @property
    def name(self) -> str:
        return self.design.name

    @property
    def expectations(self) -> list[Expectation]:
        return self.design.expectations

    def tunnels(self) -> Iterator[SettledTunnel]:
        for link in self.links.values():
            yield from link.tunnels

    def tunnels_at(self, place: str) -> tuple[SettledTunnel, ...]:
        """The tunnels that end at a site gateway or a cloud."""
        return self.index.tunnels_at.get(place, ())

    def tunnel(self, label: str) -> SettledTunnel:
        """Raises KeyError."""
        return self.index.by_label[label]

    def expectations_at(self, place: str) -> tuple[tuple[int, Expectation], ...]:
        """The expectations that begin or end at a site or cloud, with their numbers from 1."""
        return self.index.expectations_at.get(place, ())

    def network(self, reference: str) -> Prefix:
        """The prefix behind `place/network`. Raises KeyError."""
        place, _, name = reference.partition("/")
        if place in self.clouds:
            return self.clouds[place].subnets[name].prefix
        return self.design.sites[place].networks[name]

    def prefixes_of(self, reference: str) -> list[Prefix]:
        """Prefixes behind `place/network`, `place` or a prefix as text."""
        if reference in self.clouds:
            return [self.clouds[reference].space]
        if reference in self.design.sites:
            return list(self.design.sites[reference].networks.values())
        place = reference.partition("/")[0]
        if place in self.clouds or place in self.design.sites:
            return [self.network(reference)]
        return [parse_prefix(reference)]


def host_of(prefix: Prefix) -> int:
    """The address that stands for a network in probes and practice: the tenth, or the middle."""
    return prefix.value + (10 if prefix.size >= 16 else prefix.size // 2)


def build_settled(design: Design, choices: Choices) -> Settled:
    """Raises SettleError when a blank has no choice yet."""

    def pick(key: str, given: Value | None) -> Value:
        if given is not None:
            return given
        choice = choices.get(key)
        if choice is None:
            raise SettleError(f"{key} is still blank. Run 'obrin settle' first")
        return choice.value

    def prefix(key: str, given: Prefix | None) -> Prefix:
        return given if given is not None else parse_prefix(str(pick(key, None)))

    suites = all_suites(design)
    gateways: dict[str, SettledGateway] = {}
    for site_name, site in design.sites.items():
        for name, gateway in site.gateways.items():
            uplinks = {
                n: SettledUplink(n, u.address, u.inside or u.address, u.provider)
                for n, u in gateway.uplinks.items()
            }
            gateways[name] = SettledGateway(
                name,
                site_name,
                _integer(pick(f"sites.{site_name}.gateways.{name}.as", gateway.asn)),
                min(parse_ipv4(u.address) for u in uplinks.values()),
                uplinks,
                dict(site.networks),
                None if gateway.filters is None else tuple(gateway.filters),
            )
    clouds: dict[str, SettledCloud] = {}
    for name, cloud in design.clouds.items():
        here = f"clouds.{name}"
        addresses = pick(f"{here}.gateway.addresses", cloud.gateway.addresses)
        clouds[name] = SettledCloud(
            name,
            cloud.region or "unnamed",
            prefix(f"{here}.space", cloud.space),
            {
                n: SettledSubnet(n, prefix(f"{here}.subnets.{n}.prefix", s.prefix), s.propagation)
                for n, s in cloud.subnets.items()
            },
            prefix(f"{here}.gateway.subnet", cloud.gateway.subnet),
            str(pick(f"{here}.gateway.class", cloud.gateway.gateway_class)),
            _integer(pick(f"{here}.gateway.as", cloud.gateway.asn)),
            tuple(addresses) if isinstance(addresses, list) else (str(addresses),),
            None if cloud.filters is None else tuple(cloud.filters),
        )
    links: dict[str, SettledLink] = {}
    for name, link in design.links.items():
        site = design.sites[link.site]
        suite = suites.get(str(pick(f"links.{name}.suite", link.suite)))
        if suite is None:
            raise SettleError(f"links.{name}.suite is not known any more. Run 'obrin settle'")
        links[name] = SettledLink(
            name,
            link.site,
            link.cloud,
            {n: site.networks[n] for n in link.networks or site.networks},
            link.routing,
            suite,
            Liveness(link.liveness.delay, link.liveness.wait, link.liveness.tries),
            int(link.bgp.hold),
            link.encapsulation == "always",
            tuple(
                SettledTunnel(
                    tunnel_name,
                    name,
                    tunnel.gateway,
                    gateways[tunnel.gateway].uplinks[tunnel.uplink],
                    link.cloud,
                    tunnel.instance,
                    clouds[link.cloud].instances[tunnel.instance - 1],
                    prefix(f"links.{name}.tunnels.{tunnel_name}.inside", tunnel.inside),
                    rank,
                )
                for rank, (tunnel_name, tunnel) in enumerate(link.tunnels.items(), 1)
            ),
        )
    return Settled(design, gateways, clouds, links, _index(design, links))


def _index(design: Design, links: dict[str, SettledLink]) -> SettledIndex:
    tunnels_at: dict[str, list[SettledTunnel]] = {}
    by_label: dict[str, SettledTunnel] = {}
    for link in links.values():
        for tunnel in link.tunnels:
            by_label[tunnel.label] = tunnel
            tunnels_at.setdefault(tunnel.gateway, []).append(tunnel)
            tunnels_at.setdefault(tunnel.cloud, []).append(tunnel)
    expectations_at: dict[str, list[tuple[int, Expectation]]] = {}
    for number, wish in enumerate(design.expectations, 1):
        for place in {r.partition("/")[0] for r in (wish.source, wish.destination)}:
            expectations_at.setdefault(place, []).append((number, wish))
    return SettledIndex(
        {place: tuple(found) for place, found in tunnels_at.items()},
        by_label,
        {place: tuple(found) for place, found in expectations_at.items()},
    )


def _integer(value: Value) -> int:
    return int(value) if not isinstance(value, list) else int(value[0])
