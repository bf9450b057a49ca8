"""Everything that one place could use, by prefix; asked again for any set of lost tunnels.

A failure takes candidates away and adds none. So only the prefixes whose winner went are decided
again, from the candidates that are left, and only when somebody asks for them.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence

from obrin.core.address.prefix import Prefix
from obrin.core.address.table import PrefixTable
from obrin.core.routing.decision import decide
from obrin.core.routing.forwarding import Route, RouteKind, forwarding_table
from obrin.core.routing.model import bgp_routes
from obrin.core.routing.path import Candidate


class Rib:
    """`routes` are connected and static ones; `shared` tunnels carry equal routes together."""

    def __init__(
        self,
        routes: Iterable[Route],
        candidates: Mapping[Prefix, Sequence[Candidate]],
        shared: Collection[str],
    ) -> None:
        self._fixed: dict[Prefix, list[Route]] = {}
        for route in routes:
            self._fixed.setdefault(route.prefix, []).append(route)
        self._candidates = candidates
        self._shared = shared
        self._whole: PrefixTable[Route] = PrefixTable()
        for prefix in {**self._fixed, **dict.fromkeys(candidates)}:
            best = self.best(prefix, ())
            if best is not None:
                self._whole[prefix] = best

    def best(self, prefix: Prefix, lost: Collection[str]) -> Route | None:
        """The route for just this prefix without the lost tunnels, or None."""
        routes = [r for r in self._fixed.get(prefix, ()) if r.via not in lost]
        left = [c for c in self._candidates.get(prefix, ()) if c.peer.name not in lost]
        if left and not any(r.kind.value < RouteKind.BGP.value for r in routes):
            routes += bgp_routes({prefix: decide(left)}, self._shared)
        return forwarding_table(routes).get(prefix)

    def match(self, address: int, lost: Collection[str]) -> tuple[Prefix, Route] | None:
        """The longest match without the lost tunnels."""
        for prefix, route in self._whole.matches(address):
            if not lost or (route.via not in lost and not any(o in lost for o in route.others)):
                return prefix, route
            again = self.best(prefix, lost)
            if again is not None:
                return prefix, again
        return None


class Without:
    """A place's table with some tunnels lost: what a trace asks of a table."""

    def __init__(self, rib: Rib, lost: Collection[str]) -> None:
        self._rib, self._lost = rib, lost

    def match(self, address: int) -> tuple[Prefix, Route] | None:
        return self._rib.match(address, self._lost)
