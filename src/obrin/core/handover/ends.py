"""What each end of a tunnel, circuit or internal session is told: one record for each end.

Sheet, table of values, page, templates' context and standard data are all rendered from these
records; the mirror proof is not: it reads what was written (`proof.py`).
"""

from __future__ import annotations

from dataclasses import dataclass

from obrin.core.address.dual import Dual
from obrin.core.address.prefix import Address, Prefix
from obrin.core.address.translation import Exposure
from obrin.core.design.arrangement import SPARE
from obrin.core.ipsec.liveness import Bfd
from obrin.core.ipsec.profile import Profile
from obrin.core.routing.forwarding import host_route
from obrin.core.routing.model import accepted_at_site, cloud_policy, site_policy
from obrin.core.routing.policy import WELL_KNOWN, SessionPolicy
from obrin.core.settled.links import SettledCircuit, SettledTunnel
from obrin.core.settled.model import Settled
from obrin.core.settled.sites import SettledGateway
from obrin.core.settled.telling import announced_by_site
from obrin.core.settled.terms import Terms, terms_of
from obrin.core.settled.wrapping import wrapping_of


@dataclass(frozen=True, slots=True, kw_only=True)
class LegEnd:
    """What one end of a tunnel or circuit is told about the way and the routes over it.

    `peers` are the ends of the BGP session, the local one first. Prefixes are those routed through
    it, as the other end knows the local ones. `mtu` is of packets
    inside, in bytes; `limit` the most prefixes that the far end may tell.
    """

    initiator: bool
    inside: Dual[Prefix]
    local_insides: Dual[Address]
    remote_insides: Dual[Address]
    peers: tuple[Address, Address]
    local_as: int
    remote_as: int
    local_pref: int
    local_prefixes: tuple[Prefix, ...]
    remote_prefixes: tuple[Prefix, ...]
    routing: str
    hold: int
    bfd: Bfd | None
    preference: int
    mtu: int
    prepend: int = 0
    limit: int | None = None

    @property
    def local_inside(self) -> Address:
        """Where the session runs: in the IPv4 block where there is one."""
        return self.local_insides.first

    @property
    def remote_inside(self) -> Address:
        return self.remote_insides.first

    @property
    def beyond(self) -> bool:
        """Whether the session does not run between the addresses inside."""
        return self.peers != (self.local_inside, self.remote_inside)

    @property
    def host_route(self) -> Prefix | None:
        """By which the peer is reached, where it is beyond the tunnel."""
        return host_route(self.peers[1], self.inside)

    @property
    def own_inside_words(self) -> str:
        """This end's addresses with their lengths."""
        pairs = zip(self.local_insides, self.inside, strict=True)
        return " and ".join(f"{address}/{block.length}" for address, block in pairs)


@dataclass(frozen=True, kw_only=True)
class TunnelEnd(LegEnd, Terms):
    """Everything that one end of a tunnel is told.

    `translations` are what this end does to its own addresses at the tunnel. `mss` is in bytes, in
    each family that is carried.
    `stands_in_for` are the tunnels that a spare waits for. `password` is whether the BGP session
    inside has one.
    """

    tunnel: str
    uplink: str
    profile: Profile
    own_address: Address
    local_address: Address
    remote_address: Address
    local_identity: str
    remote_identity: str
    local_selectors: tuple[Prefix, ...]
    remote_selectors: tuple[Prefix, ...]
    translations: tuple[Exposure, ...]
    rank: int
    role: str
    stands_in_for: tuple[str, ...]
    mss: Dual[int]
    communities: tuple[str, ...] = ()
    discriminator: int | None = None
    password: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class _Side:
    """What one side brings: its other side is told the same things."""

    name: str
    profile: Profile
    own_address: Address
    address: Address
    identity: str
    insides: Dual[Address]
    peer: Address
    prefixes: tuple[Prefix, ...]
    policy: SessionPolicy
    exposures: tuple[Exposure, ...]


def _site(settled: Settled, tunnel: SettledTunnel) -> _Side:
    link, uplink = settled.links[tunnel.link], tunnel.uplink
    return _Side(
        name=uplink.name,
        profile=settled.gateways[tunnel.gateway].profile,
        own_address=uplink.own,
        address=uplink.address,
        identity=uplink.identity,
        insides=tunnel.insides(at_site=True),
        peer=tunnel.peers[0],
        prefixes=announced_by_site(link),
        policy=site_policy(settled, tunnel),
        exposures=link.exposures,
    )


def _cloud(settled: Settled, tunnel: SettledTunnel) -> _Side:
    link, address = settled.links[tunnel.link], tunnel.cloud_address
    return _Side(
        name=f"instance-{tunnel.instance}",
        profile=settled.clouds[tunnel.cloud].profile,
        own_address=address,
        address=address,
        identity=str(address),
        insides=tunnel.insides(at_site=False),
        peer=tunnel.peers[1],
        prefixes=accepted_at_site(settled, link),
        policy=cloud_policy(settled, tunnel),
        exposures=link.cloud_exposures,
    )


def site_end(settled: Settled, tunnel: SettledTunnel) -> TunnelEnd:
    """The site gateway's end; it starts where the design does not say otherwise, because it may
    stand behind a translator."""
    ends = _site(settled, tunnel), _cloud(settled, tunnel)
    return _end(settled, tunnel, *ends, initiator=not tunnel.cloud_starts)


