"""IKE_AUTH (RFC 7296 sections 1.2 and 2.15), by keys or certificates, and the first child."""

from __future__ import annotations

import hmac
from collections.abc import Iterator

from obrin.core.ipsec.offers import child_offers, ike_lifetime, lifetime
from obrin.core.ipsec.proposal import Proposal, choose
from obrin.core.ipsec.registry import Kind
from obrin.core.ipsec.selectors import Scope
from obrin.wire.ike.codec.errors import IkeFormatError, IkeRefusal
from obrin.wire.ike.codec.message import find, find_notify, first_error, need
from obrin.wire.ike.codec.numbers import AuthMethod, Exchange, Notify, PayloadType, notify_name
from obrin.wire.ike.codec.payloads import Auth, Id, NotifyPayload, Payload
from obrin.wire.ike.codec.sa_payload import Sa
from obrin.wire.ike.config import Identity
from obrin.wire.ike.crypto.keys import prf, shared_key_auth
from obrin.wire.ike.crypto.signatures import SignatureProblem
from obrin.wire.ike.events import ChildUp, IkeUp, Refused
from obrin.wire.ike.exchanges import info as exchange_info
from obrin.wire.ike.exchanges.negotiate import (
    accept_answer,
    answered,
    make_child,
    offered_scope,
    selected,
    with_spi,
)
from obrin.wire.ike.exchanges.scope import first_scope, taken
from obrin.wire.ike.sa import IkeSa
from obrin.wire.ike.transitions import State, Step
from obrin.wire.ike.tunnel_state import KEEPALIVE_EVERY, TunnelState


def _octets(sa: IkeSa, identity: Id, *, initiator: bool) -> bytes:
    """Section 2.15: the first message | the other's nonce | prf(SK_p, identity)."""
    if sa.keys is None:
        raise AssertionError("authentication before there are keys")
    number = sa.algorithm(Kind.PRF).number
    if initiator:
        return sa.init_request + sa.nonce_r + prf(number, sa.keys.pi, identity.encode())
    return sa.init_response + sa.nonce_i + prf(number, sa.keys.pr, identity.encode())


def _possible_octets(sa: IkeSa, identity: Id, *, initiator: bool) -> Iterator[bytes]:
    """What the peer may have signed: usually one; more when its first answer came in versions."""
    octets = _octets(sa, identity, initiator=initiator)
    yield octets
    for other in sa.also_answered:
        yield other + octets[len(sa.init_response) :]


def _shared_key_value(tunnel: TunnelState, sa: IkeSa, octets: bytes) -> bytes:
    number = sa.algorithm(Kind.PRF).number
    return shared_key_auth(number, tunnel.padded_key(number), octets)


def _proof(tunnel: TunnelState, sa: IkeSa, identity: Id, *, initiator: bool) -> list[Payload]:
    """A value made with the key, or certificates and a signature. May raise IkeRefusal."""
    octets = _octets(sa, identity, initiator=initiator)
    credential = tunnel.config.credential
    if credential is None:
        return [Auth(AuthMethod.SHARED_KEY, _shared_key_value(tunnel, sa, octets))]
    try:
        value = credential.prove(octets, sa.peer_hashes)
    except SignatureProblem as problem:
        raise IkeRefusal(Notify.AUTHENTICATION_FAILED, str(problem)) from None
    return [*credential.payloads(), Auth(AuthMethod.DIGITAL_SIGNATURE, value)]


def ask(tunnel: TunnelState, sa: IkeSa, now: float) -> None:
    """Initiator: prove who we are and ask for the first child."""
    config = tunnel.config
    sa.step(Step.SEND_AUTH)
    spi = tunnel.rng(4)
    offers = with_spi(child_offers(config.suites, with_group=False), spi)
    me = Id(PayloadType.IDI, config.local_identity.kind, config.local_identity.data)
    try:
        proof = _proof(tunnel, sa, me, initiator=True)
    except IkeRefusal as refusal:
        tunnel.note_refusal(refusal)
        tunnel.drop_sa(sa, str(refusal), now)
        return
    wanted = [] if config.credential is None else [config.credential.request()]
    payloads: list[Payload] = [
        me,
        NotifyPayload(Notify.INITIAL_CONTACT),
        *wanted,
        Id(PayloadType.IDR, config.remote_identity.kind, config.remote_identity.data),
        *proof,
        Sa(offers),
        *selected(first_scope(config)),
    ]
    sa.next_id = 1
    tunnel.request(
        sa,
        Exchange.IKE_AUTH,
        payloads,
        lambda answer, then: _take_answer(tunnel, sa, answer, spi, offers, then),
        now,
    )


