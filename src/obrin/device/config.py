"""What a router is told: tunnels, networks, neighbours, static routes, filter rules."""

from __future__ import annotations

from dataclasses import dataclass, field

from obrin.core.address.prefix import Prefix
from obrin.core.address.translation import Exposure
from obrin.core.ipsec.liveness import Bfd
from obrin.core.ipsec.selectors import ANY_IPV4
from obrin.core.reach.filters import Rule
from obrin.core.routing.policy import SessionPolicy
from obrin.wire.bgp.session import SessionConfig
from obrin.wire.ike.config import PeerConfig


@dataclass(frozen=True, slots=True, kw_only=True)
class RouterTunnel:
    """A tunnel's inside: addresses as integers, and what is translated at it.

    A spare waits until none of the tunnels that it stands in for is up. `shared` tunnels carry
    equal routes together. `mtu` is of packets inside it.
    """

    peer: PeerConfig
    inside: Prefix
    local_inside: int
    remote_inside: int
    translations: tuple[Exposure, ...] = ()
    stands_in_for: tuple[str, ...] = ()
    bfd: Bfd | None = None
    shared: bool = False
    mtu: int = 65535

    @property
    def selective(self) -> bool:
        """Whether its traffic selectors are narrower than everything."""
        return {*self.peer.local_selectors, *self.peer.remote_selectors} != {ANY_IPV4}


@dataclass(frozen=True, slots=True)
class RouterNeighbour:
    session: SessionConfig
    policy: SessionPolicy
    announce: tuple[Prefix, ...]


@dataclass(frozen=True, slots=True)
class StaticWay:
    """A static route through a tunnel; the lowest metric that is up counts."""

    prefix: Prefix
    tunnel: str
    metric: int


@dataclass(frozen=True, slots=True, kw_only=True)
class RouterConfig:
    """`rules` None means that this device does not filter."""

    tunnels: dict[str, RouterTunnel] = field(default_factory=dict)
    networks: dict[str, Prefix] = field(default_factory=dict)
    neighbours: dict[str, RouterNeighbour] = field(default_factory=dict)
    static: tuple[StaticWay, ...] = ()
    rules: tuple[Rule, ...] | None = None

    def host_places(self) -> tuple[Prefix, ...]:
        """Where practice hosts stand: in every network, and in each part that a rule names."""
        networks = tuple(dict.fromkeys(self.networks.values()))
        named = dict.fromkeys(p for r in self.rules or () for p in (r.source, r.destination))
        parts = (p for p in named if any(n != p and n.covers(p) for n in networks))
        return (*networks, *parts)
