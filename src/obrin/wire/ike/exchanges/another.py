"""CREATE_CHILD_SA for one child SA more, where a tunnel has several (RFC 7296 section 1.3.1)."""

from __future__ import annotations

from obrin.core.ipsec.proposal import Protocol
from obrin.wire.ike.codec.errors import IkeFormatError, IkeRefusal
from obrin.wire.ike.codec.message import find_notify, first_error
from obrin.wire.ike.codec.numbers import Exchange, Notify, notify_name
from obrin.wire.ike.codec.payloads import NotifyPayload, Payload
from obrin.wire.ike.events import ChildUp, Refused
from obrin.wire.ike.exchanges.group import wants_group
from obrin.wire.ike.exchanges.info import delete_child, delete_sa
from obrin.wire.ike.exchanges.negotiate import offered_scope
from obrin.wire.ike.exchanges.new_child import Asked, ask_for, give, take
from obrin.wire.ike.exchanges.scope import MOST, covered, taken
from obrin.wire.ike.sa import IkeSa
from obrin.wire.ike.transitions import State
from obrin.wire.ike.tunnel_state import TunnelState

_LATER = (Notify.TEMPORARY_FAILURE, Notify.NO_ADDITIONAL_SAS)


def ask(tunnel: TunnelState, now: float) -> None:
    """Ask for a child SA for the next pair that none carries yet; called when that is due."""
    tunnel.create_at = float("inf")
    sa, scope = tunnel.current, tunnel.wanted()
    if sa is None or sa.state is not State.ESTABLISHED:
        return
    if scope is None:
        if not tunnel.children and tunnel.config.initiate:
            delete_sa(tunnel, sa, now, restart=True)  # there is none at all
        return
    if sa.rekeying or tunnel.creating is not None:
        tunnel.create_at = tunnel.retry_at(now)
        return
    asked = ask_for(tunnel, scope)
    tunnel.creating = sa
    tunnel.request(
        sa,
        Exchange.CREATE_CHILD_SA,
        asked.payloads,
        lambda payloads, then: _take(tunnel, sa, asked, payloads, then),
        now,
    )


def _take(
    tunnel: TunnelState, sa: IkeSa, asked: Asked, payloads: list[Payload], now: float
) -> None:
    tunnel.creating, tunnel.create_at = None, now
    error = first_error(payloads)
    if error is not None:
        _refused(tunnel, asked, error, now)
        return
    try:
        child = take(tunnel, sa, asked, payloads, now)
    except (IkeFormatError, IkeRefusal) as problem:
        tunnel.note_refusal(problem)
        tunnel.refused.add(asked.scope)
        return
    tunnel.children[child.spi_in] = child
    if not all(child.scope) or covered(asked.scope, tunnel.outbounds):
        tunnel.refused.add(asked.scope)
        delete_child(tunnel, child, now)
        return
    tunnel.use(child)
    tunnel.note(ChildUp(tunnel.config.name, child))
    if find_notify(payloads, Notify.ADDITIONAL_TS_POSSIBLE) is None and not covered(
        asked.scope, tunnel.outbounds
    ):
        tunnel.refused.add(asked.scope)  # a part of it is all that the peer has


def _refused(tunnel: TunnelState, asked: Asked, error: NotifyPayload, now: float) -> None:
    if wants_group(tunnel, Protocol.ESP, error):
        return
    name = notify_name(error.notify)
    (mine, *_), (theirs, *_) = asked.scope
    text = f"the peer refused a child SA for {mine} and {theirs}"
    tunnel.note(Refused(tunnel.config.name, True, name, text))
    if error.notify in _LATER:
        tunnel.create_at = tunnel.retry_at(now)
    else:
        tunnel.refused.add(asked.scope)


def answer(tunnel: TunnelState, sa: IkeSa, payloads: list[Payload], now: float) -> list[Payload]:
    """Responder: one that is for something that no child SA carries yet."""
    scope, more = taken(tunnel.config, offered_scope(payloads), tunnel.outbounds)
    if not all(scope):
        raise IkeRefusal(Notify.TS_UNACCEPTABLE, "the peer's traffic selectors are not ours")
    if covered(scope, tunnel.outbounds) or len(tunnel.children) >= MOST:
        raise IkeRefusal(Notify.NO_ADDITIONAL_SAS, "child SAs carry all of that already")
    child, reply = give(tunnel, sa, payloads, scope, now)
    tunnel.children[child.spi_in] = child
    tunnel.use(child)
    tunnel.note(ChildUp(tunnel.config.name, child))
    return [*reply, *([NotifyPayload(Notify.ADDITIONAL_TS_POSSIBLE)] if more else [])]
