"""A child SA by CREATE_CHILD_SA (RFC 7296 section 1.3), as a successor or beside others: what both
have alike."""

from __future__ import annotations

from dataclasses import dataclass

from obrin.core.ipsec.offers import child_offers
from obrin.core.ipsec.proposal import Proposal, Protocol, choose
from obrin.core.ipsec.registry import Kind
from obrin.core.ipsec.selectors import Scope
from obrin.wire.ike.child import ChildSa
from obrin.wire.ike.codec.errors import IkeRefusal
from obrin.wire.ike.codec.message import need
from obrin.wire.ike.codec.numbers import Notify
from obrin.wire.ike.codec.payloads import Ke, Nonce, Payload
from obrin.wire.ike.codec.sa_payload import Sa
from obrin.wire.ike.crypto.dh import KeyPair, make_key_pair
from obrin.wire.ike.exchanges.group import agree, answer_group
from obrin.wire.ike.exchanges.negotiate import (
    accept_answer,
    answered,
    make_child,
    selected,
    with_spi,
)
from obrin.wire.ike.sa import IkeSa
from obrin.wire.ike.tunnel_state import TunnelState


@dataclass(frozen=True, slots=True)
class Asked:
    """What the initiator remembers of its request."""

    scope: Scope
    spi: bytes
    nonce: bytes
    offers: tuple[Proposal, ...]
    group: int
    key_pair: KeyPair | None

    @property
    def payloads(self) -> list[Payload]:
        group = [] if self.key_pair is None else [Ke(self.group, self.key_pair.public)]
        return [Sa(self.offers), Nonce(self.nonce), *group, *selected(self.scope)]


def ask_for(tunnel: TunnelState, scope: Scope) -> Asked:
    suites = tunnel.config.suites
    spi, nonce = tunnel.rng(4), tunnel.rng(32)
    first = suites[0].esp.group
    group = tunnel.wanted_groups.get(Protocol.ESP, 0 if first is None else first.number)
    return Asked(
        scope=scope,
        spi=spi,
        nonce=nonce,
        offers=with_spi(child_offers(suites, with_group=True), spi),
        group=group,
        key_pair=make_key_pair(group, tunnel.rng) if group else None,
    )


def take(
    tunnel: TunnelState, sa: IkeSa, asked: Asked, payloads: list[Payload], now: float
) -> ChildSa:
    """The answer to `asked`. Raises IkeFormatError and IkeRefusal."""
    chosen = accept_answer(need(payloads, Sa, "SA").proposals, asked.offers)
    peer_nonce = need(payloads, Nonce, "nonce").data
    shared = agree(chosen, payloads, asked.key_pair)
    return make_child(
        sa,
        chosen,
        asked.spi,
        chosen.spi,
        exchange_initiator=True,
        nonces=(asked.nonce, peer_nonce),
        shared=shared,
        scope=answered(payloads, asked.scope),
        suites=tunnel.config.suites,
        now=now,
    )


def give(
    tunnel: TunnelState, sa: IkeSa, payloads: list[Payload], scope: Scope, now: float
) -> tuple[ChildSa, list[Payload]]:
    """The responder's child SA and its answer. Raises IkeRefusal."""
    nonce = need(payloads, Nonce, "nonce").data
    offered = need(payloads, Sa, "SA").proposals
    chosen = choose(offered, child_offers(tunnel.config.suites, with_group=True))
    if chosen is None or len(chosen.spi) != 4:
        raise IkeRefusal(Notify.NO_PROPOSAL_CHOSEN, "no child proposal is one that we accept")
    shared, public = answer_group(tunnel, chosen, payloads)
    spi, own_nonce = tunnel.rng(4), tunnel.rng(32)
    new = make_child(
        sa,
        chosen,
        spi,
        chosen.spi,
        exchange_initiator=False,
        nonces=(nonce, own_nonce),
        shared=shared,
        scope=scope,
        suites=tunnel.config.suites,
        now=now,
    )
    reply: list[Payload] = [
        Sa((Proposal(chosen.protocol, chosen.transforms, chosen.number, spi),)),
        Nonce(own_nonce),
    ]
    group = chosen.one(Kind.GROUP)
    if public and group is not None:
        reply.append(Ke(group.number, public))
    return new, [*reply, *selected(scope[::-1])]
