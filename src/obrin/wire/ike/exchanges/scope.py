"""Which child SA is for which packets, where a tunnel has several (RFC 7296 section 2.9).

An end that holds one pair of prefixes in a child SA needs one for each pair. Whoever starts asks
for the first in IKE_AUTH and for the others afterwards, one by one; whoever answers takes of an
offer what it can hold, and says where more is possible (ADDITIONAL_TS_POSSIBLE). One that takes no
offer of several pairs says that, too (SINGLE_PAIR_REQUIRED).
"""

from __future__ import annotations

from collections.abc import Collection

from obrin.core.ipsec.selectors import Scope, Selector, Selectors, narrow, pairs
from obrin.wire.ike.config import PeerConfig

MOST = 256
"""Child SAs that a peer may ask of a tunnel."""


def first_scope(config: PeerConfig) -> Scope:
    """What the first child SA is asked for."""
    if config.each_pair:
        return next(pairs(config.local_selectors, config.remote_selectors), _whole(config))
    return _whole(config)


def next_scope(
    config: PeerConfig, held: Collection[Scope], refused: Collection[Scope]
) -> Scope | None:
    """A pair that no child SA is for yet."""
    for scope in pairs(config.local_selectors, config.remote_selectors):
        if scope not in refused and not covered(scope, held):
            return scope
    return None


def covered(scope: Scope, held: Collection[Scope]) -> bool:
    """Whether child SAs carry all of a scope, each of its pairs by one of them."""
    return all(
        any(_within(mine, local) and _within(theirs, remote) for local, remote in held)
        for (mine,), (theirs,) in pairs(*scope)
    )


def taken(config: PeerConfig, offered: Scope, held: Collection[Scope]) -> tuple[Scope, bool]:
    """What of an offer a responder takes, and whether it could take more in another child SA.

    `offered` is seen from here. Nothing in a half of it means that the two ends do not meet.
    """
    local = narrow(offered[0], config.local_selectors)
    remote = narrow(offered[1], config.remote_selectors)
    found = list(pairs(local, remote))
    if not config.each_pair or len(found) < 2:
        return (local, remote), False
    fresh = [scope for scope in found if not covered(scope, held)]
    return (fresh or found)[0], len(fresh) > 1


def _whole(config: PeerConfig) -> Scope:
    return config.local_selectors, config.remote_selectors


def _within(inner: Selector, outer: Selectors) -> bool:
    return any(other.intersect(inner) == inner for other in outer)