def cloud_end(settled: Settled, tunnel: SettledTunnel) -> TunnelEnd:
    """The cloud instance's end; it waits to be called, or starts where the design says so."""
    ends = _cloud(settled, tunnel), _site(settled, tunnel)
    return _end(settled, tunnel, *ends, initiator=tunnel.cloud_starts)


def _end(
    settled: Settled, tunnel: SettledTunnel, here: _Side, there: _Side, *, initiator: bool
) -> TunnelEnd:
    link, wrapping = settled.links[tunnel.link], wrapping_of(settled, tunnel)
    by_policy = link.selection == "policy"
    everything = tuple(Prefix(bits, 0, 0) for bits in settled.families)
    before = tuple(t.label for t in link.tunnels if t.rank < tunnel.rank)
    return TunnelEnd(
        tunnel=tunnel.label,
        uplink=here.name,
        profile=here.profile,
        initiator=initiator,
        own_address=here.own_address,
        local_address=here.address,
        remote_address=there.address,
        local_identity=here.identity,
        remote_identity=there.identity,
        inside=tunnel.inside,
        local_insides=here.insides,
        remote_insides=there.insides,
        peers=(here.peer, there.peer),
        local_as=here.policy.local_as,
        remote_as=here.policy.peer_as,
        local_pref=here.policy.local_pref,
        local_prefixes=here.prefixes,
        remote_prefixes=there.prefixes,
        local_selectors=here.prefixes if by_policy else everything,
        remote_selectors=there.prefixes if by_policy else everything,
        translations=tuple(part for part in here.exposures if part.translated),
        **terms_of(link),
        routing=link.routing,
        hold=link.hold,
        rank=tunnel.rank,
        preference=tunnel.preference,
        role=tunnel.role,
        stands_in_for=before if tunnel.role == SPARE else (),
        mtu=wrapping.inner_mtu(),
        mss=Dual(*(wrapping.mss(b) if b in settled.families else None for b in (32, 128))),
        prepend=here.policy.prepend,
        communities=_marks(here.policy),
        discriminator=here.policy.med,
        limit=here.policy.limit,
        password=link.password,
    )


def _marks(policy: SessionPolicy) -> tuple[str, ...]:
    """Names of the well-known communities on all that is told."""
    return tuple(name for name, mark in WELL_KNOWN.items() if mark in policy.communities)


def ends_at(settled: Settled, place: str) -> tuple[TunnelEnd, ...]:
    """All tunnel ends at a site gateway or a cloud."""
    if place in settled.clouds:
        return tuple(cloud_end(settled, t) for t in settled.tunnels_at(place))
    return tuple(site_end(settled, t) for t in settled.tunnels_at(place))


@dataclass(frozen=True, slots=True, kw_only=True)
class CircuitEnd(LegEnd):
    """Everything that one end of a circuit is told. `label` is unlike that of any tunnel."""

    name: str
    label: str
    provider: str | None


def circuit_end(settled: Settled, circuit: SettledCircuit, place: str) -> CircuitEnd:
    """The end at a site gateway or at a cloud; the gateway opens the session."""
    at_cloud = place in settled.clouds
    policy = (cloud_policy if at_cloud else site_policy)(settled, circuit)
    near, far = announced_by_site(circuit), accepted_at_site(settled, circuit)
    insides = circuit.insides(at_site=True), circuit.insides(at_site=False)
    return CircuitEnd(
        name=circuit.name,
        label=circuit.label,
        initiator=not at_cloud,
        provider=circuit.provider,
        mtu=circuit.mtu,
        inside=circuit.inside,
        local_insides=insides[at_cloud],
        remote_insides=insides[not at_cloud],
        peers=circuit.peers[::-1] if at_cloud else circuit.peers,
        local_as=policy.local_as,
        remote_as=policy.peer_as,
        local_pref=policy.local_pref,
        local_prefixes=far if at_cloud else near,
        remote_prefixes=near if at_cloud else far,
        routing=circuit.routing,
        hold=circuit.hold,
        bfd=circuit.bfd,
        preference=circuit.preference,
        prepend=policy.prepend,
        limit=policy.limit,
    )


def circuits_at(settled: Settled, place: str) -> tuple[CircuitEnd, ...]:
    """All circuits that end at a site gateway, a cloud or a hub."""
    legs = settled.legs_at(place)
    return tuple(circuit_end(settled, c, place) for c in legs if isinstance(c, SettledCircuit))


@dataclass(frozen=True, slots=True, kw_only=True)
class InternalEnd:
    """A session with another gateway of the same site. `loopbacks` are the addresses that it runs
    between, this gateway's first; None where one of the two has none."""

    neighbour: str
    asn: int
    remote_identifier: Address
    loopbacks: tuple[Address, Address] | None


def internal_at(settled: Settled, place: str) -> tuple[InternalEnd, ...]:
    """The internal sessions of a site gateway; none at a cloud."""
    mine = settled.gateways.get(place)
    if mine is None:
        return ()
    return tuple(
        InternalEnd(
            neighbour=other.name,
            asn=other.as_number,
            remote_identifier=Address(32, other.router_id),
            loopbacks=_loopbacks(mine, other),
        )
        for other in settled.internal_peers(place)
    )


def _loopbacks(one: SettledGateway, other: SettledGateway) -> tuple[Address, Address] | None:
    if one.loopback is None or other.loopback is None:
        return None
    return one.loopback, other.loopback
