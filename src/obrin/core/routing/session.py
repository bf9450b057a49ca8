"""A session in one direction: what `sender` advertises to `receiver`, and over what.

Packets go the other way round. A static link has the same shape: its prefixes are known at
the receiver because somebody wrote them down there.
"""

from __future__ import annotations

from dataclasses import dataclass

from obrin.core.address.dual import Dual
from obrin.core.address.prefix import Address
from obrin.core.routing.path import Peer
from obrin.core.routing.policy import PrefixList, SessionPolicy

NOTHING = PrefixList(())


@dataclass(frozen=True, slots=True, eq=False, kw_only=True)
class Session:
    """What `sender` advertises to `receiver`, over what they call `via`: a tunnel, a circuit, a
    hub's attachment, the neighbour on the same LAN.

    `peer` is the sender as the receiver knows it; `next_hop` are the sender's addresses on the way.
    `announces` are the sender's own prefixes. With a `metric` the session is none: those prefixes
    are static routes at the receiver. `far_peers` are the addresses of both ends where they are not
    on the way itself: each end needs a route to the other's before they can speak (receiver's
    first). `distance` is how far the way comes after the first one of its session, where that has
    several.
    """

    via: str
    sender: str
    receiver: str
    export: SessionPolicy
    accept: SessionPolicy
    peer: Peer
    next_hop: Dual[int]
    announces: PrefixList = NOTHING
    metric: int | None = None
    far_peers: tuple[Address, Address] | None = None
    distance: int = 0

    @property
    def static(self) -> bool:
        return self.metric is not None

    @property
    def delicate(self) -> bool:
        """Whether losing even what was not chosen may matter: with discriminators, summaries,
        peers and next hops beyond the way."""
        return (
            self.export.med is not None
            or bool(self.export.summaries)
            or self.far_peers is not None
            or (self.accept.internal and not self.static and not self.export.next_hop_self)
        )
