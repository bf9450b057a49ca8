"""Both ends of a tunnel as the same record: what one calls local, the other calls remote."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from obrin.core.address.prefix import DEFAULT_ROUTE, Prefix, format_address
from obrin.core.address.translation import Exposure
from obrin.core.design.arrangement import SHARED, SPARE
from obrin.core.ipsec.liveness import Bfd, Liveness
from obrin.core.ipsec.profile import Profile
from obrin.core.ipsec.suite import Suite
from obrin.core.routing.model import (
    accepted_at_site,
    announced_by_site,
    cloud_policy,
    site_policy,
)
from obrin.core.routing.policy import WELL_KNOWN, SessionPolicy
from obrin.core.settled.model import Settled, SettledTunnel
from obrin.core.settled.wrapping import wrapping_of


@dataclass(frozen=True, slots=True)
class TunnelEnd:
    """Everything that one end of a tunnel is told.

    Prefixes are those routed through it, as the other end knows the local ones. `translations` are
    what this end does to its own addresses at the tunnel. `mtu` and `mss` are of packets inside, in
    bytes. `stands_in_for` are the tunnels that a spare waits for.
    """

    tunnel: str
    uplink: str
    profile: Profile
    initiator: bool
    own_address: str
    local_address: str
    remote_address: str
    local_identity: str
    remote_identity: str
    inside: Prefix
    local_inside: str
    remote_inside: str
    local_as: int
    remote_as: int
    local_pref: int
    local_prefixes: tuple[Prefix, ...]
    remote_prefixes: tuple[Prefix, ...]
    local_selectors: tuple[Prefix, ...]
    remote_selectors: tuple[Prefix, ...]
    translations: tuple[Exposure, ...]
    suite: Suite
    authentication: str
    selection: str
    liveness: Liveness
    bfd: Bfd | None
    always_encapsulate: bool
    routing: str
    hold: int
    rank: int
    preference: int
    role: str
    stands_in_for: tuple[str, ...]
    mtu: int
    mss: int
    prepend: int = 0
    communities: tuple[str, ...] = ()
    limit: int | None = None


@dataclass(frozen=True, slots=True)
class _Side:
    """What one side brings: its other side is told the same things."""

    name: str
    profile: Profile
    own_address: str
    address: str
    identity: str
    inside: int
    prefixes: tuple[Prefix, ...]
    policy: SessionPolicy
    exposures: tuple[Exposure, ...]


def _site(settled: Settled, tunnel: SettledTunnel) -> _Side:
    link, uplink = settled.links[tunnel.link], tunnel.uplink
    return _Side(
        uplink.name, settled.gateways[tunnel.gateway].profile,
        uplink.own, uplink.address, uplink.identity, tunnel.site_inside,
        announced_by_site(link), site_policy(settled, tunnel), link.exposures,
    )  # fmt: skip


def _cloud(settled: Settled, tunnel: SettledTunnel) -> _Side:
    link, address = settled.links[tunnel.link], tunnel.cloud_address
    return _Side(
        f"instance-{tunnel.instance}", settled.clouds[tunnel.cloud].profile,
        address, address, address, tunnel.cloud_inside,
        accepted_at_site(settled, link), cloud_policy(settled, tunnel), link.cloud_exposures,
    )  # fmt: skip


def site_end(settled: Settled, tunnel: SettledTunnel) -> TunnelEnd:
    """The site gateway's end; it initiates, because it may stand behind a translator."""
    return _end(settled, tunnel, _site(settled, tunnel), _cloud(settled, tunnel), initiator=True)


def cloud_end(settled: Settled, tunnel: SettledTunnel) -> TunnelEnd:
    """The cloud instance's end; it waits to be called."""
    return _end(settled, tunnel, _cloud(settled, tunnel), _site(settled, tunnel), initiator=False)


