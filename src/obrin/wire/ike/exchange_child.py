"""CREATE_CHILD_SA: rekeying of children and of the IKE SA (RFC 7296 sections 1.3 and 2.8).

When both ends rekey the same child at once, section 2.8.1 holds: of the four nonces, the SA made
with the lowest is closed by the end that made it. When both rekey the IKE SA at once, the end
that made the old one wins and answers the other with TEMPORARY_FAILURE; section 2.25.2 would
rather answer and close the loser later, which costs a third SA for no gain with only two ends
of ours, and a peer that follows it copes with the refusal by trying again.
"""

from __future__ import annotations

from obrin.core.ipsec.offers import child_offers, ike_lifetime, ike_offers, lifetime
from obrin.core.ipsec.proposal import Proposal, Protocol, choose
from obrin.core.ipsec.registry import Kind
from obrin.core.ipsec.selectors import narrow
from obrin.wire.ike.child import ChildSa
from obrin.wire.ike.dh import KeyPair, make_key_pair
from obrin.wire.ike.errors import IkeFormatError, IkeRefusal
from obrin.wire.ike.events import CHILD_REKEY, IKE_REKEY, ChildUp, IkeUp, Refused
from obrin.wire.ike.exchange_info import delete_child, delete_sa
from obrin.wire.ike.keys import derive_ike_keys, skeyseed_rekey
from obrin.wire.ike.message import find, find_notify, first_error, need
from obrin.wire.ike.negotiate import accept_answer, make_child, with_spi
from obrin.wire.ike.numbers import Exchange, Notify, PayloadType, notify_name
from obrin.wire.ike.payloads import Ke, Nonce, NotifyPayload, Payload, Ts
from obrin.wire.ike.sa import IkeSa
from obrin.wire.ike.sa_payload import Sa
from obrin.wire.ike.transitions import State, Step
from obrin.wire.ike.tunnel_state import Rekey, TunnelState

# Rekeying a child


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
        shared = _agree(chosen, payloads, key_pair)
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
    if _wants_group(tunnel, Protocol.ESP, error):
        rekey_child(tunnel, old, now)
        return
    name = notify_name(error.notify)
    text = "the peer refused to rekey the child SA"
    tunnel.note(Refused(tunnel.config.name, True, name, text, CHILD_REKEY))
    if error.notify == Notify.CHILD_SA_NOT_FOUND:
        tunnel.drop_child(old, "the peer does not have it any more", now)
    elif old.spi_in in tunnel.children:
        old.rekey_at = tunnel.retry_at(now)


def _wants_group(tunnel: TunnelState, protocol: Protocol, error: NotifyPayload) -> bool:
    """Whether the peer asks for another group that we offered; it is remembered (section 1.3)."""
    if error.notify != Notify.INVALID_KE_PAYLOAD or len(error.data) != 2:
        return False
    group = int.from_bytes(error.data, "big")
    suites = tunnel.config.suites
    if protocol is Protocol.ESP:
        offered = {s.esp.group.number for s in suites if s.esp.group is not None}
    else:
        offered = {s.ike.group.number for s in suites}
    if group not in offered or tunnel.wanted_groups.get(protocol) == group:
        return False
    tunnel.wanted_groups[protocol] = group
    return True


def _agree(chosen: Proposal, payloads: list[Payload], key_pair: KeyPair | None) -> bytes:
    group = chosen.one(Kind.GROUP)
    if group is None:
        return b""
    ke = need(payloads, Ke, "key exchange")
    if key_pair is None or ke.group != group.number:
        raise IkeFormatError("the key exchange is not of the agreed group")
    return key_pair.shared(ke.data)


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
        return _answer_ike(tunnel, sa, payloads, proposals, now)
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
    shared, public = _answer_exchange(tunnel, chosen, payloads)
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


def _answer_exchange(
    tunnel: TunnelState, chosen: Proposal, payloads: list[Payload]
) -> tuple[bytes, bytes]:
    """(shared secret, our public value); both empty without a group. May raise IkeRefusal."""
    group = chosen.one(Kind.GROUP)
    if group is None:
        return b"", b""
    ke = find(payloads, Ke)
    if ke is None or ke.group != group.number:
        raise IkeRefusal(
            Notify.INVALID_KE_PAYLOAD,
            f"the key exchange should be in group {group.number}",
            group.number.to_bytes(2, "big"),
        )
    key_pair = make_key_pair(group.number, tunnel.rng)
    return key_pair.shared(ke.data), key_pair.public


# Rekeying the IKE SA


def rekey_ike(tunnel: TunnelState, now: float) -> None:
    """Ask for a successor of the current IKE SA."""
    sa = tunnel.current
    if sa is None or sa.state is not State.ESTABLISHED:
        return
    if _children_in_motion(tunnel):
        sa.rekey_at = tunnel.retry_at(now)
        return
    suites = tunnel.config.suites
    spi, nonce = tunnel.rng(8), tunnel.rng(32)
    offers = with_spi(ike_offers(suites), spi)
    group = tunnel.wanted_groups.get(Protocol.IKE, suites[0].ike.group.number)
    key_pair = make_key_pair(group, tunnel.rng)
    sa.rekeying = True
    tunnel.request(
        sa,
        Exchange.CREATE_CHILD_SA,
        [Sa(offers), Nonce(nonce), Ke(group, key_pair.public)],
        lambda answer, then: _take_ike(tunnel, sa, answer, spi, offers, nonce, key_pair, then),
        now,
    )


