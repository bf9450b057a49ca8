"""From a design and the choices for its blanks to the settled design."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from datetime import date

from obrin.core.address.prefix import Prefix, parse_ipv4, parse_prefix
from obrin.core.address.translation import Exposure
from obrin.core.design.abilities import cloud_able, gateway_able
from obrin.core.design.arrangement import arrange, bfd_of, identity_of
from obrin.core.design.choices import Choices, Value
from obrin.core.design.indexing import make_index
from obrin.core.design.joined import hub_tables, rank_ways, spaces_behind
from obrin.core.design.model import Design, Link
from obrin.core.design.references import all_suites
from obrin.core.design.settled import (
    Settled,
    SettledCircuit,
    SettledCloud,
    SettledGateway,
    SettledLink,
    SettledSubnet,
    SettledTunnel,
    SettledUplink,
)
from obrin.core.design.settling.suites import suite_of
from obrin.core.design.settling.work import prefixes_in
from obrin.core.errors import AddressError, SettleError
from obrin.core.ipsec.liveness import Bfd, Liveness

PickPrefix = Callable[[str, Prefix | None], Prefix]
PickPrefixes = Callable[[str, tuple[Prefix, ...] | None], tuple[Prefix, ...]]


def build_settled(design: Design, choices: Choices, today: date | None = None) -> Settled:
    """Raises SettleError when a blank has no choice yet.

    With `today`, what was granted until an earlier day is gone: links are left out, and flows that
    had to work must not any more.
    """

    def pick(key: str, given: Value | None) -> Value:
        if given is not None:
            return given
        choice = choices.get(key)
        if choice is None:
            raise SettleError(f"{key} is still blank. Run 'obrin settle' first")
        return choice.value

    def prefix(key: str, given: Prefix | None) -> Prefix:
        return given if given is not None else parse_prefix(str(pick(key, None)))

    def several(key: str, given: tuple[Prefix, ...] | None) -> tuple[Prefix, ...]:
        return given if given is not None else tuple(prefixes_in(pick(key, None)))

    def several6(key: str, given: tuple[Prefix, ...] | None) -> tuple[Prefix, ...]:
        return several(key, given) if design.stack == "dual" else given or ()

    def prefix6(key: str, given: Prefix | None) -> Prefix | None:
        return prefix(key, given) if design.stack == "dual" else given

    suites = all_suites(design)
    networks: dict[str, dict[str, Prefix]] = {}
    networks6: dict[str, dict[str, Prefix]] = {}
    for site_name, site in design.sites.items():
        here = f"sites.{site_name}.networks"
        networks[site_name] = {
            n: prefix(f"{here}.{n}.prefix", network.prefix) for n, network in site.networks.items()
        }
        networks6[site_name] = {
            n: found for n, network in site.networks.items()
            if (found := prefix6(f"{here}.{n}.prefix6", network.prefix6)) is not None
        }  # fmt: skip
    gateways: dict[str, SettledGateway] = {}
    for site_name, site in design.sites.items():
        for name, gateway in site.gateways.items():
            profile = gateway_able(design, site_name, name).profile
            uplinks = {
                n: SettledUplink(
                    n,
                    u.address,
                    u.inside or u.address,
                    u.provider,
                    u.mtu,
                    identity_of(u, profile),
                    u.rate,
                )
                for n, u in gateway.uplinks.items()
            }
            gateways[name] = SettledGateway(
                name,
                site_name,
                _integer(pick(f"sites.{site_name}.gateways.{name}.as", gateway.asn)),
                parse_ipv4(loopback)
                if (loopback := _loopback(design, choices, site_name, name))
                else min(parse_ipv4(u.address) for u in uplinks.values()),
                profile,
                uplinks,
                networks[site_name],
                None if gateway.filters is None else tuple(gateway.filters),
                networks6[site_name],
                loopback,
                gateway.routes,
            )
    clouds: dict[str, SettledCloud] = {}
    for name, cloud in design.clouds.items():
        here = f"clouds.{name}"
        addresses = pick(f"{here}.gateway.addresses", cloud.gateway.addresses)
        clouds[name] = SettledCloud(
            name,
            cloud.region or "unnamed",
            several(f"{here}.space", cloud.space),
            {
                n: SettledSubnet(
                    n,
                    prefix(f"{here}.subnets.{n}.prefix", s.prefix),
                    s.propagation and (s.table is None or cloud.tables[s.table].propagation),
                    prefix6(f"{here}.subnets.{n}.prefix6", s.prefix6),
                    () if s.table is None else tuple(cloud.tables[s.table].routes.items()),
                )
                for n, s in cloud.subnets.items()
            },
            prefix(f"{here}.gateway.subnet", cloud.gateway.subnet),
            str(pick(f"{here}.gateway.class", cloud.gateway.gateway_class)),
            _integer(pick(f"{here}.gateway.as", cloud.gateway.asn)),
            tuple(addresses) if isinstance(addresses, list) else (str(addresses),),
            None if cloud.filters is None else tuple(cloud.filters),
            cloud_able(design, name).profile,
            several6(f"{here}.space6", cloud.space6),
            prefix6(f"{here}.gateway.subnet6", cloud.gateway.subnet6),
            tuple(cloud.gateway.zones or ()),
            cloud.hub is not None,
            tuple(cloud.hub.members) if cloud.hub is not None else (),
            tuple(hub_tables(design, name)),
        )
    ranks = rank_ways(design)
    circuits = {
        name: SettledCircuit(
            name, circuit.site, circuit.gateway, circuit.cloud,
            prefix(f"circuits.{name}.inside", circuit.inside),
            1 + ranks[circuit.site][name].offset, circuit.provider, circuit.rate, circuit.mtu,
            tuple(
                Exposure(n, networks[circuit.site][n], networks[circuit.site][n])
                for n in circuit.networks or networks[circuit.site]
            ),
            tuple(Exposure("", p, p) for p in spaces_behind(clouds, circuit.cloud, name)),
            circuit.routing, int(circuit.hold), ranks[circuit.site][name].prepend,
            prefix6(f"circuits.{name}.inside6", circuit.inside6),
            None if circuit.bfd is None else Bfd(circuit.bfd.interval, circuit.bfd.multiplier),
        )
        for name, circuit in design.circuits.items()
    }  # fmt: skip
    links: dict[str, SettledLink] = {}
    for name, link in design.links.items():
        if _over(link.until, today):
            continue
        suite = suite_of(name, pick(f"links.{name}.suite", link.suite), suites)
        if suite is None:
            raise SettleError(f"links.{name}.suite is not known any more. Run 'obrin settle'")
        arranged = arrange(design, name)
        links[name] = SettledLink(
            name,
            link.site,
            link.cloud,
            tuple(_exposures(design, name, networks[link.site], prefix)),
            _cloud_exposures(name, link, spaces_behind(clouds, link.cloud, name), several),
            link.routing,
            suite,
            Liveness(link.liveness.delay, link.liveness.wait, link.liveness.tries),
            int(link.bgp.hold),
            link.encapsulation == "always",
            arranged.selection,
            link.authentication,
            bfd_of(design, name, arranged.selection),
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
                    arranged.preference(tunnel_name) + ranks[link.site][name].offset,
                    arranged.roles[tunnel_name],
                    prefix6(f"links.{name}.tunnels.{tunnel_name}.inside6", tunnel.inside6),
                )
                for rank, (tunnel_name, tunnel) in enumerate(link.tunnels.items(), 1)
            ),
            link.bgp.summaries,
            link.bgp.cloud_summaries,
            tuple(link.bgp.communities),
            ranks[link.site][name].prepend,
        )
    wishes = tuple(
        wish.model_copy(update={"must": "not"}) if _over(wish.until, today) else wish
        for wish in design.expectations
    )
    return Settled(
        design, networks, networks6, gateways, clouds, links, circuits, wishes,
        make_index(wishes, links, circuits, clouds),
    )  # fmt: skip


def _over(until: date | None, today: date | None) -> bool:
    return until is not None and today is not None and until < today


def _loopback(design: Design, choices: Choices, site: str, gateway: str) -> str | None:
    """Given or chosen; None where the design has no pool for loopbacks."""
    given = design.sites[site].gateways[gateway].loopback
    if given is not None:
        return given
    choice = choices.get(f"sites.{site}.gateways.{gateway}.loopback")
    return None if choice is None else str(choice.value)


def _exposures(
    design: Design, link_name: str, networks: dict[str, Prefix], prefix: PickPrefix
) -> Iterator[Exposure]:
    """What of a site's networks uses a link, and as what. Raises SettleError."""
    link = design.links[link_name]
    for name in link.networks or networks:
        whole = Exposure(name, networks[name], networks[name])
        if name in link.seen_as:
            seen = prefix(f"links.{link_name}.seen-as.{name}", link.seen_as[name])
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
    name: str, link: Link, spaces: tuple[Prefix, ...], several: PickPrefixes
) -> tuple[Exposure, ...]:
    if not link.translates_cloud:
        return tuple(Exposure("", space, space) for space in spaces)
    seen = several(f"links.{name}.cloud-seen-as", link.cloud_seen_as)
    try:
        return tuple(Exposure("", *pair) for pair in zip(spaces, seen, strict=True))
    except (AddressError, ValueError) as error:
        listed = ", ".join(map(str, spaces))
        raise SettleError(
            f"links.{name}.cloud-seen-as: {error}. Give a prefix of the same length for each of "
            f"{listed}, or none to have them settled"
        ) from None


def _integer(value: Value) -> int:
    return int(value) if not isinstance(value, list) else int(value[0])
