"""IKE_SA_INIT (RFC 7296 section 1.2): cookies (2.6), group retry (1.2), NAT detection (2.23).

Nothing here is authentic. So an initiator acts on an answer only as far as the RFC says what
to do about it (a cookie, another group: at once the first time, then with the next repetition),
remembers a refusal and goes on asking (section 2.21.1), and tries every answer: each becomes an SA
of its own, the first that proves who it is stays, and the others go (section 2.4). A responder
keeps a few half-open SAs for each peer; the oldest gives way. Either way the established SA and
its path are not touched.
"""

from __future__ import annotations

import functools
from collections.abc import Iterable
from dataclasses import replace

from cryptography.hazmat.primitives.hashes import SHA1, Hash

from obrin.core.address.prefix import parse_address
from obrin.core.ipsec.offers import ike_offers
from obrin.core.ipsec.proposal import Proposal, choose
from obrin.core.ipsec.registry import Kind
from obrin.wire.ike.codec.errors import IkeFormatError, IkeRefusal
from obrin.wire.ike.codec.message import (
    HEADER_SIZE,
    Header,
    encode_plain,
    find,
    find_notify,
    first_error,
    need,
)
from obrin.wire.ike.codec.numbers import (
    FLAG_INITIATOR,
    FLAG_RESPONSE,
    NAT_PORT,
    Exchange,
    Notify,
    notify_name,
)
from obrin.wire.ike.codec.payloads import Ke, Nonce, NotifyPayload, Payload, decode_chain
from obrin.wire.ike.codec.sa_payload import Sa
from obrin.wire.ike.crypto.dh import make_key_pair
from obrin.wire.ike.crypto.keys import derive_ike_keys, skeyseed_first
from obrin.wire.ike.crypto.signatures import HASHES, decode_hashes, encode_hashes
from obrin.wire.ike.events import Refused
from obrin.wire.ike.exchanges import auth as exchange_auth
from obrin.wire.ike.exchanges.negotiate import accept_answer
from obrin.wire.ike.path import Address, Path
from obrin.wire.ike.sa import IkeSa
from obrin.wire.ike.transitions import State, Step
from obrin.wire.ike.tunnel_state import Attempt, TunnelState

MAX_ANSWERS = 32
"""How many answers of one attempt are tried."""
MAX_HALF_OPEN = 16
"""How many SAs of one peer wait for its IKE_AUTH."""
MAX_COOKIE = 64


def start(tunnel: TunnelState, now: float) -> None:
    """Send the first message of a new IKE SA."""
    config = tunnel.config
    fresh = tunnel.rng(40)
    sa = IkeSa(
        initiator=True,
        spi_i=fresh[:8],
        spi_r=bytes(8),
        liveness=config.liveness,
        rng=tunnel.rng,
        path=tunnel.first_path(),
    )
    sa.nonce_i = fresh[8:]
    sa.step(Step.SEND_INIT)
    attempt = Attempt(sa, ike_offers(config.suites), config.suites[0].ike.group.number)
    tunnel.attempt = attempt
    tunnel.add_sa(sa)
    message = _message(tunnel, attempt)
    _track(sa, message, now)
    tunnel.send(sa, (message,))


def _track(sa: IkeSa, message: bytes, now: float) -> None:
    sa.next_id = 0
    sa.track(Exchange.IKE_SA_INIT, (message,), [], lambda _payloads, _now: None, now)


def _message(tunnel: TunnelState, attempt: Attempt) -> bytes:
    """What to ask now, with the cookie and the group that were wanted last."""
    sa, group = attempt.sa, attempt.group
    if group not in attempt.key_pairs:
        attempt.key_pairs[group] = make_key_pair(group, tunnel.rng)
    payloads: list[Payload] = []
    if attempt.cookie:
        payloads.append(NotifyPayload(Notify.COOKIE, attempt.cookie))
    source = sa.path.local
    if tunnel.config.always_encapsulate:
        source = ("0.0.0.0", 0)  # never matches, so the peer takes us to be translated
    payloads += [
        Sa(attempt.offers),
        Ke(group, attempt.key_pairs[group].public),
        Nonce(sa.nonce_i),
        *_nat_notifies(sa.spi_i, bytes(8), source, sa.path.remote),
        *_ability_notifies(tunnel),
    ]
    message = encode_plain(sa.spi_i, bytes(8), Exchange.IKE_SA_INIT, FLAG_INITIATOR, 0, payloads)
    attempt.requests[group] = message
    return message


