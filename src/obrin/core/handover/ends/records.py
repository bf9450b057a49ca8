"""The configuration of each end of a tunnel, circuit or internal session: one record for each end.

Sheet, table of values, page, templates' context and standard data are all rendered from these
records; the mirror proof is not: it reads what was written (`proof.py`).
"""

from __future__ import annotations

from dataclasses import dataclass

from obrin.core.address.dual import Dual, of_families
from obrin.core.address.prefix import Address, Prefix
from obrin.core.address.translation import Exposure
from obrin.core.design.arrangement import SHARED, SPARE
from obrin.core.ipsec.liveness import Bfd
from obrin.core.ipsec.profile import Profile
from obrin.core.routing.forwarding import host_route
from obrin.core.routing.model import accepted_at_site, cloud_policy, site_policy
from obrin.core.routing.policy import WELL_KNOWN, SessionPolicy
from obrin.core.settled.links import SettledCircuit, SettledLink, SettledTunnel
from obrin.core.settled.model import Settled
from obrin.core.settled.sessions import INTERNAL_HOLD, SettledSession
from obrin.core.settled.telling import announced_by_site
from obrin.core.settled.terms import Terms, terms_of
from obrin.core.settled.wrapping import wrapping_of


@dataclass(frozen=True, slots=True, kw_only=True)
class SessionEnd:
    """The configuration of one end of a BGP session.

    `peers` are its addresses, the local one first; `ways` the tunnels that it goes over, the
    preferred first. `next_hops` are what its routes are advertised with, in each family that it
    carries. `beyond` is whether it does not run between the addresses inside the tunnel;
    `host_route` leads to the peer then, where that is not inside.
    """

    label: str
    peers: tuple[Address, Address]
    ways: tuple[str, ...]
    next_hops: Dual[Address]
    beyond: bool = False
    host_route: Prefix | None = None

    @property
    def families(self) -> tuple[int, ...]:
        return tuple(hop for hop in (32, 128) if self.next_hops.of(hop) is not None)


@dataclass(frozen=True, slots=True, kw_only=True)
class LegEnd:
    """The addresses and routes that one end of a tunnel or circuit is configured with.

    `sessions` are those of BGP that go over it. Prefixes are those routed through it, as the other
    end knows the local ones. `mtu` is of packets inside, in bytes; `limit` the most prefixes that
    the far end may advertise.
    """

    initiator: bool
    inside: Dual[Prefix]
    local_insides: Dual[Address]
    remote_insides: Dual[Address]
    sessions: tuple[SessionEnd, ...]
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
        """The own inside address, in the IPv4 block where there is one."""
        return self.local_insides.first

    @property
    def remote_inside(self) -> Address:
        return self.remote_insides.first

    @property
    def host_routes(self) -> tuple[Prefix, ...]:
        """Host routes to BGP peers beyond this tunnel."""
        return tuple(s.host_route for s in self.sessions if s.host_route is not None)

    @property
    def bfd_endpoints(self) -> tuple[Address, Address] | None:
        """The addresses between which BFD runs, the local one first, where that is not inside: it
        watches what the BGP session depends on (RFC 5882 section 4.2). One that has several
        tunnels depends on none of them, and BFD is inside each."""
        if self.bfd is None:
            return None
        alone = (s.peers for s in self.sessions if s.beyond and len(s.ways) == 1)
        return next(alone, None)

    @property
    def own_inside_words(self) -> str:
        """Own addresses with their lengths."""
        pairs = zip(self.local_insides, self.inside, strict=True)
        return " and ".join(f"{address}/{block.length}" for address, block in pairs)


@dataclass(frozen=True, kw_only=True)
class TunnelEnd(LegEnd, Terms):
    """The whole configuration of one end of a tunnel.

    `translations` are what this end does to its own addresses at the tunnel. `mss` is in bytes, in
    each family that is carried.
    `place` is like `preference`, but no two ways of a site have the same.
    `stands_in_for` are the tunnels that a spare waits for. `password` is whether each BGP session
    has one, `signature` what it does.
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
    place: int
    role: str
    stands_in_for: tuple[str, ...]
    mss: Dual[int]
    communities: tuple[str, ...] = ()
    med: int | None = None
    password: bool = False
    signature: str = "tcp-md5"


@dataclass(frozen=True, slots=True, kw_only=True)
class _Side:
    """What one side brings; the other side gets the same things."""

    name: str
    profile: Profile
    own_address: Address
    address: Address
    identity: str
    insides: Dual[Address]
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
        prefixes=accepted_at_site(settled, link),
        policy=cloud_policy(settled, tunnel),
        exposures=link.cloud_exposures,
    )


def site_end(settled: Settled, tunnel: SettledTunnel) -> TunnelEnd:
    """The site gateway's end; it starts where the design does not say otherwise, because it may
    stand behind a translator."""
    ends = _site(settled, tunnel), _cloud(settled, tunnel)
    return _end(settled, tunnel, *ends, at_site=True)


def cloud_end(settled: Settled, tunnel: SettledTunnel) -> TunnelEnd:
    """The cloud instance's end; it waits to be called, or starts where the design says so."""
    ends = _cloud(settled, tunnel), _site(settled, tunnel)
    return _end(settled, tunnel, *ends, at_site=False)