def _take_answer(
    tunnel: TunnelState,
    sa: IkeSa,
    payloads: list[Payload],
    spi: bytes,
    offers: tuple[Proposal, ...],
    now: float,
) -> None:
    config = tunnel.config
    try:
        them = find(payloads, Id, PayloadType.IDR)
        auth = find(payloads, Auth)
        error = first_error(payloads)
        if them is None or auth is None:
            name = notify_name(error.notify) if error else "nothing that proves who it is"
            tunnel.note(Refused(config.name, True, name, "the peer refused IKE_AUTH"))
            tunnel.drop_sa(sa, f"the peer answered {name}", now)
            return
        _verify(tunnel, sa, payloads, them, auth, now, initiator=False)
        _establish(tunnel, sa, now)
        if error is not None:
            name = notify_name(error.notify)
            tunnel.note(Refused(config.name, True, name, "the peer refused the first child"))
            if _others_may_be_had(tunnel, error.notify, now):
                return
            _give_up_without_child(tunnel, sa, now)
            return
        chosen = accept_answer(need(payloads, Sa, "SA").proposals, offers)
        if len(chosen.spi) != 4:
            raise IkeFormatError("the peer's child SPI is not 4 bytes")
        scope = answered(payloads, first_scope(config))
        _add_child(tunnel, sa, chosen, spi, now, exchange_initiator=True, scope=scope)
        tunnel.more_possible = find_notify(payloads, Notify.ADDITIONAL_TS_POSSIBLE) is not None
        if tunnel.wanted() is not None:
            tunnel.create_at = now
    except (IkeFormatError, IkeRefusal) as problem:
        tunnel.note_refusal(problem)
        if sa.state is State.ESTABLISHED:
            _give_up_without_child(tunnel, sa, now)
        else:
            tunnel.drop_sa(sa, str(problem), now)


def _others_may_be_had(tunnel: TunnelState, notify: int, now: float) -> bool:
    """Whether another child SA is asked for instead of the first: one for a single pair, or for the
    next pair."""
    if notify == Notify.SINGLE_PAIR_REQUIRED and not tunnel.config.each_pair:
        tunnel.more_possible = True
    elif notify == Notify.TS_UNACCEPTABLE and tunnel.config.each_pair:
        tunnel.refused.add(first_scope(tunnel.config))
    else:
        return False
    tunnel.create_at = now
    return tunnel.wanted() is not None


def _give_up_without_child(tunnel: TunnelState, sa: IkeSa, now: float) -> None:
    exchange_info.delete_sa(tunnel, sa, now, restart=True)


def answer(tunnel: TunnelState, sa: IkeSa, payloads: list[Payload], now: float) -> list[Payload]:
    """Responder: check the initiator, then answer for the IKE SA and for the first child."""
    config = tunnel.config
    them = need(payloads, Id, "identification", PayloadType.IDI)
    auth = need(payloads, Auth, "authentication")
    _verify(tunnel, sa, payloads, them, auth, now, initiator=True)
    me = Id(PayloadType.IDR, config.local_identity.kind, config.local_identity.data)
    reply: list[Payload] = [me, *_proof(tunnel, sa, me, initiator=False)]
    if find_notify(payloads, Notify.INITIAL_CONTACT) is not None:
        for old in [other for other in tunnel.sas if other is not sa]:
            tunnel.drop_sa(old, "the peer started anew", now, restart=False)
    _establish(tunnel, sa, now)
    try:
        reply += _answer_child(tunnel, sa, payloads, now)
    except IkeRefusal as refusal:
        tunnel.note_refusal(refusal)
        reply.append(NotifyPayload(refusal.notify, refusal.data))
    return reply


def after_answer(
    tunnel: TunnelState, sa: IkeSa, exchange: int, answer: list[Payload], now: float
) -> None:
    """A responder that refused IKE_AUTH keeps nothing (section 2.21.2)."""
    if exchange == Exchange.IKE_AUTH and sa.state is State.INIT_ANSWERED:
        tunnel.drop_sa(sa, "IKE_AUTH was refused here", now, restart=False)