def take_response(
    tunnel: TunnelState, sa: IkeSa, header: Header, datagram: bytes, now: float
) -> None:
    """An answer, or a wish that we ask differently. Raises IkeFormatError."""
    attempt = tunnel.attempt
    if attempt is None or attempt.sa is not sa:
        raise IkeFormatError("an IKE_SA_INIT answer that nobody waits for")
    payloads = decode_chain(header.next_payload, datagram, HEADER_SIZE)
    if find(payloads, Sa) is not None:
        _try_answer(tunnel, attempt, header, payloads, datagram, now)
    elif not _ask_again(tunnel, attempt, payloads, now):
        error = first_error(payloads)
        if error is None:
            raise IkeFormatError("an IKE_SA_INIT answer that neither agrees nor refuses")
        _remember_refusal(tunnel, attempt, notify_name(error.notify))


def _remember_refusal(tunnel: TunnelState, attempt: Attempt, name: str) -> None:
    """Reported once; the attempt goes on until its time is over (section 2.21.1)."""
    if attempt.refusal != name:
        attempt.refusal = name
        tunnel.note(Refused(tunnel.config.name, True, name, "the peer refused IKE_SA_INIT"))


def _try_answer(
    tunnel: TunnelState,
    attempt: Attempt,
    header: Header,
    payloads: list[Payload],
    datagram: bytes,
    now: float,
) -> None:
    """Go on to IKE_AUTH with whoever answered: only there it shows who it was."""
    answer = need(payloads, Sa, "SA").proposals
    ke = need(payloads, Ke, "key exchange")
    nonce = need(payloads, Nonce, "nonce")
    if header.spi_r == bytes(8):
        raise IkeFormatError("the responder chose no SPI")
    if _tried(tunnel, attempt, header, payloads, datagram):
        return
    if attempt.answers >= MAX_ANSWERS:
        raise IkeFormatError(f"more than {MAX_ANSWERS} answers to one request")
    chosen = accept_answer(answer, attempt.offers)
    agreed = chosen.one(Kind.GROUP)
    if agreed is None or ke.group != agreed.number or ke.group not in attempt.key_pairs:
        raise IkeFormatError("the key exchange is not of the agreed group")
    shared = attempt.key_pairs[ke.group].shared(ke.data)
    asked = attempt.sa
    sa = IkeSa(
        initiator=True,
        spi_i=asked.spi_i,
        spi_r=header.spi_r,
        liveness=asked.liveness,
        rng=tunnel.rng,
        path=replace(asked.path),
    )
    sa.step(Step.SEND_INIT)
    sa.chosen = chosen
    sa.nonce_i, sa.nonce_r = asked.nonce_i, nonce.data
    sa.init_request, sa.init_response = attempt.requests[ke.group], datagram
    _install_keys(sa, shared)
    sa.peer_hashes = _hashes_of(payloads)
    sa.fragments = _fragments(tunnel, payloads)
    detect_translators(tunnel, sa, payloads, spi_r=header.spi_r)
    if sa.path.encapsulate:
        sa.path.local = (sa.path.local[0], NAT_PORT)
        sa.path.remote = (sa.path.remote[0], NAT_PORT)
    attempt.answers += 1
    asked.outstanding = None
    tunnel.add_sa(sa)
    exchange_auth.ask(tunnel, sa, now)


def _tried(
    tunnel: TunnelState, attempt: Attempt, header: Header, payloads: list[Payload], datagram: bytes
) -> bool:
    """Whether this answer is being tried, or one that gives the same keys is."""
    for sa in tunnel.siblings(attempt.sa):
        if datagram in (sa.init_response, *sa.also_answered):
            return True
        before = decode_chain(sa.init_response[16], sa.init_response, HEADER_SIZE)
        same = all(find(before, kind) == find(payloads, kind) for kind in (Sa, Ke, Nonce))
        if sa.spi_r == header.spi_r and same:
            if len(sa.also_answered) < MAX_ANSWERS:
                sa.also_answered.append(datagram)
            return True
    return False


