"""The BGP sessions of links: who speaks with whom, over which tunnels, about which families.

One session in each tunnel is the rule. Two tunnels between the same two addresses have one session,
which goes over whichever of them is up: that is so where both ends lie beyond the tunnels. And a
tunnel of both families has a session in each where the design says so.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from obrin.core.address.prefix import Address
from obrin.core.settled.links import SettledLink, SettledTunnel

INTERNAL_HOLD = 9
"""Seconds of hold time between gateways of one site: what was learned from a dead one is used
for so long."""
REOPENS = 2.0
"""Seconds until a BGP session that was closed is opened again, by whoever is not passive. RFC 4271
section 10 leaves this time (ConnectRetryTimer) to the implementation."""
_OF_IPV6 = ":ipv6"
"""What the label of the second session of a tunnel ends in."""


@dataclass(frozen=True, slots=True, kw_only=True)
class SettledSession:
    """`label` is that of its first tunnel, the preferred one. `ends` are its addresses at the site
    and at the cloud, `families` what it carries, in bits."""

    label: str
    tunnels: tuple[SettledTunnel, ...]
    ends: tuple[Address, Address]
    families: tuple[int, ...]

    def beyond(self, tunnel: SettledTunnel) -> bool:
        """Whether it does not run between two addresses inside."""
        return all(set(self.ends) != set(tunnel.ends_inside(block)) for block in tunnel.inside)

    @property
    def first(self) -> SettledTunnel:
        return self.tunnels[0]


def sessions_of(link: SettledLink) -> tuple[SettledSession, ...]:
    """BGP sessions of a link, in the order of its tunnels."""
    if link.routing != "bgp":
        return ()
    found: dict[object, SettledSession] = {}
    for tunnel in sorted(link.tunnels, key=lambda t: t.preference):
        for label, ends, families in _alone(link, tunnel):
            key = tunnel.gateway, ends
            earlier = found[key].tunnels if key in found else ()
            found[key] = SettledSession(
                label=found[key].label if earlier else label,
                tunnels=(*earlier, tunnel),
                ends=ends,
                families=families,
            )
    return tuple(found.values())


def _alone(
    link: SettledLink, tunnel: SettledTunnel
) -> list[tuple[str, tuple[Address, Address], tuple[int, ...]]]:
    """Label, ends and families of what would be in this tunnel if there were no other."""
    families = tuple(block.bits for block in tunnel.inside)
    if not link.one_each or len(families) == 1:
        return [(tunnel.label, tunnel.peers, families)]
    return [
        (tunnel.label + (_OF_IPV6 if block.bits == 128 else ""), tunnel.ends_inside(block), (bits,))
        for block, bits in zip(tunnel.inside, families, strict=True)
    ]


def by_tunnel(links: Iterable[SettledLink]) -> dict[str, tuple[SettledSession, ...]]:
    """The sessions that go over each tunnel, by its label."""
    found: dict[str, tuple[SettledSession, ...]] = {}
    for link in links:
        for session in sessions_of(link):
            for tunnel in session.tunnels:
                found[tunnel.label] = (*found.get(tunnel.label, ()), session)
    return found
