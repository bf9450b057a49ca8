"""Circuits, and links with their tunnels, as they stand once every blank has a value."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from datetime import date

from obrin.core.address.prefix import Prefix
from obrin.core.address.translation import Exposure
from obrin.core.design.arrangement import Arrangement, arrange, bfd_of
from obrin.core.design.joining import Circuit
from obrin.core.design.model import Link
from obrin.core.design.references import all_suites
from obrin.core.errors import AddressError, SettleError
from obrin.core.ipsec.liveness import Bfd, Liveness
from obrin.core.ipsec.suite import Suite
from obrin.core.settle.suites import suite_of
from obrin.core.settled.joined import Rank, rank_ways, spaces_behind
from obrin.core.settled.model import (
    SettledCircuit,
    SettledCloud,
    SettledGateway,
    SettledLink,
    SettledTunnel,
)
from obrin.core.settled.picking import Picker
from obrin.core.settled.places import Networks


@dataclass(frozen=True, slots=True)
class Ground:
    """What ways are built on: the places that they join, and how ways of a site are ranked."""

    picker: Picker
    networks: Networks
    gateways: Mapping[str, SettledGateway]
    clouds: Mapping[str, SettledCloud]
    ranks: Mapping[str, Mapping[str, Rank]]

    @classmethod
    def of(
        cls, picker: Picker, networks: Networks, gateways: Mapping[str, SettledGateway],
        clouds: Mapping[str, SettledCloud],
    ) -> Ground:  # fmt: skip
        return cls(picker, networks, gateways, clouds, rank_ways(picker.design))


def over(until: date | None, today: date | None) -> bool:
    """Whether what was granted until a day has ended."""
    return until is not None and today is not None and until < today


def circuit_of(ground: Ground, name: str, circuit: Circuit) -> SettledCircuit:
    networks = ground.networks[circuit.site]
    rank = ground.ranks[circuit.site][name]
    exposed = circuit.networks or networks
    behind = spaces_behind(ground.clouds, circuit.cloud, name)
    return SettledCircuit(
        name=name,
        site=circuit.site,
        gateway=circuit.gateway,
        cloud=circuit.cloud,
        inside=ground.picker.prefix(f"circuits.{name}.inside", circuit.inside),
        preference=1 + rank.offset,
        provider=circuit.provider,
        rate=circuit.rate,
        mtu=circuit.mtu,
        exposures=tuple(Exposure(n, networks[n], networks[n]) for n in exposed),
        cloud_exposures=tuple(Exposure("", space, space) for space in behind),
        routing=circuit.routing,
        hold=int(circuit.hold),
        prepend=rank.prepend,
        inside6=ground.picker.prefix6(f"circuits.{name}.inside6", circuit.inside6),
        bfd=None if circuit.bfd is None else Bfd(circuit.bfd.interval, circuit.bfd.multiplier),
    )


def link_of(ground: Ground, name: str, link: Link) -> SettledLink:
    """Raises SettleError, also for translations that do not fit."""
    arranged = arrange(ground.picker.design, name)
    behind = spaces_behind(ground.clouds, link.cloud, name)
    return SettledLink(
        name=name,
        site=link.site,
        cloud=link.cloud,
        exposures=tuple(_exposures(ground.picker, name, ground.networks[link.site])),
        cloud_exposures=_cloud_exposures(ground.picker, name, link, behind),
        routing=link.routing,
        suite=_suite(ground.picker, name, link),
        liveness=Liveness(link.liveness.delay, link.liveness.wait, link.liveness.tries),
        hold=int(link.bgp.hold),
        always_encapsulate=link.encapsulation == "always",
        selection=arranged.selection,
        authentication=link.authentication,
        bfd=bfd_of(ground.picker.design, name, arranged.selection),
        tunnels=tuple(_tunnels(ground, name, link, arranged)),
        summaries=link.bgp.summaries,
        cloud_summaries=link.bgp.cloud_summaries,
        communities=tuple(link.bgp.communities),
        prepend=ground.ranks[link.site][name].prepend,
    )


def _suite(picker: Picker, name: str, link: Link) -> Suite:
    chosen = picker.value(f"links.{name}.suite", link.suite)
    suite = suite_of(name, chosen, all_suites(picker.design))
    if suite is None:
        raise SettleError(f"links.{name}.suite is not known any more. Run 'obrin settle'")
    return suite


def _tunnels(
    ground: Ground, name: str, link: Link, arranged: Arrangement
) -> Iterator[SettledTunnel]:
    offset = ground.ranks[link.site][name].offset
    for rank, (tunnel_name, tunnel) in enumerate(link.tunnels.items(), 1):
        here = f"links.{name}.tunnels.{tunnel_name}"
        yield SettledTunnel(
            name=tunnel_name,
            link=name,
            gateway=tunnel.gateway,
            uplink=ground.gateways[tunnel.gateway].uplinks[tunnel.uplink],
            cloud=link.cloud,
            instance=tunnel.instance,
            cloud_address=ground.clouds[link.cloud].instances[tunnel.instance - 1],
            inside=ground.picker.prefix(f"{here}.inside", tunnel.inside),
            rank=rank,
            preference=arranged.preference(tunnel_name) + offset,
            role=arranged.roles[tunnel_name],
            inside6=ground.picker.prefix6(f"{here}.inside6", tunnel.inside6),
        )


def _exposures(picker: Picker, link_name: str, networks: dict[str, Prefix]) -> Iterator[Exposure]:
    """What of a site's networks uses a link, and as what. Raises SettleError."""
    link = picker.design.links[link_name]
    for name in link.networks or networks:
        whole = Exposure(name, networks[name], networks[name])
        if name in link.seen_as:
            seen = picker.prefix(f"links.{link_name}.seen-as.{name}", link.seen_as[name])
            try:
                whole = Exposure(name, networks[name], seen)
            except AddressError as error:
                raise SettleError(
                    f"links.{link_name}.seen-as.{name}: {error}. Give a prefix of the same length"
                ) from None
        if name not in link.only:
            yield whole
            continue
        for part in link.only[name]:
            if not networks[name].covers(part):
                raise SettleError(
                    f"links.{link_name}.only.{name}: {part} is not inside {networks[name]}. "
                    "Give a part of the network"
                )
            yield Exposure(name, part, whole.outward_prefix(part))


def _cloud_exposures(
    picker: Picker, name: str, link: Link, spaces: tuple[Prefix, ...]
) -> tuple[Exposure, ...]:
    if not link.translates_cloud:
        return tuple(Exposure("", space, space) for space in spaces)
    seen = picker.prefixes(f"links.{name}.cloud-seen-as", link.cloud_seen_as)
    try:
        return tuple(Exposure("", *pair) for pair in zip(spaces, seen, strict=True))
    except (AddressError, ValueError) as error:
        listed = ", ".join(map(str, spaces))
        raise SettleError(
            f"links.{name}.cloud-seen-as: {error}. Give a prefix of the same length for each of "
            f"{listed}, or none to have them settled"
        ) from None
