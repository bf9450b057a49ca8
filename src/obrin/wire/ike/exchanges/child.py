"""CREATE_CHILD_SA: rekeying of children (RFC 7296 sections 1.3 and 2.8).

When both ends rekey the same child at once, section 2.8.1 holds: of the four nonces, the SA made
with the lowest is closed by the end that made it.
"""

from __future__ import annotations

from obrin.core.ipsec.proposal import Protocol
from obrin.core.ipsec.selectors import narrow
from obrin.wire.ike.child import ChildSa
from obrin.wire.ike.codec.errors import IkeFormatError, IkeRefusal
from obrin.wire.ike.codec.message import find_notify, first_error, need
from obrin.wire.ike.codec.numbers import Exchange, Notify, notify_name
from obrin.wire.ike.codec.payloads import NotifyPayload, Payload
from obrin.wire.ike.codec.sa_payload import Sa
from obrin.wire.ike.events import CHILD_REKEY, IKE_REKEY, ChildUp, Refused
from obrin.wire.ike.exchanges import another as exchange_another
from obrin.wire.ike.exchanges.group import wants_group
from obrin.wire.ike.exchanges.info import delete_child
from obrin.wire.ike.exchanges.negotiate import offered_scope
from obrin.wire.ike.exchanges.new_child import Asked, ask_for, give, take
from obrin.wire.ike.exchanges.rekey import answer_ike
from obrin.wire.ike.sa import IkeSa
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
    asked = ask_for(tunnel, child.scope)
    named = NotifyPayload(Notify.REKEY_SA, protocol=Protocol.ESP, spi=child.spi_in)
    tunnel.rekeys[child.spi_in] = Rekey(sa)
    tunnel.request(
        sa,
        Exchange.CREATE_CHILD_SA,
        [named, *asked.payloads],
        lambda answer, then: _take_child(tunnel, sa, child, asked, answer, then),
        now,
    )


def _take_child(
    tunnel: TunnelState,
    sa: IkeSa,
    old: ChildSa,
    asked: Asked,
    payloads: list[Payload],
    now: float,
) -> None:
    rekey = tunnel.rekeys.pop(old.spi_in, None)
    error = first_error(payloads)
    if error is not None:
        _refused(tunnel, old, error, now)
        return
    try:
        new = take(tunnel, sa, asked, payloads, now)
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
        tunnel.use(rival)
        return
    tunnel.use(new)
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
    """Decide at the responder which of the three it is."""
    if sa.state is State.DELETING:
        raise IkeRefusal(Notify.TEMPORARY_FAILURE, "this IKE SA is being deleted")
    proposals = need(payloads, Sa, "SA").proposals
    if proposals[0].protocol == Protocol.IKE:
        return answer_ike(tunnel, sa, payloads, proposals, now)
    if sa.rekeying or sa is not tunnel.current:
        raise IkeRefusal(Notify.TEMPORARY_FAILURE, "this IKE SA is being replaced")
    named = find_notify(payloads, Notify.REKEY_SA)
    if named is None:
        return exchange_another.answer(tunnel, sa, payloads, now)
    old = next((c for c in tunnel.children.values() if c.spi_out == named.spi), None)
    if old is None:
        raise IkeRefusal(Notify.CHILD_SA_NOT_FOUND, "the child to rekey is not known here")
    if old.replaced:
        raise IkeRefusal(Notify.TEMPORARY_FAILURE, "the child to rekey is being deleted")
    return _answer_child(tunnel, sa, payloads, old, now)


def _answer_child(
    tunnel: TunnelState, sa: IkeSa, payloads: list[Payload], old: ChildSa, now: float
) -> list[Payload]:
    local, remote = offered_scope(payloads)
    scope = narrow(local, old.local), narrow(remote, old.remote)
    if not all(scope):
        raise IkeRefusal(Notify.TS_UNACCEPTABLE, "the rekey changes the traffic selectors")
    new, reply = give(tunnel, sa, payloads, scope, now)
    tunnel.children[new.spi_in] = new
    rekey = tunnel.rekeys.get(old.spi_in)
    if rekey is not None:
        rekey.rival = new
    # Sending goes on through the old one until the peer deletes it: by then it can receive.
    old.rekey_at = float("inf")
    old.superseded = True
    tunnel.retire(old, now)
    tunnel.note(ChildUp(tunnel.config.name, new, rekeyed=True))
    return reply
