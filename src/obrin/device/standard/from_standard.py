"""A device's configuration, read from its standard data and keys and nothing else."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import replace

from obrin.core.address.prefix import Address, Prefix
from obrin.core.address.translation import Exposure
from obrin.core.design.arrangement import SHARED
from obrin.core.handover.standard import device
from obrin.core.handover.standard.bgp import Neighbour, Speaker
from obrin.core.handover.standard.circuits import Circuit
from obrin.core.handover.standard.device import DeviceConfig
from obrin.core.handover.standard.interfaces import NETWORK, UPLINK, Interface
from obrin.core.handover.standard.ipsec import Tunnel
from obrin.core.handover.standard.keys import BY_KEY, Keys
from obrin.core.handover.standard.keys import decode as decode_keys
from obrin.core.ipsec.selectors import Selector
from obrin.core.json_text import Json
from obrin.core.routing.path import DEFAULT_LOCAL_PREF
from obrin.core.routing.policy import WELL_KNOWN, PrefixList, SessionPolicy
from obrin.core.settled.links import circuit_label
from obrin.core.settled.ways import Neighbour as Beside
from obrin.device.config import (
    InsideEnds,
    RouterConfig,
    RouterNeighbour,
    RouterTunnel,
    RouterWay,
    StaticWay,
)
from obrin.device.standard.credentials import Wall, credential_from
from obrin.wire.bgp.session import SessionConfig
from obrin.wire.ike.config import Identity, PeerConfig
from obrin.wire.ike.crypto.credentials import Credential
from obrin.wire.tcp_protection import TCP_MD5


def router_config(config: Json, keys: Json, wall: Wall) -> RouterConfig:
    """`config` and `keys` are instance data that fits its modules; else as `router_from`."""
    return router_from(device.decode(config), decode_keys(keys), wall)


def router_from(configured: DeviceConfig, keys: Keys, wall: Wall) -> RouterConfig:
    """`wall` turns the router's time into UTC, for certificates. Raises KeyError for a missing key,
    PkiError for bad certificates.
    """
    files = keys.certificate
    credential = None if files is None else credential_from(files, wall)
    interfaces = {interface.name: interface for interface in configured.interfaces}
    translated: dict[str, tuple[Exposure, ...]] = {}
    for translation in configured.translations:
        earlier = translated.get(translation.interface, ())
        translated[translation.interface] = (*earlier, *translation.parts)
    tunnels = {
        tunnel.name: _tunnel(
            tunnel,
            interfaces[tunnel.interface],
            _peer(tunnel, keys.by_tunnel, credential),
            translated.get(tunnel.interface, ()),
        )
        for tunnel in configured.tunnels
    }
    lines = {circuit_label(c.name): _line(c, interfaces[c.interface]) for c in configured.circuits}
    internal = (
        []
        if configured.speaker is None
        else [n for n in configured.speaker.neighbours if n.internal]
    )
    return RouterConfig(
        tunnels=tunnels,
        lines=lines,
        beside={Beside(n.name).label: n.remote_address for n in internal},
        networks=_networks(configured),
        neighbours={}
        if configured.speaker is None
        else _neighbours(configured.speaker, keys.by_neighbour),
        static=tuple(_alike(list(_static(configured)), {**tunnels, **lines})),
        rules=configured.filter.rules,
        host_firewalls={firewall.network: firewall.rules for firewall in configured.host_firewalls},
    )


def _networks(configured: DeviceConfig) -> tuple[tuple[str, Prefix], ...]:
    """The site's own, also those that an inner router leads to: hosts stand in each of them."""
    found = [(i.name, n) for i in configured.interfaces if i.role == NETWORK for n in i.networks]
    found += [(route.network, route.prefix) for route in configured.routes if route.network]
    return tuple(found)


def complete(configured: DeviceConfig, keys: Keys) -> bool:
    """Whether every tunnel has its secret already; they come after the configuration."""
    speakers = configured.speaker.neighbours if configured.speaker else ()
    signed = {n.name for n in speakers if n.signature is not None}
    return signed <= keys.by_neighbour.keys() and all(
        tunnel.name in keys.by_tunnel
        or (tunnel.authentication != BY_KEY and keys.certificate is not None)
        for tunnel in configured.tunnels
    )


def uplinks(configured: DeviceConfig) -> dict[Address, str]:
    """Names of uplinks by their addresses on the device."""
    return {a: i.name for i in configured.interfaces if i.role == UPLINK for a, _ in i.addresses}


