"""What an end offers for its suites, and when it rekeys: the same for engine and prediction."""

from __future__ import annotations

import functools
from typing import NamedTuple

from obrin.core.ipsec.proposal import Proposal
from obrin.core.ipsec.registry import Kind
from obrin.core.ipsec.suite import Suite

FIRST_SHARE, SECOND_SHARE, JITTER = 0.80, 0.90, 0.05
"""Shares of its own lifetime at which the end that made the IKE SA rekeys, and the other one."""


class Lifetime(NamedTuple):
    """Seconds after which to replace an SA, and after which it must be gone."""

    rekey: float
    hard: float


def lifetime(seconds: float, *, first_mover: bool, nonce: bytes) -> Lifetime:
    """IKEv2 does not negotiate lifetimes; each end acts on its own (RFC 7296 section 2.8).

    The end that made the IKE SA moves first and the other stands in for it later, so that the
    two seldom rekey at once. Jitter, from a random nonce, keeps many tunnels from moving together.
    """
    share = (FIRST_SHARE if first_mover else SECOND_SHARE) + nonce[0] / 255 * JITTER
    return Lifetime(seconds * share, seconds)


@functools.lru_cache(maxsize=1024)
def ike_offers(suites: tuple[Suite, ...]) -> tuple[Proposal, ...]:
    """IKE proposals of suites in order, numbered from 1, without SPI."""
    proposals = [suite.ike.proposal() for suite in suites]
    return tuple(Proposal(p.protocol, p.transforms, n) for n, p in enumerate(proposals, 1))


@functools.lru_cache(maxsize=1024)
def child_offers(suites: tuple[Suite, ...], *, with_group: bool) -> tuple[Proposal, ...]:
    """Child proposals of suites in order, numbered from 1, without SPI."""
    proposals = [suite.esp.proposal(with_group=with_group) for suite in suites]
    return tuple(Proposal(p.protocol, p.transforms, n) for n, p in enumerate(proposals, 1))


def esp_lifetime(suites: tuple[Suite, ...], chosen: Proposal) -> float:
    """Our own lifetime for the suite that was agreed; the shortest when several match."""
    wanted = chosen.one(Kind.ENCRYPTION)
    return min(
        (s.esp.lifetime for s in suites if s.esp.encryption == wanted),
        default=min(s.esp.lifetime for s in suites),
    )


def ike_lifetime(suites: tuple[Suite, ...], chosen: Proposal) -> float:
    wanted = chosen.one(Kind.ENCRYPTION)
    return min(
        (s.ike.lifetime for s in suites if s.ike.encryption == wanted),
        default=min(s.ike.lifetime for s in suites),
    )
