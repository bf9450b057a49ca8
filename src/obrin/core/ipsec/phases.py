"""Two ends that share IKEv1 only: what its phases agree on (RFC 2409), for describing old devices.

It differs where it hurts: quick mode carries the group of perfect forward secrecy from the start,
so a difference shows at once; lifetimes are proposed, and the shorter one is used by both ends; no
child SA passes to a new ISAKMP SA without a new quick mode.
"""

from __future__ import annotations

from collections.abc import Iterator

from obrin.core.ipsec.ends import (
    AUTH_FAILED,
    NO_PROPOSAL,
    SELECTORS_APART,
    End,
    Step,
    apart,
    names,
    stranger,
)
from obrin.core.ipsec.offers import child_offers, esp_lifetime, ike_lifetime, ike_offers
from obrin.core.ipsec.proposal import choose
from obrin.core.quantity import plain

RENEWED_AT = 0.85
"""Share of a lifetime after which old devices start the next negotiation, about."""


def predict_phases(one: End, two: End, *, same_key: bool) -> Iterator[Step]:
    """Main mode, its authentication, quick mode, and when each comes again."""
    offered, accepted = ike_offers(one.suites), ike_offers(two.suites)
    agreed = choose(offered, accepted)
    if agreed is None:
        yield Step(0, 0, "phase 1", apart(offered, accepted, two), NO_PROPOSAL)
        return
    yield Step(0, 0, "phase 1", f"main mode of IKEv1: {names(agreed)}")
    fault = stranger(one, two) or stranger(two, one)
    if not fault and not same_key:
        fault = "the pre-shared keys differ: the first encrypted message cannot be read"
    if fault:
        yield Step(0, 0, "phase 1 authentication", fault, AUTH_FAILED)
        return
    yield Step(0, 0, "phase 1 authentication", "identities and pre-shared keys fit")
    offered = child_offers(one.suites, with_group=True)
    accepted = child_offers(two.suites, with_group=True)
    child = choose(offered, accepted)
    if child is None:
        yield Step(0, 0, "phase 2", apart(offered, accepted, two), NO_PROPOSAL)
        return
    if set(one.local) != set(two.remote) or set(one.remote) != set(two.local):
        text = "the traffic selectors are not mirror images, and IKEv1 does not narrow them"
        yield Step(0, 0, "phase 2", text, SELECTORS_APART)
        return
    yield Step(0, 0, "phase 2", f"quick mode: {names(child)}")
    for name, life, what in (
        ("phase 2 again", min(esp_lifetime(e.suites, child) for e in (one, two)), "quick mode"),
        ("phase 1 again", min(ike_lifetime(e.suites, agreed) for e in (one, two)), "main mode"),
    ):
        at = life * RENEWED_AT
        yield Step(at, life, name, f"a new {what} within the shorter lifetime of {plain(life)} s")