def _ask_again(tunnel: TunnelState, attempt: Attempt, payloads: list[Payload], now: float) -> bool:
    """Whether the answer is a wish that can be met; the next request meets it."""
    cookie = find_notify(payloads, Notify.COOKIE)
    wrong_group = find_notify(payloads, Notify.INVALID_KE_PAYLOAD)
    if cookie is None and wrong_group is None:
        return False
    if cookie is not None:
        if not 1 <= len(cookie.data) <= MAX_COOKIE:
            raise IkeFormatError(f"a cookie of {len(cookie.data)} bytes; 1 to 64 are allowed")
        attempt.cookie = cookie.data
    if wrong_group is not None:
        group = int.from_bytes(wrong_group.data, "big") if len(wrong_group.data) == 2 else 0
        # Only a group that we offered: the notify is not authentic.
        if group not in {s.ike.group.number for s in tunnel.config.suites}:
            raise IkeFormatError("the responder wants a group that was not offered")
        attempt.group = group
    wish = Notify.COOKIE if cookie is not None else Notify.INVALID_KE_PAYLOAD
    attempt.stale = True
    if wish not in attempt.met:
        attempt.met.add(wish)
        sa, message = attempt.sa, repetition(tunnel, attempt)
        if sa.outstanding is None:
            _track(sa, message, now)
        else:
            sa.outstanding.message = (message,)
        tunnel.send(sa, (message,))
    return True


def repetition(tunnel: TunnelState, attempt: Attempt) -> bytes:
    """The request to send again, made anew if the responder had a wish since it was sent."""
    if attempt.stale:
        attempt.stale = False
        return _message(tunnel, attempt)
    return attempt.requests[attempt.group]


def answer(
    tunnel: TunnelState,
    header: Header,
    payloads: list[Payload],
    datagram: bytes,
    local: Address,
    remote: Address,
    now: float,
) -> IkeSa:
    """Responder's side: a new half-open SA, its answer sent. Raises IkeFormatError, IkeRefusal."""
    offered = need(payloads, Sa, "SA").proposals
    ke = need(payloads, Ke, "key exchange")
    nonce = need(payloads, Nonce, "nonce")
    chosen = choose(offered, ike_offers(tunnel.config.suites))
    group = chosen.one(Kind.GROUP) if chosen else None
    if chosen is None or group is None:
        raise IkeRefusal(
            Notify.NO_PROPOSAL_CHOSEN, "no proposal of the peer's is one that this end accepts"
        )
    if ke.group != group.number:
        raise IkeRefusal(
            Notify.INVALID_KE_PAYLOAD,
            f"the peer guessed group {ke.group}, agreed is {group.number}",
            group.number.to_bytes(2, "big"),
        )
    key_pair = make_key_pair(group.number, tunnel.rng)
    fresh = tunnel.rng(40)
    sa = IkeSa(
        initiator=False,
        spi_i=header.spi_i,
        spi_r=fresh[:8],
        liveness=tunnel.config.liveness,
        rng=tunnel.rng,
        path=Path(local, remote),
    )
    sa.chosen = Proposal(chosen.protocol, chosen.transforms, chosen.number)
    sa.nonce_i, sa.nonce_r, sa.init_request = nonce.data, fresh[8:], datagram
    sa.expected_id = 1
    sa.step(Step.ANSWER_INIT)
    _install_keys(sa, key_pair.shared(ke.data))
    sa.peer_hashes = _hashes_of(payloads)
    sa.fragments = _fragments(tunnel, payloads)
    detect_translators(tunnel, sa, payloads, spi_r=bytes(8))
    source = ("0.0.0.0", 0) if tunnel.config.always_encapsulate else local
    reply: list[Payload] = [
        Sa((sa.chosen,)),
        Ke(group.number, key_pair.public),
        Nonce(sa.nonce_r),
        *_nat_notifies(sa.spi_i, sa.spi_r, source, remote),
        *_ability_notifies(tunnel),
    ]
    if tunnel.config.credential is not None:
        reply.append(tunnel.config.credential.request())
    sa.init_response = encode_plain(
        sa.spi_i, sa.spi_r, Exchange.IKE_SA_INIT, FLAG_RESPONSE, 0, reply
    )
    # A half-open SA that is never authenticated goes after as long as we would wait ourselves.
    sa.expires_at = now + 2 * tunnel.config.liveness.give_up
    _make_room(tunnel, now)
    tunnel.add_sa(sa)
    return sa


