"""What is offered, accepted and derived: the parts that several exchanges share."""

from __future__ import annotations

import functools
from typing import NamedTuple

from obrin.core.ipsec.proposal import Proposal, choose
from obrin.core.ipsec.registry import Kind
from obrin.core.ipsec.selectors import Selector
from obrin.core.ipsec.suite import Suite
from obrin.wire.esp import make_opener, make_sealer
from obrin.wire.ike.child import ChildSa
from obrin.wire.ike.errors import IkeFormatError
from obrin.wire.ike.keys import derive_child_keys
from obrin.wire.ike.sa import IkeSa


class Lifetime(NamedTuple):
    """Seconds after which to replace an SA, and after which it must be gone."""

    rekey: float
    hard: float


def lifetime(seconds: float, *, first_mover: bool, nonce: bytes) -> Lifetime:
    """IKEv2 does not negotiate lifetimes; each end acts on its own (RFC 7296 section 2.8).

    The end that made the IKE SA moves first and the other stands in for it later, so that the
    two seldom rekey at once. Jitter, from a random nonce, keeps many tunnels from moving together.
    """
    share = (0.80 if first_mover else 0.90) + nonce[0] / 255 * 0.05
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


def with_spi(offers: tuple[Proposal, ...], spi: bytes) -> tuple[Proposal, ...]:
    return tuple(Proposal(p.protocol, p.transforms, p.number, spi) for p in offers)


def accept_answer(answer: tuple[Proposal, ...], offered: tuple[Proposal, ...]) -> Proposal:
    """The responder's single proposal, checked to be one that was offered (section 2.7)."""
    if len(answer) != 1 or choose(answer, offered) is None:
        raise IkeFormatError("the responder chose something that was not offered")
    kinds = [t.kind for t in answer[0].transforms]
    if len(kinds) != len(set(kinds)):
        raise IkeFormatError("the responder left more than one transform of a type")
    return answer[0]


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


def make_child(
    sa: IkeSa,
    chosen: Proposal,
    spi_in: bytes,
    spi_out: bytes,
    *,
    exchange_initiator: bool,
    nonces: tuple[bytes, bytes],
    shared: bytes,
    local: tuple[Selector, ...],
    remote: tuple[Selector, ...],
    suites: tuple[Suite, ...],
    now: float,
) -> ChildSa:
    """Derive keys and set up both directions. `nonces` are (Ni, Nr) of the exchange."""
    encryption = chosen.one(Kind.ENCRYPTION)
    integrity = chosen.one(Kind.INTEGRITY)
    esn_chosen = chosen.one(Kind.ESN)
    if encryption is None or sa.keys is None:
        raise IkeFormatError("a child proposal without encryption")
    first, second = derive_child_keys(
        sa.algorithm(Kind.PRF).number,
        sa.keys.d,
        encryption,
        integrity,
        nonces[0] + nonces[1],
        shared,
    )
    keys_out, keys_in = (first, second) if exchange_initiator else (second, first)
    esn = esn_chosen is not None and esn_chosen.number == 1
    life = lifetime(esp_lifetime(suites, chosen), first_mover=sa.initiator, nonce=nonces[0])
    number_in, number_out = int.from_bytes(spi_in, "big"), int.from_bytes(spi_out, "big")
    return ChildSa(
        spi_in,
        spi_out,
        chosen,
        local,
        remote,
        make_sealer(number_out, encryption, keys_out, esn=esn, rng=sa.rng),
        make_opener(number_in, encryption, keys_in, esn=esn),
        keys_in,
        keys_out,
        now + life.rekey,
        now + life.hard,
        min(nonces),
    )
