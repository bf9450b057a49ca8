"""A settled gateway's configuration as the values that its standard data holds."""

from __future__ import annotations

import itertools
from collections.abc import Iterator
from dataclasses import fields, replace

from obrin.core.address.dual import Dual
from obrin.core.address.prefix import Address, Prefix
from obrin.core.address.translation import Exposure
from obrin.core.design.places import NetworkRef
from obrin.core.handover.ends.records import (
    CircuitEnd,
    InternalEnd,
    LegEnd,
    SessionEnd,
    TunnelEnd,
    circuits_at,
    ends_at,
    internal_at,
)
from obrin.core.handover.standard.basic import circuit_interface, interface_name
from obrin.core.handover.standard.bgp import Neighbour, Speaker
from obrin.core.handover.standard.circuits import Circuit
from obrin.core.handover.standard.device import DeviceConfig
from obrin.core.handover.standard.filters import Filter
from obrin.core.handover.standard.hosts import HostFirewall
from obrin.core.handover.standard.interfaces import (
    CIRCUIT,
    LOOPBACK,
    NETWORK,
    TUNNEL,
    UPLINK,
    Interface,
)
from obrin.core.handover.standard.ipsec import Tunnel
from obrin.core.handover.standard.routes import Hop, StaticRoute
from obrin.core.handover.standard.translation import Translation
from obrin.core.ipsec.overhead import LEAST_IPV6_MTU
from obrin.core.reach.filters import filter_of, host_rules
from obrin.core.settled.model import Settled


def device_config(settled: Settled, place: str) -> DeviceConfig:
    """The configuration of a site gateway or a cloud gateway, without any secret."""
    ends, circuits = ends_at(settled, place), circuits_at(settled, place)
    interfaces = (
        *_own_interfaces(settled, place),
        *map(_circuit_interface, circuits),
        *map(_tunnel_interface, ends),
    )
    names = (circuit_interface(c.name) for c in circuits), (interface_name(e.tunnel) for e in ends)
    return DeviceConfig(
        interfaces=interfaces,
        filter=Filter(
            rules=filter_of(settled, place), interfaces=tuple(n for part in names for n in part)
        ),
        tunnels=tuple(map(_tunnel, ends)),
        circuits=tuple(map(_circuit, circuits)),
        speaker=_speaker(settled, place, ends, circuits),
        routes=tuple(
            sorted((*_inner(settled, place), *_static(ends, circuits)), key=lambda r: r.prefix.bits)
        ),
        translations=tuple(_translations(ends)),
        host_firewalls=tuple(_host_firewalls(settled, place)),
    )


def _host_firewalls(settled: Settled, place: str) -> Iterator[HostFirewall]:
    """Filters of the hosts behind a site's gateway. A cloud configures those of its own hosts."""
    if place in settled.clouds:
        return
    gateway = settled.gateways[place]
    for name in gateway.networks:
        rules = host_rules(settled, NetworkRef(gateway.site, name))
        if rules is not None:
            yield HostFirewall(network=name, rules=rules)


def _own_interfaces(settled: Settled, place: str) -> Iterator[Interface]:
    if place in settled.clouds:
        cloud = settled.clouds[place]
        for number, instance in enumerate(cloud.instances, 1):
            held = tuple((address, address.bits) for address in instance)
            yield Interface(name=f"instance-{number}", role=UPLINK, addresses=held)
        for subnet in cloud.subnets.values():
            yield _network(subnet.name, subnet.prefix)
        for number, address in sorted(ends_beyond(settled, place)):
            yield _single(f"peer-{number}", LOOPBACK, address)
    else:
        gateway = settled.gateways[place]
        if gateway.loopback is not None:
            yield _single(LOOPBACK, LOOPBACK, gateway.loopback)
        for uplink in gateway.uplinks.values():
            yield _single(uplink.name, UPLINK, uplink.own)
        for network in gateway.networks.values():
            if not any(network.behind):
                yield _network(network.name, network.prefix)


def ends_beyond(settled: Settled, cloud: str) -> set[tuple[int, Address]]:
    """The addresses of a cloud's instances at which sessions end beyond the tunnels."""
    held = ((t.instance, t.beyond[1]) for t in settled.tunnels_at(cloud))
    return {(instance, address) for instance, address in held if address is not None}


def _inner(settled: Settled, place: str) -> Iterator[StaticRoute]:
    """Networks that an inner router of the site leads to."""
    if place in settled.clouds:
        return
    gateway = settled.gateways[place]
    for network in gateway.networks.values():
        for router in network.behind:
            beside = settled.network_of_router(gateway.site, router)
            prefix = network.prefix.of(router.bits)
            if beside is not None and prefix is not None:
                hop = Hop(interface=beside, address=router)
                yield StaticRoute(prefix=prefix, hops=(hop,), network=network.name)


def _single(name: str, role: str, address: Address) -> Interface:
    return Interface(name=name, role=role, addresses=((address, address.bits),))


def _network(name: str, prefixes: Dual[Prefix]) -> Interface:
    """The gateway has the first address of each."""
    held = tuple((prefix.address_at(1), prefix.length) for prefix in prefixes)
    return Interface(name=name, role=NETWORK, addresses=held)


def _inside(end: LegEnd) -> tuple[tuple[Address, int], ...]:
    pairs = zip(end.local_insides, end.inside, strict=True)
    return tuple((address, block.length) for address, block in pairs)


def _circuit_interface(end: CircuitEnd) -> Interface:
    return Interface(
        name=circuit_interface(end.name),
        role=CIRCUIT,
        addresses=_inside(end),
        leg=end.name,
        mtu=end.mtu,
    )


