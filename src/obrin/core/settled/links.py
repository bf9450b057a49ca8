"""Circuits, and links with their tunnels, as they stand once every blank has a value."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from datetime import date
from typing import ClassVar

from obrin.core.address.dual import Dual, of_families
from obrin.core.address.prefix import Address, Prefix
from obrin.core.address.translation import Exposure
from obrin.core.design.arrangement import ACTIVE, Arrangement, arrange
from obrin.core.design.joining import SITE, Circuit
from obrin.core.design.model import Link, Tunnel
from obrin.core.design.values import written_out
from obrin.core.errors import AddressError, Misfit
from obrin.core.ipsec.liveness import Bfd
from obrin.core.settle.blank import circuit_key, link_key, suffix
from obrin.core.settled.as_entered import SettledEntered, entered_of
from obrin.core.settled.clouds import SettledCloud, spaces_behind
from obrin.core.settled.picking import Picker
from obrin.core.settled.ranks import Rank
from obrin.core.settled.sites import SettledGateway, SettledNetwork, SettledSite, SettledUplink
from obrin.core.settled.terms import Terms, settled_terms, terms_of


class Inside:
    """The addresses of both ends on the point-to-point blocks `inside`: the cloud has the first
    host of each, or the site where `site_first`."""

    __slots__ = ()
    inside: Dual[Prefix]
    site_first: bool

    @property
    def cloud_inside(self) -> Address:
        """The block that its session runs in: in the IPv4 block where there is one."""
        return self.ends_inside(self.inside.first)[1]

    @property
    def site_inside(self) -> Address:
        return self.ends_inside(self.inside.first)[0]

    @property
    def peers(self) -> tuple[Address, Address]:
        """The addresses at which its session ends, at the site and at the cloud."""
        return self.site_inside, self.cloud_inside

    @property
    def ends_beyond(self) -> bool:
        """Whether its session does not run between the addresses inside."""
        return self.peers != (self.site_inside, self.cloud_inside)

    def insides(self, *, at_site: bool) -> Dual[Address]:
        """One end's addresses."""
        return of_families(self.ends_inside(block)[not at_site] for block in self.inside)

    def ends_inside(self, block: Prefix) -> tuple[Address, Address]:
        """The addresses of site and cloud in one of the blocks."""
        first, second = block.ends()
        return (first, second) if self.site_first else (second, first)


@dataclass(frozen=True, slots=True, kw_only=True)
class SettledTunnel(Inside):
    """One tunnel.

    `rank` is its place in the link, from 1. `beyond` are the addresses of site and cloud at which
    its session ends, each None where that is inside the tunnel. `preference` is the rank that
    routing gives it, the lower the better: that of the first shared one for all that are shared.
    `origin` is the name that the design has for its link, where `link` names one version of it.
    """

    name: str
    link: str
    gateway: str
    uplink: SettledUplink
    cloud: str
    instance: int
    cloud_address: Address
    inside: Dual[Prefix]
    rank: int
    preference: int
    role: str
    site_first: bool = False
    cloud_initiates: bool = False
    beyond: tuple[Address | None, Address | None] = (None, None)
    origin: str = ""
    kind: ClassVar = "tunnel"

    @property
    def designed(self) -> str:
        """Its label in the design, whichever version this is."""
        return f"{self.origin or self.link}/{self.name}"

    @property
    def peers(self) -> tuple[Address, Address]:
        site, cloud = self.beyond
        return site or self.site_inside, cloud or self.cloud_inside

    @property
    def label(self) -> str:
        """Unique in the design: link and tunnel."""
        return f"{self.link}/{self.name}"


@dataclass(frozen=True, slots=True, kw_only=True)
class SettledCircuit(Inside):
    """A dedicated line: a link and its only leg in one. `preference` counts as in tunnels: lower
    comes first. What it has nothing of is as where a link has not said it."""

    name: str
    site: str
    gateway: str
    cloud: str
    inside: Dual[Prefix]
    preference: int
    provider: str | None
    rate: float | None
    mtu: int
    exposures: tuple[Exposure, ...]
    cloud_exposures: tuple[Exposure, ...]
    routing: str
    hold: int
    site_first: bool = False
    prepend: int = 0
    bfd: Bfd | None = None
    owner: str | None = None
    accepted: date | None = None
    kind: ClassVar = "circuit"
    role: ClassVar = ACTIVE
    selection: ClassVar = "interface"
    authentication: ClassVar = ""
    communities: ClassVar[tuple[str, ...]] = ()
    summaries: ClassVar[tuple[Prefix, ...]] = ()
    cloud_summaries: ClassVar[tuple[Prefix, ...]] = ()
    sends_med: ClassVar = False

    @property
    def place(self) -> tuple[str, str]:
        """Its place in the design."""
        return "circuits", self.name

    @property
    def legs(self) -> tuple[SettledCircuit, ...]:
        return (self,)

    @property
    def rank(self) -> int:
        return self.preference

    @property
    def label(self) -> str:
        """Unique in the design, and unlike that of any tunnel."""
        return circuit_label(self.name)

    @property
    def designed(self) -> str:
        return self.label


