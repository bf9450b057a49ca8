"""CREATE_CHILD_SA: rekeying of children (RFC 7296 sections 1.3 and 2.8).

When both ends rekey the same child at once, section 2.8.1 holds: of the four nonces, the SA made
with the lowest is closed by the end that made it.
"""

from __future__ import annotations

from obrin.core.ipsec.offers import child_offers
from obrin.core.ipsec.proposal import Proposal, Protocol, choose
from obrin.core.ipsec.registry import Kind
from obrin.core.ipsec.selectors import narrow
from obrin.wire.ike.child import ChildSa
from obrin.wire.ike.dh import KeyPair, make_key_pair
from obrin.wire.ike.errors import IkeFormatError, IkeRefusal
from obrin.wire.ike.events import CHILD_REKEY, IKE_REKEY, ChildUp, Refused
from obrin.wire.ike.exchange_group import agree, answer_group, wants_group
from obrin.wire.ike.exchange_info import delete_child
from obrin.wire.ike.exchange_rekey import answer_ike
from obrin.wire.ike.message import find_notify, first_error, need
from obrin.wire.ike.negotiate import accept_answer, make_child, with_spi
from obrin.wire.ike.numbers import Exchange, Notify, PayloadType, notify_name
from obrin.wire.ike.payloads import Ke, Nonce, NotifyPayload, Payload, Ts
from obrin.wire.ike.sa import IkeSa
from obrin.wire.ike.sa_payload import Sa
from obrin.wire.ike.transitions import State
from obrin.wire.ike.tunnel_state import Rekey, TunnelState


def rekey_child(tunnel: TunnelState, child: ChildSa, now: float) -> None:
    """Ask for a successor of `child`."""
    sa = tunnel.current
    if sa is None or sa.state is not State.ESTABLISHED or child.spi_in in tunnel.rekeys:
        return
    if child.superseded or child.replaced:
        return
    if sa.rekeying:
        child.rekey_at = tunnel.retry_at(now)
        return
    suites = tunnel.config.suites
    spi, nonce = tunnel.rng(4), tunnel.rng(32)
    offers = with_spi(child_offers(suites, with_group=True), spi)
    first = suites[0].esp.group
    group = tunnel.wanted_groups.get(Protocol.ESP, 0 if first is None else first.number)
    key_pair = make_key_pair(group, tunnel.rng) if group else None
    payloads: list[Payload] = [
        NotifyPayload(Notify.REKEY_SA, protocol=Protocol.ESP, spi=child.spi_in),
        Sa(offers),
        Nonce(nonce),
    ]
    if key_pair is not None:
        payloads.append(Ke(group, key_pair.public))
    payloads += [Ts(PayloadType.TSI, child.local), Ts(PayloadType.TSR, child.remote)]
    tunnel.rekeys[child.spi_in] = Rekey(sa)
    tunnel.request(
        sa,
        Exchange.CREATE_CHILD_SA,
        payloads,
        lambda answer, then: _take_child(
            tunnel, sa, child, answer, spi, offers, nonce, key_pair, then
        ),
        now,
    )


def _take_child(
    tunnel: TunnelState,
    sa: IkeSa,
    old: ChildSa,
    payloads: list[Payload],
    spi: bytes,
    offers: tuple[Proposal, ...],
    nonce: bytes,
    key_pair: KeyPair | None,
    now: float,
) -> None:
    rekey = tunnel.rekeys.pop(old.spi_in, None)
    try:
        error = first_error(payloads)
        if error is not None:
            _refused(tunnel, old, error, now)
            return
        chosen = accept_answer(need(payloads, Sa, "SA").proposals, offers)
        peer_nonce = need(payloads, Nonce, "nonce").data
        shared = agree(chosen, payloads, key_pair)
        new = make_child(
            sa,
            chosen,
            spi,
            chosen.spi,
            exchange_initiator=True,
            nonces=(nonce, peer_nonce),
            shared=shared,
            local=narrow(
                need(payloads, Ts, "traffic selector", PayloadType.TSI).selectors, old.local
            ),
            remote=narrow(
                need(payloads, Ts, "traffic selector", PayloadType.TSR).selectors, old.remote
            ),
            suites=tunnel.config.suites,
            now=now,
        )
    except (IkeFormatError, IkeRefusal) as problem:
        tunnel.note_refusal(problem, CHILD_REKEY)
        old.rekey_at = tunnel.retry_at(now)
        return
    tunnel.children[new.spi_in] = new
    rival = rekey.rival if rekey else None
    if rival is not None and new.low_nonce < rival.low_nonce:
        # Ours was made with the lowest nonce: it is the one too many, and the peer
        # takes the old one away.
        delete_child(tunnel, new, now)
        tunnel.outbound = rival
        return
    tunnel.outbound = new
    tunnel.note(ChildUp(tunnel.config.name, new, rekeyed=True))
    if old.spi_in in tunnel.children:
        delete_child(tunnel, old, now)