def _answer_child(
    tunnel: TunnelState, sa: IkeSa, payloads: list[Payload], now: float
) -> list[Payload]:
    config = tunnel.config
    offered = need(payloads, Sa, "SA").proposals
    chosen = choose(offered, child_offers(config.suites, with_group=False))
    if chosen is None or len(chosen.spi) != 4:
        raise IkeRefusal(Notify.NO_PROPOSAL_CHOSEN, "no child proposal is one that we accept")
    scope, more = taken(config, offered_scope(payloads), ())
    if not all(scope):
        raise IkeRefusal(Notify.TS_UNACCEPTABLE, "the peer's traffic selectors are not ours")
    spi = tunnel.rng(4)
    _add_child(tunnel, sa, chosen, spi, now, exchange_initiator=False, scope=scope)
    return [
        Sa((Proposal(chosen.protocol, chosen.transforms, chosen.number, spi),)),
        *selected(scope[::-1]),
        *([NotifyPayload(Notify.ADDITIONAL_TS_POSSIBLE)] if more else []),
    ]


def _verify(
    tunnel: TunnelState,
    sa: IkeSa,
    payloads: list[Payload],
    them: Id,
    auth: Auth,
    now: float,
    *,
    initiator: bool,
) -> None:
    """Raises IkeRefusal with AUTHENTICATION_FAILED: wrong identity, method or proof."""
    claimed, expected = Identity(them.id_kind, them.data), tunnel.config.remote_identity
    if claimed != expected:
        raise IkeRefusal(
            Notify.AUTHENTICATION_FAILED,
            f"the peer says it is {claimed}, this tunnel expects {expected}",
        )
    credential = tunnel.config.credential
    wanted = AuthMethod.SHARED_KEY if credential is None else AuthMethod.DIGITAL_SIGNATURE
    if auth.method != wanted:
        what = "a pre-shared key" if credential is None else "a certificate"
        raise IkeRefusal(
            Notify.AUTHENTICATION_FAILED,
            f"the peer uses authentication method {auth.method}, {what} is expected",
        )
    problem = ""
    for octets in _possible_octets(sa, them, initiator=initiator):
        if credential is None:
            if hmac.compare_digest(_shared_key_value(tunnel, sa, octets), auth.data):
                return
            problem = problem or "the peer's proof does not fit: the pre-shared keys differ"
            continue
        try:
            tunnel.peer_chain = credential.check(payloads, str(claimed), auth.data, octets, now)
            return
        except SignatureProblem as found:
            problem = problem or str(found)
    raise IkeRefusal(Notify.AUTHENTICATION_FAILED, problem)


def _establish(tunnel: TunnelState, sa: IkeSa, now: float) -> None:
    sa.step(Step.AUTHENTICATED)
    if sa.chosen is None:
        raise AssertionError("an IKE SA without a proposal")
    life = lifetime(
        ike_lifetime(tunnel.config.suites, sa.chosen), first_mover=sa.initiator, nonce=sa.nonce_i
    )
    sa.rekey_at, sa.expires_at = now + life.rekey, now + life.hard
    tunnel.authenticated(sa)
    tunnel.last_heard = tunnel.childless_at = now
    path = sa.path
    if path.local_translated:
        path.keepalive_at = now + KEEPALIVE_EVERY
    tunnel.note(IkeUp(tunnel.config.name, sa))


def _add_child(
    tunnel: TunnelState,
    sa: IkeSa,
    chosen: Proposal,
    spi_in: bytes,
    now: float,
    *,
    exchange_initiator: bool,
    scope: Scope,
) -> None:
    if not all(scope):
        raise IkeRefusal(Notify.TS_UNACCEPTABLE, "the peer widened the traffic selectors")
    child = make_child(
        sa,
        chosen,
        spi_in,
        chosen.spi,
        exchange_initiator=exchange_initiator,
        nonces=(sa.nonce_i, sa.nonce_r),
        shared=b"",
        scope=scope,
        suites=tunnel.config.suites,
        now=now,
    )
    tunnel.children[child.spi_in] = child
    tunnel.use(child)
    tunnel.note(ChildUp(tunnel.config.name, child))
