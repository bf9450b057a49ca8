"""Routes of all kinds, which one counts, and the forwarding table that results."""

from __future__ import annotations

import enum
import zlib
from collections.abc import Collection, Iterable
from dataclasses import dataclass, replace

from obrin.core.address.prefix import Address, Prefix
from obrin.core.address.table import PrefixTable
from obrin.core.address.translation import Exposure, outward
from obrin.core.routing.decision import Decision
from obrin.core.routing.packet import PacketKey


class RouteKind(enum.Enum):
    """The source of a route. The number is its administrative preference: lower wins."""

    CONNECTED = 0
    STATIC = 10
    BGP = 50

    @property
    def label(self) -> str:
        return self.name.lower()


@dataclass(frozen=True, slots=True)
class Route:
    """`via` names the tunnel, network or instance that packets leave by; `others` share with it."""

    prefix: Prefix
    kind: RouteKind
    via: str
    metric: int = 0
    others: tuple[str, ...] = ()

    @property
    def rank(self) -> tuple[int, int]:
        """The lower counts."""
        return self.kind.value, self.metric

    def via_for(self, key: PacketKey, translations: Iterable[Exposure] = ()) -> str:
        """The way by which packets of a flow leave: the same for all of them, and for their
        answers.

        `translations` are what this end does to sources on these ways.
        """
        return share((self.via, *self.others), key, translations) if self.others else self.via


def host_route(peer: Address, inside: Iterable[Prefix]) -> Prefix | None:
    """The route by which a BGP peer beyond a tunnel is reached; None for one on the blocks
    inside it."""
    return None if any(block.holds(peer) for block in inside) else peer.alone


def share(ways: Collection[str], key: PacketKey, translations: Iterable[Exposure] = ()) -> str:
    """Which of equal ways a flow takes.

    Both ends must choose alike, and know the flow by other addresses where one of them translates:
    so they choose by the packet as it is between them.
    """
    between = key._replace(source=outward(translations, key.source))
    return sorted(ways)[flow_number(between) % len(ways)]


def flow_number(key: PacketKey) -> int:
    """A number of a flow that does not change when source and destination change places."""
    ends = sorted(((key.source, key.source_port), (key.destination, key.destination_port)))
    text = b"".join(a.value.to_bytes(16, "big") + p.to_bytes(2, "big") for a, p in ends)
    return zlib.crc32(text + bytes((key.protocol,)))


def forwarding_table(routes: Iterable[Route]) -> PrefixTable[Route]:
    """One route per prefix: the lowest administrative preference, then metric, then first.

    Static routes of the same metric share.
    """
    table: PrefixTable[Route] = PrefixTable()
    for route in routes:
        have = table.get(route.prefix)
        table[route.prefix] = route if have is None else together((have, route))
    return table


def together(routes: Iterable[Route]) -> Route:
    """What routes for one prefix come to, one or more of them."""
    first, *rest = routes
    for route in rest:
        if route.rank < first.rank:
            first = route
        elif route.kind is RouteKind.STATIC and route.rank == first.rank:
            first = replace(first, others=(*first.others, route.via))
    return first


def sharing(decision: Decision, shared: Collection[str]) -> tuple[str, ...]:
    """The ways that carry flows together with the winner's: as good, and `shared` like it."""
    if decision.winner.peer.name not in shared:
        return ()
    return tuple(c.peer.name for c in decision.equals if c.peer.name in shared)