def _refused(tunnel: TunnelState, old: ChildSa, error: NotifyPayload, now: float) -> None:
    if wants_group(tunnel, Protocol.ESP, error):
        rekey_child(tunnel, old, now)
        return
    name = notify_name(error.notify)
    text = "the peer refused to rekey the child SA"
    tunnel.note(Refused(tunnel.config.name, True, name, text, CHILD_REKEY))
    if error.notify == Notify.CHILD_SA_NOT_FOUND:
        tunnel.drop_child(old, "the peer does not have it any more", now)
    elif old.spi_in in tunnel.children:
        old.rekey_at = tunnel.retry_at(now)


def rekey_of(exchange: int, payloads: list[Payload]) -> str:
    """What a request asks to rekey, as events name it; empty where it is something else."""
    asked = next((p for p in payloads if isinstance(p, Sa)), None)
    if exchange != Exchange.CREATE_CHILD_SA or asked is None:
        return ""
    return IKE_REKEY if asked.proposals[0].protocol == Protocol.IKE else CHILD_REKEY


def answer(tunnel: TunnelState, sa: IkeSa, payloads: list[Payload], now: float) -> list[Payload]:
    """Responder's side: which of the two rekeys is it? New children are not offered here."""
    if sa.state is State.DELETING:
        raise IkeRefusal(Notify.TEMPORARY_FAILURE, "this IKE SA is being deleted")
    proposals = need(payloads, Sa, "SA").proposals
    if proposals[0].protocol == Protocol.IKE:
        return answer_ike(tunnel, sa, payloads, proposals, now)
    if sa.rekeying or sa is not tunnel.current:
        raise IkeRefusal(Notify.TEMPORARY_FAILURE, "this IKE SA is being replaced")
    named = find_notify(payloads, Notify.REKEY_SA)
    if named is None:
        raise IkeRefusal(Notify.NO_ADDITIONAL_SAS, "one child per tunnel is all that is made")
    old = next((c for c in tunnel.children.values() if c.spi_out == named.spi), None)
    if old is None:
        raise IkeRefusal(Notify.CHILD_SA_NOT_FOUND, "the child to rekey is not known here")
    if old.replaced:
        raise IkeRefusal(Notify.TEMPORARY_FAILURE, "the child to rekey is being deleted")
    return _answer_child(tunnel, sa, payloads, proposals, old, now)


def _answer_child(
    tunnel: TunnelState,
    sa: IkeSa,
    payloads: list[Payload],
    proposals: tuple[Proposal, ...],
    old: ChildSa,
    now: float,
) -> list[Payload]:
    nonce = need(payloads, Nonce, "nonce").data
    chosen = choose(proposals, child_offers(tunnel.config.suites, with_group=True))
    if chosen is None or len(chosen.spi) != 4:
        raise IkeRefusal(Notify.NO_PROPOSAL_CHOSEN, "no child proposal is one that we accept")
    shared, public = answer_group(tunnel, chosen, payloads)
    remote = narrow(need(payloads, Ts, "traffic selector", PayloadType.TSI).selectors, old.remote)
    local = narrow(need(payloads, Ts, "traffic selector", PayloadType.TSR).selectors, old.local)
    if not remote or not local:
        raise IkeRefusal(Notify.TS_UNACCEPTABLE, "the rekey changes the traffic selectors")
    spi, own_nonce = tunnel.rng(4), tunnel.rng(32)
    new = make_child(
        sa,
        chosen,
        spi,
        chosen.spi,
        exchange_initiator=False,
        nonces=(nonce, own_nonce),
        shared=shared,
        local=local,
        remote=remote,
        suites=tunnel.config.suites,
        now=now,
    )
    tunnel.children[new.spi_in] = new
    rekey = tunnel.rekeys.get(old.spi_in)
    if rekey is not None:
        rekey.rival = new
    # Sending goes on through the old one until the peer deletes it: by then it can receive.
    old.rekey_at = float("inf")
    old.superseded = True
    tunnel.retire(old, now)
    tunnel.note(ChildUp(tunnel.config.name, new, rekeyed=True))
    reply: list[Payload] = [
        Sa((Proposal(chosen.protocol, chosen.transforms, chosen.number, spi),)),
        Nonce(own_nonce),
    ]
    if public:
        group = chosen.one(Kind.GROUP)
        reply.append(Ke(group.number if group else 0, public))
    return [*reply, Ts(PayloadType.TSI, remote), Ts(PayloadType.TSR, local)]