def _end(
    settled: Settled, tunnel: SettledTunnel, here: _Side, there: _Side, *, initiator: bool
) -> TunnelEnd:
    link, wrapping = settled.links[tunnel.link], wrapping_of(settled, tunnel)
    by_policy, everything = link.selection == "policy", (DEFAULT_ROUTE,)
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
        local_inside=format_address(here.inside),
        remote_inside=format_address(there.inside),
        local_as=here.policy.local_as,
        remote_as=here.policy.peer_as,
        local_pref=here.policy.local_pref,
        local_prefixes=here.prefixes,
        remote_prefixes=there.prefixes,
        local_selectors=here.prefixes if by_policy else everything,
        remote_selectors=there.prefixes if by_policy else everything,
        translations=tuple(part for part in here.exposures if part.translated),
        suite=link.suite,
        authentication=link.authentication,
        selection=link.selection,
        liveness=link.liveness,
        bfd=link.bfd,
        always_encapsulate=link.always_encapsulate,
        routing=link.routing,
        hold=link.hold,
        rank=tunnel.rank,
        preference=tunnel.preference,
        role=tunnel.role,
        stands_in_for=before if tunnel.role == SPARE else (),
        mtu=wrapping.inner_mtu(),
        mss=wrapping.mss(32),
        prepend=here.policy.prepend,
        communities=tuple(n for n, mark in WELL_KNOWN.items() if mark in here.policy.communities),
        limit=here.policy.limit,
    )


def bfd_words(end: TunnelEnd) -> str:
    """The BFD session in a tunnel."""
    if end.bfd is None:
        return "off"
    return f"every {end.bfd.interval:g} s, dead after {end.bfd.multiplier} missed"


def method_words(end: TunnelEnd) -> str:
    """How the ends prove who they are."""
    return end.authentication.replace("pre-shared-", "pre-shared ")


def identity_words(end: TunnelEnd) -> str:
    """The identity that this end sends, and what to mind where a translator stands in front."""
    if end.own_address == end.local_address:
        return end.local_identity
    if end.local_identity == end.own_address:
        return f"{end.local_identity} (its own address; the other end sees {end.local_address})"
    return f"{end.local_identity} (to be entered; the device's own address is {end.own_address})"


def role_words(end: TunnelEnd) -> str:
    """The role of a tunnel, and whom a spare waits for."""
    if end.role == SHARED:
        return "shared: a share of the flows, with the others that are shared"
    if not end.stands_in_for:
        return end.role
    return f"{end.role}: down until {', '.join(end.stands_in_for)} failed"


MIRRORED = (
    ("local_address", "remote_address"),
    ("local_identity", "remote_identity"),
    ("local_selectors", "remote_selectors"),
    ("local_inside", "remote_inside"),
    ("local_as", "remote_as"),
    ("local_prefixes", "remote_prefixes"),
)
EQUAL = (
    "tunnel", "suite", "authentication", "selection", "inside", "routing", "hold", "bfd", "role",
    "local_pref", "mtu", "mss",
)  # fmt: skip


def unmirrored(one: TunnelEnd, other: TunnelEnd) -> Iterator[str]:
    """Fields in which two ends are not each other's mirror image; empty when all is well."""
    for local, remote in MIRRORED:
        if getattr(one, local) != getattr(other, remote):
            yield f"{local} of one is not {remote} of the other"
        if getattr(one, remote) != getattr(other, local):
            yield f"{remote} of one is not {local} of the other"
    for name in EQUAL:
        if getattr(one, name) != getattr(other, name):
            yield f"{name} differs"
    if one.initiator is other.initiator:
        yield "both or neither end initiates"


def ends_at(settled: Settled, place: str) -> tuple[TunnelEnd, ...]:
    """All tunnel ends at a site gateway or a cloud."""
    if place in settled.clouds:
        return tuple(cloud_end(settled, t) for t in settled.tunnels_at(place))
    return tuple(site_end(settled, t) for t in settled.tunnels_at(place))