def _peer(tunnel: Tunnel, secrets: Mapping[str, str], credential: Credential | None) -> PeerConfig:
    by_key = tunnel.authentication == BY_KEY
    if not by_key and credential is None:
        raise KeyError(f"a certificate for {tunnel.name}")
    return PeerConfig(
        name=tunnel.name,
        initiate=tunnel.initiator and not tunnel.stands_in_for,
        local_address=str(tunnel.local_address),
        remote_address=str(tunnel.remote_address),
        local_identity=Identity.of(tunnel.local_identity),
        remote_identity=Identity.of(tunnel.remote_identity),
        suites=(tunnel.suite,),
        key=secrets[tunnel.name].encode() if by_key else b"",
        credential=None if by_key else credential,
        liveness=tunnel.liveness,
        local_selectors=tuple(map(Selector.of, tunnel.local_selectors)),
        remote_selectors=tuple(map(Selector.of, tunnel.remote_selectors)),
        always_encapsulate=tunnel.always_encapsulate,
        reauthenticate=tunnel.renewal == "reauthenticate",
        each_pair=tunnel.each_pair,
    )


def _tunnel(
    tunnel: Tunnel, interface: Interface, peer: PeerConfig, translations: tuple[Exposure, ...]
) -> RouterTunnel:
    return RouterTunnel(
        peer=peer,
        inside=tuple(InsideEnds.of(address, length) for address, length in interface.addresses),
        translations=translations,
        # The one who starts minds when; the other waits to be called, as always.
        stands_in_for=tunnel.stands_in_for if tunnel.initiator else (),
        bfd=tunnel.bfd,
        bfd_endpoints=tunnel.bfd_endpoints,
        shared=tunnel.role == SHARED,
        mtu=interface.mtu or 65535,
        fragments=tunnel.fragments,
    )


def _line(circuit: Circuit, interface: Interface) -> RouterWay:
    return RouterWay(
        inside=tuple(InsideEnds.of(address, length) for address, length in interface.addresses),
        bfd=circuit.bfd,
        mtu=interface.mtu or 65535,
    )


def _neighbours(speaker: Speaker, passwords: Mapping[str, str]) -> dict[str, RouterNeighbour]:
    """Raises KeyError for a password that is not there."""
    return {
        n.name: _neighbour(speaker, n, "" if n.signature is None else passwords[n.name])
        for n in speaker.neighbours
    }


def _neighbour(speaker: Speaker, neighbour: Neighbour, password: str) -> RouterNeighbour:
    own = Beside(neighbour.name).label if neighbour.internal else neighbour.name
    return RouterNeighbour(
        SessionConfig(
            name=neighbour.name,
            local_as=speaker.asn,
            peer_as=neighbour.remote_as,
            router_id=speaker.identifier.value,
            local_address=neighbour.local_address,
            peer_address=neighbour.remote_address,
            next_hops=neighbour.next_hops,
            hold=neighbour.hold,
            passive=neighbour.passive,
            password=password.encode(),
            signature=neighbour.signature or TCP_MD5,
            multihop=neighbour.multihop,
        ),
        SessionPolicy(
            local_as=speaker.asn,
            peer_as=neighbour.remote_as,
            accept=PrefixList(neighbour.accept),
            local_pref=DEFAULT_LOCAL_PREF if neighbour.local_pref is None else neighbour.local_pref,
            prepend=neighbour.prepend,
            communities=tuple(WELL_KNOWN[name] for name in neighbour.communities),
            limit=neighbour.limit,
            med=neighbour.med,
            passes_on=neighbour.internal,
            next_hop_self=neighbour.internal,
        ),
        neighbour.announce,
        neighbour.ways or (own,),
    )


def _static(configured: DeviceConfig) -> Iterator[StaticWay]:
    names = {tunnel.interface: tunnel.name for tunnel in configured.tunnels}
    names |= {circuit.interface: circuit_label(circuit.name) for circuit in configured.circuits}
    for route in configured.routes:
        for hop in route.hops:
            if hop.interface in names:
                yield StaticWay(route.prefix, names[hop.interface], hop.order)


def _alike(ways: list[StaticWay], known: Mapping[str, RouterWay]) -> Iterator[StaticWay]:
    """Shared next hops of a prefix get the metric of the first of them."""
    least: dict[Prefix, int] = {}
    for way in ways:
        if known[way.way].shared:
            least[way.prefix] = min(way.metric, least.get(way.prefix, way.metric))
    for way in ways:
        shared = known[way.way].shared
        yield replace(way, metric=least[way.prefix]) if shared else way