def circuit_label(name: str) -> str:
    """What the way of a circuit is called, and the BGP session on it."""
    return f"{name}/circuit"


Leg = SettledTunnel | SettledCircuit
"""What crosses from a site to a cloud: a tunnel or a circuit."""


@dataclass(frozen=True, kw_only=True)
class SettledLink(Terms):
    """`exposures` are the site's networks, or parts of them, that use the link;
    `cloud_exposures` are the cloud's space, or that of a hub's members.

    `prepend` is how often the site puts its AS in front once more on this link, so that what
    several hubs bring leads back over the preferred one. `password` is whether its BGP sessions
    have one, `signature` how it is used, `sends_med` whether they send which tunnel is
    preferred; `one_each` is whether each family has a session of its own. `origin` is the name that
    the design has for it, where a change has several versions of it at once.
    """

    name: str
    site: str
    cloud: str
    exposures: tuple[Exposure, ...]
    cloud_exposures: tuple[Exposure, ...]
    routing: str
    hold: int
    tunnels: tuple[SettledTunnel, ...]
    entered: Mapping[str, SettledEntered] = field(default_factory=dict)
    summaries: tuple[Prefix, ...] = ()
    cloud_summaries: tuple[Prefix, ...] = ()
    communities: tuple[str, ...] = ()
    prepend: int = 0
    password: bool = False
    signature: str = "tcp-md5"
    sends_med: bool = False
    one_each: bool = False
    origin: str = ""
    kind: ClassVar = "link"

    @property
    def place(self) -> tuple[str, str]:
        """Its place in the design."""
        return "links", self.name

    @property
    def legs(self) -> tuple[SettledTunnel, ...]:
        return self.tunnels


Bundle = SettledLink | SettledCircuit
"""What joins a site and a cloud, with everything that belongs to it."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Ground:
    """What ways are built on: the places that they join, and how ways of a site are ranked."""

    picker: Picker
    sites: Mapping[str, SettledSite]
    gateways: Mapping[str, SettledGateway]
    clouds: Mapping[str, SettledCloud]
    ranks: Mapping[str, Mapping[str, Rank]]


def circuit_of(ground: Ground, name: str, circuit: Circuit) -> SettledCircuit:
    networks = ground.sites[circuit.site].networks
    rank = ground.ranks[circuit.site][name]
    exposed = circuit.networks or networks
    behind = spaces_behind(ground.clouds, circuit.cloud, name)
    return SettledCircuit(
        name=name,
        site=circuit.site,
        gateway=circuit.gateway,
        cloud=circuit.cloud,
        inside=ground.picker.dual(circuit_key(name), "inside", circuit.inside, circuit.inside6),
        preference=1 + rank.offset,
        provider=circuit.provider,
        rate=circuit.rate,
        mtu=circuit.mtu,
        exposures=tuple(part for n in exposed for part in _as_it_is(networks[n])),
        cloud_exposures=tuple(Exposure("", space, space) for space in behind),
        routing=circuit.routing,
        hold=int(circuit.hold_time),
        site_first=circuit.inside_first == SITE,
        prepend=rank.prepend,
        bfd=None if circuit.bfd is None else Bfd(circuit.bfd.interval, circuit.bfd.multiplier),
        owner=circuit.owner,
        accepted=circuit.accepted,
    )


def link_of(ground: Ground, name: str, link: Link) -> SettledLink:
    """Raises SettleError, also for translations that do not fit."""
    arranged = arrange(ground.picker.design, name)
    if link.bgp.sessions == "each" and len(ground.picker.families) > 1 and _any_beyond(link):
        raise Misfit(
            ("links", name, "bgp", "sessions"),
            "sessions that end beyond their tunnels are one for both families",
            "Leave 'sessions' out, or end them inside",
        )
    behind = spaces_behind(ground.clouds, link.cloud, name)
    return SettledLink(
        name=name,
        site=link.site,
        cloud=link.cloud,
        exposures=tuple(_exposures(ground.picker, name, ground.sites[link.site].networks)),
        cloud_exposures=_cloud_exposures(ground.picker, name, link, behind),
        routing=link.routing,
        hold=int(link.bgp.hold_time),
        **terms_of(settled_terms(ground.picker, name, link, arranged.selection)),
        tunnels=tuple(_tunnels(ground, name, link, arranged)),
        entered={
            end: entered_of(ground.picker.design, found) for end, found in link.entered.items()
        },
        summaries=written_out(link.bgp.summaries),
        cloud_summaries=written_out(link.bgp.cloud_summaries),
        communities=tuple(link.bgp.communities),
        password=link.routing == "bgp" and link.bgp.password,
        signature=link.bgp.signature,
        sends_med=link.bgp.med,
        one_each=link.bgp.sessions == "each",
        prepend=ground.ranks[link.site][name].prepend,
    )


def _any_beyond(link: Link) -> bool:
    return link.bgp.site_end != "inside" or link.bgp.cloud_end != "inside"


def _tunnels(
    ground: Ground, name: str, link: Link, arranged: Arrangement
) -> Iterator[SettledTunnel]:
    offset = ground.ranks[link.site][name].offset
    for rank, (tunnel_name, tunnel) in enumerate(link.tunnels.items(), 1):
        here = link_key(name, "tunnels", tunnel_name)
        yield SettledTunnel(
            name=tunnel_name,
            link=name,
            gateway=tunnel.gateway,
            uplink=ground.gateways[tunnel.gateway].uplinks[tunnel.uplink],
            cloud=link.cloud,
            instance=tunnel.instance,
            cloud_address=_far_address(ground, link, tunnel),
            inside=ground.picker.dual(here, "inside", tunnel.inside, tunnel.inside6),
            rank=rank,
            preference=arranged.preference(tunnel_name) + offset,
            role=arranged.roles[tunnel_name],
            site_first=tunnel.inside_first == SITE,
            cloud_initiates=tunnel.initiator != SITE,
            beyond=_beyond(ground, name, link, tunnel),
        )


def _beyond(
    ground: Ground, name: str, link: Link, tunnel: Tunnel
) -> tuple[Address | None, Address | None]:
    """Find the address of a session that does not end inside its tunnel. Raises Misfit."""
    site = cloud = None
    if link.routing == "bgp" and link.bgp.site_end == "loopback":
        gateway = ground.gateways[tunnel.gateway]
        site = gateway.loopback if 32 in ground.picker.families else None
        if site is None:
            raise Misfit(
                ("links", name, "bgp", "site-end"),
                f"{tunnel.gateway} has no loopback"
                if gateway.loopback is None
                else "loopbacks are IPv4, which the design does not carry",
                f"Give {tunnel.gateway} a 'loopback', make a pool for loopbacks, or end the "
                "sessions inside",
            )
    if link.routing == "bgp" and link.bgp.cloud_end == "gateway-subnet":
        cloud = ground.clouds[link.cloud].own_address(tunnel.instance)
    return site, cloud


def _far_address(ground: Ground, link: Link, tunnel: Tunnel) -> Address:
    """The instance's in the family of the uplink."""
    bits = ground.gateways[tunnel.gateway].uplinks[tunnel.uplink].address.bits
    instance = ground.clouds[link.cloud].instances[tunnel.instance - 1]
    return instance.of(bits) or instance.first


