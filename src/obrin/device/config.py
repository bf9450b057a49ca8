"""The configuration of a router: tunnels, networks, neighbours, static routes, filter rules."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import NamedTuple

from obrin.core.address.prefix import Address, Prefix
from obrin.core.address.translation import Exposure
from obrin.core.ipsec.liveness import Bfd
from obrin.core.ipsec.selectors import ANY
from obrin.core.reach.filters import Rule
from obrin.core.routing.policy import SessionPolicy
from obrin.wire.bgp.session import SessionConfig
from obrin.wire.ike.config import PeerConfig


class InsideEnds(NamedTuple):
    """The two addresses of a point-to-point block."""

    block: Prefix
    local: Address
    remote: Address

    @classmethod
    def of(cls, local: Address, length: int) -> InsideEnds:
        """The block around one's own address."""
        block = local.network(length)
        one, other = block.ends()
        return cls(block, local, other if local == one else one)


@dataclass(frozen=True, slots=True, kw_only=True)
class RouterWay:
    """What packets cross to a peer, a dedicated line or a tunnel: the ends on it in each family,
    IPv4 first, and what is translated at it.

    `shared` ones carry equal routes together. `mtu` is of packets on it; larger ones that may be
    cut are, where it `fragments`. BFD runs between the ends, or between those that are `watched`
    beyond it.
    """

    inside: tuple[InsideEnds, ...]
    translations: tuple[Exposure, ...] = ()
    bfd: Bfd | None = None
    bfd_endpoints: tuple[Address, Address] | None = None
    shared: bool = False
    mtu: int = 65535
    fragments: bool = False

    def ends_in(self, bits: int) -> InsideEnds | None:
        """Inside addresses of one family."""
        return next((ends for ends in self.inside if ends.local.bits == bits), None)


@dataclass(frozen=True, slots=True, kw_only=True)
class RouterTunnel(RouterWay):
    """A spare waits until none of the tunnels that it stands in for is up."""

    peer: PeerConfig
    stands_in_for: tuple[str, ...] = ()

    def takes_all(self, bits: int) -> bool:
        """Whether its traffic selectors take every packet of a family."""
        every = ANY[bits]
        return every in self.peer.local_selectors and every in self.peer.remote_selectors


@dataclass(frozen=True, slots=True)
class RouterNeighbour:
    """A BGP peer. Its session goes over `ways`, the preferred first."""

    session: SessionConfig
    policy: SessionPolicy
    announce: tuple[Prefix, ...]
    ways: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class StaticWay:
    """A static route by a tunnel or line; the lowest metric that is up counts."""

    prefix: Prefix
    way: str
    metric: int


@dataclass(frozen=True, slots=True, kw_only=True)
class RouterConfig:
    """`lines` are dedicated ones; `beside` are gateways of the same site that it speaks BGP with,
    each with the address that this runs to, by the name of the way over the site's own network.

    `rules` None means that this device does not filter. `host_firewalls` are what the hosts of a
    network let in by themselves, where they have firewalls. One that `hands_on` leaves it to its
    owner where packets go that come from elsewhere.
    """

    tunnels: dict[str, RouterTunnel] = field(default_factory=dict)
    lines: dict[str, RouterWay] = field(default_factory=dict)
    beside: dict[str, Address] = field(default_factory=dict)
    networks: tuple[tuple[str, Prefix], ...] = ()
    neighbours: dict[str, RouterNeighbour] = field(default_factory=dict)
    static: tuple[StaticWay, ...] = ()
    rules: tuple[Rule, ...] | None = None
    host_firewalls: dict[str, tuple[Rule, ...]] = field(default_factory=dict)
    hands_on: bool = False

    def ways(self) -> dict[str, RouterWay]:
        """Tunnels and lines."""
        return {**self.tunnels, **self.lines}

    def firewalls_by_prefix(self) -> dict[Prefix, tuple[Rule, ...]]:
        """The same by prefix."""
        return {
            prefix: self.host_firewalls[n]
            for n, prefix in self.networks
            if n in self.host_firewalls
        }

    def host_places(self) -> tuple[Prefix, ...]:
        """The places of practice hosts: in every network, and in each part that a rule names."""
        networks = tuple(dict.fromkeys(prefix for _, prefix in self.networks))
        named = dict.fromkeys(p for r in self.rules or () for p in (r.source, r.destination))
        parts = (p for p in named if any(n != p and n.covers(p) for n in networks))
        return (*networks, *parts)
