"""Routes of all kinds, which one counts, and the forwarding table that results."""

from __future__ import annotations

import enum
from collections.abc import Iterable
from dataclasses import dataclass

from obrin.core.address.prefix import Prefix
from obrin.core.address.table import PrefixTable


class RouteKind(enum.Enum):
    """Where a route comes from. The number is its administrative preference: lower wins."""

    CONNECTED = 0
    STATIC = 10
    BGP = 50

    @property
    def label(self) -> str:
        return self.name.lower()


@dataclass(frozen=True, slots=True)
class Route:
    """`via` names the tunnel, network or instance that packets leave by."""

    prefix: Prefix
    kind: RouteKind
    via: str
    metric: int = 0
    as_path: tuple[int, ...] = ()


def forwarding_table(routes: Iterable[Route]) -> PrefixTable[Route]:
    """One route per prefix: the lowest administrative preference, then metric, then first."""
    table: PrefixTable[Route] = PrefixTable()
    for route in routes:
        have = table.get(route.prefix)
        if have is None or (route.kind.value, route.metric) < (have.kind.value, have.metric):
            table[route.prefix] = route
    return table