def _make_room(tunnel: TunnelState, now: float) -> None:
    waiting = [sa for sa in tunnel.sas if sa.state is State.INIT_ANSWERED]
    for sa in waiting[: max(0, len(waiting) - MAX_HALF_OPEN + 1)]:
        tunnel.drop_sa(sa, "too many half-open SAs", now, restart=False)


def _ability_notifies(tunnel: TunnelState) -> Iterable[NotifyPayload]:
    """Announce that we take fragments (RFC 7383 section 2.3), and what we verify signatures with
    (RFC 7427 section 4), where certificates are used."""
    if tunnel.config.fragmentation:
        yield NotifyPayload(Notify.FRAGMENTATION_SUPPORTED)
    if tunnel.config.credential is not None:
        yield NotifyPayload(Notify.SIGNATURE_HASH_ALGORITHMS, encode_hashes(HASHES))


def _fragments(tunnel: TunnelState, payloads: list[Payload]) -> bool:
    support = find_notify(payloads, Notify.FRAGMENTATION_SUPPORTED)
    return tunnel.config.fragmentation and support is not None


def _hashes_of(payloads: list[Payload]) -> tuple[int, ...]:
    found = find_notify(payloads, Notify.SIGNATURE_HASH_ALGORITHMS)
    return () if found is None else decode_hashes(found.data)


def _install_keys(sa: IkeSa, shared: bytes) -> None:
    prf = sa.algorithm(Kind.PRF)
    nonces = sa.nonce_i + sa.nonce_r
    chosen = sa.chosen
    sa.install(
        derive_ike_keys(
            skeyseed_first(prf.number, nonces, shared),
            prf,
            sa.algorithm(Kind.ENCRYPTION),
            chosen.one(Kind.INTEGRITY) if chosen else None,
            nonces,
            sa.spi_i + sa.spi_r,
        )
    )


def _nat_hash(spi_i: bytes, spi_r: bytes, address: Address) -> bytes:
    """Section 2.23: SHA-1 of SPIs, address and port. Not a secret and not a protection."""
    digest = Hash(_SHA1)
    digest.update(spi_i + spi_r + _address_bytes(address))
    return digest.finalize()


_SHA1 = SHA1()


@functools.lru_cache(maxsize=1024)
def _address_bytes(address: Address) -> bytes:
    bits, value = parse_address(address[0])
    return value.to_bytes(bits // 8, "big") + address[1].to_bytes(2, "big")


def _nat_notifies(
    spi_i: bytes, spi_r: bytes, local: Address, remote: Address
) -> Iterable[NotifyPayload]:
    yield NotifyPayload(Notify.NAT_DETECTION_SOURCE_IP, _nat_hash(spi_i, spi_r, local))
    yield NotifyPayload(Notify.NAT_DETECTION_DESTINATION_IP, _nat_hash(spi_i, spi_r, remote))


def detect_translators(
    tunnel: TunnelState, sa: IkeSa, payloads: list[Payload], *, spi_r: bytes
) -> None:
    """Compare the peer's hashes with the addresses we see; a difference is a translator."""
    path = sa.path
    sources = [
        p.data
        for p in payloads
        if isinstance(p, NotifyPayload) and p.notify == Notify.NAT_DETECTION_SOURCE_IP
    ]
    destination = find_notify(payloads, Notify.NAT_DETECTION_DESTINATION_IP)
    if not sources or destination is None:
        return
    path.remote_translated = _nat_hash(sa.spi_i, spi_r, path.remote) not in sources
    path.local_translated = _nat_hash(sa.spi_i, spi_r, path.local) != destination.data
    path.encapsulate = (
        path.remote_translated or path.local_translated or tunnel.config.always_encapsulate
    )
