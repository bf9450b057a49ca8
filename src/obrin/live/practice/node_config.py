"""What a practice router is told: tunnels, networks, neighbours, static routes, filter rules."""

from __future__ import annotations

from dataclasses import dataclass, field

from obrin.core.address.prefix import Prefix
from obrin.core.address.translation import Exposure
from obrin.core.reach.filters import Rule
from obrin.core.routing.policy import SessionPolicy
from obrin.wire.bgp.session import SessionConfig
from obrin.wire.ike.config import PeerConfig


@dataclass(frozen=True, slots=True)
class NodeTunnel:
    """A tunnel's inside: addresses as integers, and what is translated at it."""

    peer: PeerConfig
    inside: Prefix
    local_inside: int
    remote_inside: int
    translations: tuple[Exposure, ...] = ()


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
