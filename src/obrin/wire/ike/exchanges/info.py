"""INFORMATIONAL (RFC 7296 section 1.4): liveness and delete."""

from __future__ import annotations

from obrin.core.ipsec.proposal import Protocol
from obrin.wire.ike.child import ChildSa
from obrin.wire.ike.codec.message import find_notify
from obrin.wire.ike.codec.numbers import Exchange, Notify
from obrin.wire.ike.codec.payloads import Delete, Payload
from obrin.wire.ike.sa import IkeSa
from obrin.wire.ike.transitions import State, Step
from obrin.wire.ike.tunnel_state import TunnelState


def ask_liveness(tunnel: TunnelState, sa: IkeSa, now: float) -> None:
    """An empty request; any authentic answer is a sign of life (section 2.4)."""
    tunnel.request(sa, Exchange.INFORMATIONAL, [], lambda _payloads, _now: None, now)


def delete_sa(tunnel: TunnelState, sa: IkeSa, now: float, *, restart: bool = False) -> None:
    """Ask the peer to forget an IKE SA; ours goes when it answers, or does not."""
    sa.step(Step.DELETE)
    sa.rekey_at = float("inf")
    tunnel.request(
        sa,
        Exchange.INFORMATIONAL,
        [Delete(Protocol.IKE)],
        lambda _payloads, then: tunnel.drop_sa(sa, "deleted here", then, restart=restart),
        now,
    )


def delete_child(tunnel: TunnelState, child: ChildSa, now: float) -> None:
    """Ask the peer to forget a child; our inbound half stays until it answers.

    The request may go down with an IKE SA that is replaced meanwhile, so it is made again then.
    """
    sa = tunnel.current
    if sa is None:
        tunnel.drop_child(child, "deleted here", now)
        return
    child.replaced = True
    child.delete_again_at = now + tunnel.config.liveness.give_up + 1.0
    tunnel.retire(child, now)
    tunnel.request(
        sa,
        Exchange.INFORMATIONAL,
        [Delete(Protocol.ESP, (child.spi_in,))],
        lambda _payloads, then: tunnel.drop_child(child, "replaced", then),
        now,
    )


def answer(tunnel: TunnelState, sa: IkeSa, payloads: list[Payload], now: float) -> list[Payload]:
    """Take deletes; the answer names our halves of the children that went (section 1.4.1)."""
    gone: list[bytes] = []
    for payload in payloads:
        if not isinstance(payload, Delete):
            continue
        if payload.protocol == Protocol.IKE:
            sa.step(Step.DELETE)
            sa.expires_at = now  # dropped once the answer is on its way
            continue
        for spi_out in payload.spis:
            for child in list(tunnel.children.values()):
                if child.spi_out == spi_out:
                    if not child.replaced:
                        gone.append(child.spi_in)
                    alike = [c for c in tunnel.children.values() if c.scope == child.scope]
                    reason = "replaced" if len(alike) > 1 else "the peer deleted it"
                    tunnel.drop_child(child, reason, now)
    return [Delete(Protocol.ESP, tuple(gone))] if gone else []


def after_answer(tunnel: TunnelState, sa: IkeSa, answer: list[Payload], now: float) -> None:
    """Forget an IKE SA whose deletion was just answered, or whose peer cannot be understood."""
    if find_notify(answer, Notify.INVALID_SYNTAX) is not None:
        # Fatal at both ends, without a delete (section 2.21.3).
        tunnel.drop_sa(sa, "the peer sent a request that cannot be read", now)
    elif sa.state is State.DELETING and sa.expires_at <= now:
        tunnel.drop_sa(sa, "the peer deleted it", now)
