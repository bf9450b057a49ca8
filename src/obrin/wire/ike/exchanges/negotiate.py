"""What is offered, accepted and derived: the parts that several exchanges share."""

from __future__ import annotations

from obrin.core.ipsec.offers import esp_lifetime, lifetime
from obrin.core.ipsec.proposal import Proposal, choose
from obrin.core.ipsec.registry import Kind
from obrin.core.ipsec.selectors import Scope, narrow
from obrin.core.ipsec.suite import Suite
from obrin.wire.esp import make_opener, make_sealer
from obrin.wire.ike.child import ChildSa
from obrin.wire.ike.codec.errors import IkeFormatError
from obrin.wire.ike.codec.message import need
from obrin.wire.ike.codec.numbers import PayloadType
from obrin.wire.ike.codec.payloads import Payload, Ts
from obrin.wire.ike.crypto.keys import derive_child_keys
from obrin.wire.ike.sa import IkeSa


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


def selected(scope: Scope) -> list[Payload]:
    """The traffic selectors of the exchange's initiator, then of its responder."""
    return [Ts(PayloadType.TSI, scope[0]), Ts(PayloadType.TSR, scope[1])]


def offered_scope(payloads: list[Payload]) -> Scope:
    """What a request wants, as its responder sees it."""
    initiator, responder = (
        need(payloads, Ts, "traffic selector", kind).selectors
        for kind in (PayloadType.TSI, PayloadType.TSR)
    )
    return responder, initiator


def answered(payloads: list[Payload], asked: Scope) -> Scope:
    """What the responder left of what was asked; nothing in a half where it widened it."""
    remote, local = offered_scope(payloads)
    return narrow(local, asked[0]), narrow(remote, asked[1])


def make_child(
    sa: IkeSa,
    chosen: Proposal,
    spi_in: bytes,
    spi_out: bytes,
    *,
    exchange_initiator: bool,
    nonces: tuple[bytes, bytes],
    shared: bytes,
    scope: Scope,
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
        spi_in=spi_in,
        spi_out=spi_out,
        chosen=chosen,
        local=scope[0],
        remote=scope[1],
        sealer=make_sealer(number_out, encryption, integrity, keys_out, esn=esn, rng=sa.rng),
        opener=make_opener(number_in, encryption, integrity, keys_in, esn=esn),
        keys_in=keys_in,
        keys_out=keys_out,
        rekey_at=now + life.rekey,
        expires_at=now + life.hard,
        low_nonce=min(nonces),
    )