def _tunnel_interface(end: TunnelEnd) -> Interface:
    return Interface(
        name=interface_name(end.tunnel),
        role=TUNNEL,
        addresses=_inside(end),
        leg=end.tunnel,
        mtu=None if end.inside.ipv4 is None and end.mtu < LEAST_IPV6_MTU else end.mtu,
    )


def _tunnel(end: TunnelEnd) -> Tunnel:
    """What both records have is the same in both, but for the address: a device is given its
    own."""
    return Tunnel(
        name=end.tunnel,
        interface=interface_name(end.tunnel),
        local_address=end.own_address,
        renewal=end.profile.renewal or "rekey",
        bfd_endpoints=end.bfd_endpoints,
        **{name: getattr(end, name) for name in _SAME},
    )


_SAME = {f.name for f in fields(Tunnel)} & {f.name for f in fields(TunnelEnd)} - {"local_address"}


def _circuit(end: CircuitEnd) -> Circuit:
    return Circuit(
        name=end.name,
        interface=circuit_interface(end.name),
        remote_address=end.remote_inside,
        bfd=end.bfd,
    )


def speaker_number(settled: Settled, place: str) -> int:
    """The AS number of all sessions of a place."""
    return (settled.clouds if place in settled.clouds else settled.gateways)[place].as_number


def bgp_identifier(settled: Settled, place: str) -> Address:
    if place in settled.clouds:
        return Address(32, settled.clouds[place].router_id(1))
    return Address(32, settled.gateways[place].router_id)


def speaker_of(settled: Settled, place: str) -> Speaker | None:
    """The BGP speaker of a place, with its sessions; None where it has none."""
    return _speaker(settled, place, ends_at(settled, place), circuits_at(settled, place))


def _speaker(
    settled: Settled, place: str, ends: tuple[TunnelEnd, ...], circuits: tuple[CircuitEnd, ...]
) -> Speaker | None:
    """Return None without a session. All sessions of a gateway have its one AS number."""
    neighbours = [
        replace(
            _session(session, e),
            communities=e.communities,
            med=e.med,
            signature=e.signature if e.password else None,
        )
        for e in ends
        for session in e.sessions
        if session.ways[0] == e.tunnel
    ]
    neighbours += [_session(session, c) for c in circuits for session in c.sessions]
    neighbours += [_internal(end) for end in internal_at(settled, place)]
    if not neighbours:
        return None
    asn = speaker_number(settled, place)
    return Speaker(asn=asn, identifier=bgp_identifier(settled, place), neighbours=tuple(neighbours))


def _session(session: SessionEnd, end: LegEnd) -> Neighbour:
    return Neighbour(
        name=session.label,
        local_address=session.peers[0],
        remote_address=session.peers[1],
        next_hops=session.next_hops,
        multihop=session.beyond,
        ways=() if session.ways == (session.label,) else session.ways,
        remote_as=end.remote_as,
        hold=end.hold,
        passive=not end.initiator,
        local_pref=end.local_pref,
        announce=tuple(p for p in end.local_prefixes if p.bits in session.families),
        accept=tuple(p for p in end.remote_prefixes if p.bits in session.families),
        prepend=end.prepend,
        limit=end.limit,
    )


def _internal(end: InternalEnd) -> Neighbour:
    local, remote = end.peers
    return Neighbour(
        name=end.neighbour,
        local_address=local,
        remote_address=remote,
        next_hops=end.next_hops,
        remote_as=end.asn,
        hold=end.hold,
        passive=end.passive,
        local_pref=None,
        announce=(),
        accept=tuple(Prefix(hop.bits, 0, 0) for hop in end.next_hops),
        internal=True,
    )


def _static(ends: tuple[TunnelEnd, ...], circuits: tuple[CircuitEnd, ...]) -> Iterator[StaticRoute]:
    """One route for each destination, with the ways to it in their order."""
    ways: list[tuple[int, str, LegEnd]] = []
    ways += [(e.place, interface_name(e.tunnel), e) for e in ends if e.routing == "static"]
    lines = (c for c in circuits if c.routing == "static")
    ways += [(c.preference, circuit_interface(c.name), c) for c in lines]
    hops: dict[Prefix, list[Hop]] = {}
    speakers = [(e.place, interface_name(e.tunnel), e) for e in ends if e.routing == "bgp"]
    for order, interface, speaker in speakers:
        for host in speaker.host_routes:
            hop = Hop(interface=interface, address=speaker.remote_inside, order=order)
            hops.setdefault(host, []).append(hop)
    for order, interface, end in sorted(ways, key=lambda way: way[0]):
        for prefix in end.remote_prefixes:
            beyond = end.remote_insides.of(prefix.bits)
            if beyond is not None:
                hop = Hop(interface=interface, address=beyond, order=order)
                hops.setdefault(prefix, []).append(hop)
    for prefix, found in hops.items():
        # The order of a single one means nothing, and is not written.
        alone = (Hop(interface=found[0].interface, address=found[0].address),)
        yield StaticRoute(prefix=prefix, hops=alone if len(found) == 1 else tuple(found))


def _translations(ends: tuple[TunnelEnd, ...]) -> Iterator[Translation]:
    """One for each tunnel interface that translates, and for each family there."""
    number = 0
    for end, bits in itertools.product(ends, (32, 128)):
        parts = tuple(
            Exposure("", part.real, part.seen)
            for part in end.translations
            if part.real.bits == bits
        )
        if parts:
            number += 1
            yield Translation(number=number, interface=interface_name(end.tunnel), parts=parts)
