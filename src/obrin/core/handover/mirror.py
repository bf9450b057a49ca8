"""Both ends of a tunnel as the same record: what one calls local, the other calls remote."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from obrin.core.address.prefix import DEFAULT_ROUTE, Prefix, format_address
from obrin.core.address.translation import Exposure
from obrin.core.design.settled import Settled, SettledTunnel
from obrin.core.handover.wrapping import wrapping_of
from obrin.core.ipsec.liveness import Liveness
from obrin.core.ipsec.suite import Suite
from obrin.core.routing.model import (
    announced_by_cloud,
    announced_by_site,
    cloud_policy,
    site_policy,
)


@dataclass(frozen=True, slots=True)
class TunnelEnd:
    """Everything that one end of a tunnel is told.

    Prefixes are those routed through it, as the other end knows the local ones. `translations` are
    what this end does to its own addresses at the tunnel. `mtu` and `mss` are of packets inside, in
    bytes.
    """

    tunnel: str
    uplink: str
    initiator: bool
    own_address: str
    local_address: str
    remote_address: str
    suite: Suite
    liveness: Liveness
    always_encapsulate: bool
    inside: Prefix
    local_inside: str
    remote_inside: str
    routing: str
    local_as: int
    remote_as: int
    hold: int
    local_pref: int
    rank: int
    local_prefixes: tuple[Prefix, ...]
    remote_prefixes: tuple[Prefix, ...]
    selectors: tuple[Prefix, ...] = (DEFAULT_ROUTE,)
    translations: tuple[Exposure, ...] = ()
    mtu: int = 1400
    mss: int = 1360


def site_end(settled: Settled, tunnel: SettledTunnel) -> TunnelEnd:
    """The site gateway's end; it initiates, because it may stand behind a translator."""
    link = settled.links[tunnel.link]
    policy, wrapping = site_policy(settled, tunnel), wrapping_of(settled, tunnel)
    return TunnelEnd(
        tunnel.label, tunnel.uplink.name, True,
        tunnel.uplink.own, tunnel.uplink.address, tunnel.cloud_address,
        link.suite, link.liveness, link.always_encapsulate,
        tunnel.inside, format_address(tunnel.site_inside), format_address(tunnel.cloud_inside),
        link.routing, policy.local_as, policy.peer_as, link.hold, policy.local_pref, tunnel.rank,
        announced_by_site(link), announced_by_cloud(link),
        translations=tuple(part for part in link.exposures if part.translated),
        mtu=wrapping.inner_mtu(), mss=wrapping.mss(32),
    )  # fmt: skip


def cloud_end(settled: Settled, tunnel: SettledTunnel) -> TunnelEnd:
    """The cloud instance's end; it waits to be called."""
    link = settled.links[tunnel.link]
    policy, wrapping = cloud_policy(settled, tunnel), wrapping_of(settled, tunnel)
    return TunnelEnd(
        tunnel.label, f"instance-{tunnel.instance}", False,
        tunnel.cloud_address, tunnel.cloud_address, tunnel.uplink.address,
        link.suite, link.liveness, link.always_encapsulate,
        tunnel.inside, format_address(tunnel.cloud_inside), format_address(tunnel.site_inside),
        link.routing, policy.local_as, policy.peer_as, link.hold, policy.local_pref, tunnel.rank,
        announced_by_cloud(link), announced_by_site(link),
        translations=tuple(part for part in link.cloud_exposures if part.translated),
        mtu=wrapping.inner_mtu(), mss=wrapping.mss(32),
    )  # fmt: skip


MIRRORED = (
    ("local_address", "remote_address"),
    ("local_inside", "remote_inside"),
    ("local_as", "remote_as"),
    ("local_prefixes", "remote_prefixes"),
)
EQUAL = (
    "tunnel", "suite", "inside", "routing", "hold", "selectors", "local_pref", "mtu", "mss",
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