def _children_in_motion(tunnel: TunnelState) -> bool:
    """Section 2.25.2: an IKE SA is not rekeyed while its children are; requests would be lost."""
    return bool(tunnel.rekeys) or any(child.replaced for child in tunnel.children.values())


def _take_ike(
    tunnel: TunnelState,
    old: IkeSa,
    payloads: list[Payload],
    spi: bytes,
    offers: tuple[Proposal, ...],
    nonce: bytes,
    key_pair: KeyPair,
    now: float,
) -> None:
    old.rekeying = False
    if old is not tunnel.current:
        return  # the peer's own rekey came first; what it made is in use
    try:
        error = first_error(payloads)
        if error is not None:
            if _wants_group(tunnel, Protocol.IKE, error):
                rekey_ike(tunnel, now)
                return
            name = notify_name(error.notify)
            text = "the peer refused to rekey IKE"
            tunnel.note(Refused(tunnel.config.name, True, name, text, IKE_REKEY))
            old.rekey_at = tunnel.retry_at(now)
            return
        chosen = accept_answer(need(payloads, Sa, "SA").proposals, offers)
        if len(chosen.spi) != 8:
            raise IkeFormatError("the peer's new IKE SPI is not 8 bytes")
        peer_nonce = need(payloads, Nonce, "nonce").data
        shared = _agree(chosen, payloads, key_pair)
    except (IkeFormatError, IkeRefusal) as problem:
        tunnel.note_refusal(problem, IKE_REKEY)
        old.rekey_at = tunnel.retry_at(now)
        return
    new = IkeSa(
        initiator=True,
        spi_i=spi,
        spi_r=chosen.spi,
        liveness=tunnel.config.liveness,
        rng=tunnel.rng,
        path=old.path,
    )
    _succeed(tunnel, old, new, chosen, (nonce, peer_nonce), shared, now)
    delete_sa(tunnel, old, now)


def _answer_ike(
    tunnel: TunnelState,
    sa: IkeSa,
    payloads: list[Payload],
    proposals: tuple[Proposal, ...],
    now: float,
) -> list[Payload]:
    if sa.initiator and sa.rekeying:
        raise IkeRefusal(Notify.TEMPORARY_FAILURE, "this end is rekeying already")
    if sa is not tunnel.current:
        raise IkeRefusal(Notify.TEMPORARY_FAILURE, "this IKE SA is replaced already")
    if _children_in_motion(tunnel):
        raise IkeRefusal(Notify.TEMPORARY_FAILURE, "a child is being rekeyed or closed")
    nonce = need(payloads, Nonce, "nonce").data
    chosen = choose(proposals, ike_offers(tunnel.config.suites))
    if chosen is None or len(chosen.spi) != 8:
        raise IkeRefusal(Notify.NO_PROPOSAL_CHOSEN, "no IKE proposal is one that we accept")
    shared, public = _answer_exchange(tunnel, chosen, payloads)
    spi, own_nonce = tunnel.rng(8), tunnel.rng(32)
    new = IkeSa(
        initiator=False,
        spi_i=chosen.spi,
        spi_r=spi,
        liveness=tunnel.config.liveness,
        rng=tunnel.rng,
        path=sa.path,
    )
    _succeed(tunnel, sa, new, chosen, (nonce, own_nonce), shared, now)
    sa.rekey_at = float("inf")
    group = chosen.one(Kind.GROUP)
    return [
        Sa((Proposal(chosen.protocol, chosen.transforms, chosen.number, spi),)),
        Nonce(own_nonce),
        Ke(group.number if group else 0, public),
    ]


def _succeed(
    tunnel: TunnelState,
    old: IkeSa,
    new: IkeSa,
    chosen: Proposal,
    nonces: tuple[bytes, bytes],
    shared: bytes,
    now: float,
) -> None:
    """Make `new` the tunnel's IKE SA; children pass over to it untouched (section 2.8)."""
    if old.keys is None:
        raise AssertionError("rekeying an IKE SA without keys")
    new.chosen = Proposal(chosen.protocol, chosen.transforms, chosen.number)
    new.nonce_i, new.nonce_r = nonces
    new.fragments, new.limit = old.fragments, old.limit
    prf = new.algorithm(Kind.PRF)
    both = nonces[0] + nonces[1]
    # Section 2.18: the old SA's prf makes the seed, the new one's spreads it.
    seed = skeyseed_rekey(old.algorithm(Kind.PRF).number, old.keys.d, shared, both)
    new.install(
        derive_ike_keys(
            seed,
            prf,
            new.algorithm(Kind.ENCRYPTION),
            new.chosen.one(Kind.INTEGRITY),
            both,
            new.spi_i + new.spi_r,
        )
    )
    new.step(Step.INHERIT)
    life = lifetime(
        ike_lifetime(tunnel.config.suites, chosen), first_mover=new.initiator, nonce=nonces[0]
    )
    new.rekey_at, new.expires_at = now + life.rekey, now + life.hard
    tunnel.add_sa(new)
    tunnel.current = new
    tunnel.retire(old, now)
    tunnel.note(IkeUp(tunnel.config.name, new, rekeyed=True))
