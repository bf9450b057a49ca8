"""Whether next hops and far peers can be reached (RFC 4271 section 9.1.2.1)."""

from __future__ import annotations

from collections.abc import Callable, Collection

from obrin.core.address.prefix import Address
from obrin.core.routing.held import Offer
from obrin.core.routing.network import Network, PrefixClass
from obrin.core.routing.path import Path
from obrin.core.routing.session import Session


class NextHops:
    """`lost` are ways that failed; `offers` gives what a router hears of a class."""

    def __init__(
        self,
        network: Network,
        lost: Collection[str],
        offers: Callable[[str, PrefixClass], list[Offer]],
    ) -> None:
        self._network, self._lost, self._offers = network, lost, offers
        self._resolving: set[tuple[str, Address]] = set()

    def cost(self, router: str, session: Session, path: Path, bits: int) -> int | None:
        """0 on the way itself, if it is its session's first; how many routes lead to a next hop
        beyond; None when none does."""
        hop = session.next_hop.of(bits)
        if path.next_hop == hop or not session.accept.internal:
            return session.distance
        return self._lead(router, Address(bits, path.next_hop))

    def _lead(self, router: str, address: Address) -> int | None:
        """Routes that must be followed, one after the other, to get to an address: RFC 4271
        section 9.1.2.1 wants a next hop resolved, and not by the route that hangs on it."""
        key = router, address
        if key in self._resolving:
            return None
        self._resolving.add(key)
        try:
            for prefix, kind in self._network.known.matches(address):
                fixed = self._network.fixed.get(router, {}).get(prefix, ())
                if any(route.via not in self._lost for route in fixed):
                    return 1
                if kind is None:
                    continue
                for session, path in self._offers(router, kind):
                    cost = 0 if session.static else self.cost(router, session, path, address.bits)
                    if cost is not None:
                        return cost + 1
            return None
        finally:
            self._resolving.discard(key)

    def speak(self, session: Session) -> bool:
        """Whether the peers of a session can reach each other; what the session itself would
        advertise does not count."""
        assert session.far_peers is not None
        mine, theirs = session.far_peers
        return self._has_fixed(session.receiver, theirs) and self._has_fixed(session.sender, mine)

    def _has_fixed(self, router: str, address: Address) -> bool:
        for prefix, kind in self._network.known.matches(address):
            fixed = self._network.fixed.get(router, {}).get(prefix, ())
            if any(route.via not in self._lost for route in fixed):
                return True
            if kind is not None and any(
                s.static and s.via not in self._lost and prefix in s.announces
                for s in self._network.tellers(kind, router)
            ):
                return True
        return False