def _end(
    settled: Settled, tunnel: SettledTunnel, here: _Side, there: _Side, *, at_site: bool
) -> TunnelEnd:
    link, wrapping = settled.links[tunnel.link], wrapping_of(settled, tunnel)
    by_policy = link.selection == "policy"
    everything = tuple(Prefix(bits, 0, 0) for bits in settled.families)
    before = tuple(t.label for t in link.tunnels if t.rank < tunnel.rank)
    return TunnelEnd(
        tunnel=tunnel.label,
        uplink=here.name,
        profile=here.profile,
        initiator=tunnel.cloud_initiates is not at_site,
        own_address=here.own_address,
        local_address=here.address,
        remote_address=there.address,
        local_identity=here.identity,
        remote_identity=there.identity,
        inside=tunnel.inside,
        local_insides=here.insides,
        remote_insides=there.insides,
        sessions=tuple(
            _session(session, tunnel, here.insides, at_site=at_site)
            for session in settled.sessions_over(tunnel)
        ),
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
        place=_place(link, tunnel),
        preference=tunnel.preference,
        role=tunnel.role,
        stands_in_for=before if tunnel.role == SPARE else (),
        mtu=wrapping.inner_mtu(),
        mss=Dual(*(wrapping.mss(b) if b in settled.families else None for b in (32, 128))),
        prepend=here.policy.prepend,
        communities=_marks(here.policy),
        med=here.policy.med,
        limit=here.policy.limit,
        password=link.password,
        signature=link.signature,
    )


def _place(link: SettledLink, tunnel: SettledTunnel) -> int:
    if tunnel.role != SHARED:
        return tunnel.preference
    first = min(t.rank for t in link.tunnels if t.role == SHARED)
    return tunnel.preference + tunnel.rank - first


def _session(
    session: SettledSession, tunnel: SettledTunnel, insides: Dual[Address], *, at_site: bool
) -> SessionEnd:
    peers = session.ends if at_site else session.ends[::-1]
    return SessionEnd(
        label=session.label,
        peers=peers,
        ways=tuple(t.label for t in session.tunnels),
        next_hops=_next_hops(peers[0], session.families, insides),
        beyond=session.beyond(tunnel),
        host_route=host_route(peers[1], tunnel.inside),
    )


def _next_hops(own: Address, families: tuple[int, ...], insides: Dual[Address]) -> Dual[Address]:
    """The address inside in each family; in the session's own, where it ends."""
    others = (a for a in insides if a.bits != own.bits)
    return of_families(a for a in (own, *others) if a.bits in families)


def _marks(policy: SessionPolicy) -> tuple[str, ...]:
    """Names of the well-known communities on all that is advertised."""
    return tuple(name for name, number in WELL_KNOWN.items() if number in policy.communities)


def ends_at(settled: Settled, place: str) -> tuple[TunnelEnd, ...]:
    """All tunnel ends at a site gateway or a cloud."""
    if place in settled.clouds:
        return tuple(cloud_end(settled, t) for t in settled.tunnels_at(place))
    return tuple(site_end(settled, t) for t in settled.tunnels_at(place))


@dataclass(frozen=True, slots=True, kw_only=True)
class CircuitEnd(LegEnd):
    """The whole configuration of one end of a circuit. `label` is unlike that of any tunnel."""

    name: str
    label: str
    provider: str | None


def circuit_end(settled: Settled, circuit: SettledCircuit, place: str) -> CircuitEnd:
    """The end at a site gateway or at a cloud; the gateway opens the session."""
    at_cloud = place in settled.clouds
    policy = (cloud_policy if at_cloud else site_policy)(settled, circuit)
    near, far = announced_by_site(circuit), accepted_at_site(settled, circuit)
    insides = circuit.insides(at_site=True), circuit.insides(at_site=False)
    if at_cloud:
        insides = insides[::-1]
    session = SessionEnd(
        label=circuit.label,
        peers=circuit.peers[::-1] if at_cloud else circuit.peers,
        ways=(circuit.label,),
        next_hops=insides[0],
    )
    return CircuitEnd(
        name=circuit.name,
        label=circuit.label,
        initiator=not at_cloud,
        provider=circuit.provider,
        mtu=circuit.mtu,
        inside=circuit.inside,
        local_insides=insides[0],
        remote_insides=insides[1],
        sessions=(session,) if circuit.routing == "bgp" else (),
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


_MAPPED = 0xFFFF << 32


@dataclass(frozen=True, slots=True, kw_only=True)
class InternalEnd:
    """A session with another gateway of the same site. `peers` are the loopbacks that it runs
    between, this gateway's first; `next_hops` what its routes are advertised with: the own
    loopback, also in IPv6 (RFC 4291 section 2.5.5.2)."""

    neighbour: str
    asn: int
    remote_identifier: Address
    peers: tuple[Address, Address]
    next_hops: Dual[Address]
    hold: int

    @property
    def passive(self) -> bool:
        """Whether the other end opens the TCP connection: that of the lower address does."""
        return self.peers[0] > self.peers[1]


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
            peers=(mine.loopback, other.loopback),
            next_hops=of_families(
                mine.loopback if bits == 32 else Address(128, _MAPPED | mine.loopback.value)
                for bits in settled.families
            ),
            hold=INTERNAL_HOLD,
        )
        for other in settled.internal_peers(place)
        if mine.loopback is not None and other.loopback is not None
    )
