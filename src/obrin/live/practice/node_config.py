"""What a practice router is told: tunnels, networks, neighbours, static routes, filter rules."""

from __future__ import annotations

from dataclasses import dataclass, field

from obrin.core.address.prefix import Prefix
from obrin.core.address.translation import Exposure
from obrin.core.ipsec.selectors import ANY_IPV4
from obrin.core.reach.filters import Rule
from obrin.core.routing.policy import SessionPolicy
from obrin.wire.bgp.session import SessionConfig
from obrin.wire.ike.config import PeerConfig


@dataclass(frozen=True, slots=True)
class NodeTunnel:
    """A tunnel's inside: addresses as integers, and what is translated at it.

    A spare waits until none of the tunnels that it stands in for is up. `bfd` is the interval in
    seconds and the multiplier of its session. `shared` tunnels carry equal routes together.
    """

    peer: PeerConfig
    inside: Prefix
    local_inside: int
    remote_inside: int
    translations: tuple[Exposure, ...] = ()
    stands_in_for: tuple[str, ...] = ()
    bfd: tuple[float, int] | None = None
    shared: bool = False

    @property
    def selective(self) -> bool:
        """Whether its traffic selectors are narrower than everything."""
        return {*self.peer.local_selectors, *self.peer.remote_selectors} != {ANY_IPV4}


@dataclass(frozen=True, slots=True)
class NodeNeighbour:
    session: SessionConfig
    policy: SessionPolicy
    announce: tuple[Prefix, ...]


@dataclass(frozen=True, slots=True)
class NodeConfig:
    """`rules` None means that this device does not filter; `static` is (prefix, tunnel, metric)."""

    tunnels: dict[str, NodeTunnel] = field(default_factory=dict)
    networks: dict[str, Prefix] = field(default_factory=dict)
    neighbours: dict[str, NodeNeighbour] = field(default_factory=dict)
    static: tuple[tuple[Prefix, str, int], ...] = ()
    rules: tuple[Rule, ...] | None = None

    def host_places(self) -> tuple[Prefix, ...]:
        """Where practice hosts stand: in every network, and in each part that a rule names."""
        networks = tuple(dict.fromkeys(self.networks.values()))
        named = dict.fromkeys(p for r in self.rules or () for p in (r.source, r.destination))
        parts = (p for p in named if any(n != p and n.covers(p) for n in networks))
        return (*networks, *parts)