def _as_it_is(network: SettledNetwork) -> list[Exposure]:
    """Exposures of a network as it is, in each family."""
    return [Exposure(network.name, prefix, prefix) for prefix in network.prefix]


def _exposures(
    picker: Picker, link_name: str, networks: Mapping[str, SettledNetwork]
) -> Iterator[Exposure]:
    """What of a site's networks uses a link, and as what. Raises SettleError."""
    link, here = picker.design.links[link_name], ("links", link_name)
    for name in link.networks or networks:
        wholes = [_known_as(picker, link_name, whole) for whole in _as_it_is(networks[name])]
        parts = link.only.get(name, ())
        yield from (whole for whole in wholes if whole.real.bits not in {p.bits for p in parts})
        for part in parts:
            whole = next((w for w in wholes if w.real.covers(part)), None)
            if whole is None:
                what = f"{part} is not inside {networks[name].prefix}"
                raise Misfit((*here, "only", name), what, "Give a part of the network")
            yield Exposure(name, part, whole.outward_prefix(part))


def _known_as(picker: Picker, link_name: str, whole: Exposure) -> Exposure:
    """A network as the cloud knows it, in one family. Raises SettleError."""
    link, name = picker.design.links[link_name], whole.network
    bits = whole.real.bits
    key = f"seen-as{suffix(bits)}"
    given: Mapping[str, Prefix | None] = link.seen_as if bits == 32 else link.seen_as6
    if name not in given:
        return whole
    seen = picker.prefix(link_key(link_name, key, name), given[name])
    try:
        return Exposure(name, whole.real, seen)
    except AddressError as error:
        fix = "Give a prefix of the same length"
        raise Misfit(("links", link_name, key, name), str(error), fix) from None


def _cloud_exposures(
    picker: Picker, name: str, link: Link, spaces: tuple[Prefix, ...]
) -> tuple[Exposure, ...]:
    if not link.translates_cloud:
        return tuple(Exposure("", space, space) for space in spaces)
    seen = picker.prefixes(link_key(name, "cloud-seen-as"), link.cloud_seen_as)
    bits = {prefix.bits for prefix in seen}
    plain = [Exposure("", space, space) for space in spaces if space.bits not in bits]
    spaces = tuple(space for space in spaces if space.bits in bits)
    try:
        return (*(Exposure("", *pair) for pair in zip(spaces, seen, strict=True)), *plain)
    except (AddressError, ValueError) as error:
        listed = ", ".join(map(str, spaces))
        raise Misfit(
            ("links", name, "cloud-seen-as"),
            str(error),
            f"Give a prefix of the same length for each of {listed}, or none to have them settled",
        ) from None
