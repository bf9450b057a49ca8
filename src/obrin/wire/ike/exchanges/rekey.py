"""CREATE_CHILD_SA: rekeying of the IKE SA (RFC 7296 sections 1.3.2 and 2.18).

When both ends rekey it at once, the end that made the old one wins and answers the other with
TEMPORARY_FAILURE; section 2.25.2 would rather answer and close the loser later, which costs a third
SA for no gain with only two ends of ours, and a peer that follows it copes with the refusal by
trying again.
"""

from __future__ import annotations

from obrin.core.ipsec.offers import ike_lifetime, ike_offers, lifetime
from obrin.core.ipsec.proposal import Proposal, Protocol, choose
from obrin.core.ipsec.registry import Kind
from obrin.wire.ike.codec.errors import IkeFormatError, IkeRefusal
from obrin.wire.ike.codec.message import first_error, need
from obrin.wire.ike.codec.numbers import Exchange, Notify, notify_name
from obrin.wire.ike.codec.payloads import Ke, Nonce, Payload
from obrin.wire.ike.codec.sa_payload import Sa
from obrin.wire.ike.crypto.dh import KeyPair, make_key_pair
from obrin.wire.ike.crypto.keys import derive_ike_keys, skeyseed_rekey
from obrin.wire.ike.events import IKE_REKEY, IkeUp, Refused
from obrin.wire.ike.exchanges.group import agree, answer_group, wants_group
from obrin.wire.ike.exchanges.info import delete_sa
from obrin.wire.ike.exchanges.negotiate import accept_answer, with_spi
from obrin.wire.ike.sa import IkeSa
from obrin.wire.ike.transitions import State, Step
from obrin.wire.ike.tunnel_state import TunnelState


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
            if wants_group(tunnel, Protocol.IKE, error):
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
        shared = agree(chosen, payloads, key_pair)
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


def answer_ike(
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
    shared, public = answer_group(tunnel, chosen, payloads)
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
