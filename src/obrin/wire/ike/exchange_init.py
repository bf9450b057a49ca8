"""IKE_SA_INIT (RFC 7296 section 1.2): cookies (2.6), group retry (1.2), NAT detection (2.23)."""

from __future__ import annotations

import functools
from collections.abc import Iterable

from cryptography.hazmat.primitives.hashes import SHA1, Hash

from obrin.core.address.prefix import parse_address
from obrin.core.ipsec.offers import ike_offers
from obrin.core.ipsec.proposal import Proposal, choose
from obrin.core.ipsec.registry import Kind
from obrin.wire.ike import exchange_auth
from obrin.wire.ike.dh import make_key_pair
from obrin.wire.ike.errors import IkeFormatError, IkeRefusal
from obrin.wire.ike.events import Refused
from obrin.wire.ike.keys import derive_ike_keys, skeyseed_first
from obrin.wire.ike.message import (
    HEADER_SIZE,
    Header,
    encode_plain,
    find_notify,
    first_error,
    need,
)
from obrin.wire.ike.negotiate import accept_answer
from obrin.wire.ike.numbers import (
    FLAG_INITIATOR,
    FLAG_RESPONSE,
    NAT_PORT,
    Exchange,
    Notify,
    notify_name,
)
from obrin.wire.ike.payloads import Ke, Nonce, NotifyPayload, Payload, Sa, decode_chain
from obrin.wire.ike.sa import IkeSa
from obrin.wire.ike.signatures import HASHES, decode_hashes, encode_hashes
from obrin.wire.ike.transitions import Step
from obrin.wire.ike.tunnel_state import Address, Attempt, Path, TunnelState

MAX_RESTARTS = 4


def start(tunnel: TunnelState, now: float) -> None:
    """Send the first message of a new IKE SA."""
    config = tunnel.config
    fresh = tunnel.rng(40)
    sa = IkeSa(True, fresh[:8], bytes(8), config.liveness, tunnel.rng)
    group = config.suites[0].ike.group.number
    tunnel.attempt = Attempt(sa, ike_offers(config.suites), make_key_pair(group, tunnel.rng), group)
    sa.nonce_i = fresh[8:]
    tunnel.sas.append(sa)
    _send(tunnel, tunnel.attempt, now)


def _send(tunnel: TunnelState, attempt: Attempt, now: float) -> None:
    sa = attempt.sa
    payloads: list[Payload] = []
    if attempt.cookie:
        payloads.append(NotifyPayload(Notify.COOKIE, attempt.cookie))
    source = tunnel.path.local
    if tunnel.config.always_encapsulate:
        source = ("0.0.0.0", 0)  # never matches, so the peer takes us to be translated
    payloads += [
        Sa(attempt.offers),
        Ke(attempt.group, attempt.key_pair.public),
        Nonce(sa.nonce_i),
        *_nat_notifies(sa.spi_i, bytes(8), source, tunnel.path.remote),
        *_hash_notify(tunnel),
    ]
    sa.next_id = 0
    sa.step(Step.SEND_INIT)
    sa.init_request = encode_plain(
        sa.spi_i, bytes(8), Exchange.IKE_SA_INIT, FLAG_INITIATOR, 0, payloads
    )
    sa.track(Exchange.IKE_SA_INIT, sa.init_request, lambda _payloads, _now: None, now)
    tunnel.send(sa.init_request)


def take_response(
    tunnel: TunnelState, sa: IkeSa, header: Header, datagram: bytes, now: float
) -> None:
    """The responder's answer, or its wish that we ask differently. Raises IkeFormatError."""
    attempt = tunnel.attempt
    if attempt is None or attempt.sa is not sa:
        raise IkeFormatError("an IKE_SA_INIT answer that nobody waits for")
    payloads = decode_chain(header.next_payload, datagram, HEADER_SIZE)
    if _ask_again(tunnel, attempt, payloads, now):
        return
    error = first_error(payloads)
    if error is not None:
        name = notify_name(error.notify)
        tunnel.note(Refused(tunnel.config.name, True, name, "the peer refused IKE_SA_INIT"))
        tunnel.drop_sa(sa, f"the peer answered {name}", now)
        return
    answer = need(payloads, Sa, "SA").proposals
    ke = need(payloads, Ke, "key exchange")
    nonce = need(payloads, Nonce, "nonce")
    if header.spi_r == bytes(8):
        raise IkeFormatError("the responder chose no SPI")
    chosen = accept_answer(answer, attempt.offers)
    agreed = chosen.one(Kind.GROUP)
    if agreed is None or agreed.number != attempt.group or ke.group != attempt.group:
        raise IkeFormatError("the key exchange is not of the agreed group")
    shared = attempt.key_pair.shared(ke.data)
    sa.chosen, sa.spi_r = chosen, header.spi_r
    sa.nonce_r, sa.init_response = nonce.data, datagram
    _install_keys(sa, shared)
    sa.peer_hashes = _hashes_of(payloads)
    sa.outstanding = None
    tunnel.attempt = None
    detect_translators(tunnel, sa, payloads, bytes_spi_r=header.spi_r)
    if tunnel.path.encapsulate:
        tunnel.path.local = (tunnel.path.local[0], NAT_PORT)
        tunnel.path.remote = (tunnel.path.remote[0], NAT_PORT)
    exchange_auth.ask(tunnel, sa, now)


def _ask_again(tunnel: TunnelState, attempt: Attempt, payloads: list[Payload], now: float) -> bool:
    cookie = find_notify(payloads, Notify.COOKIE)
    wrong_group = find_notify(payloads, Notify.INVALID_KE_PAYLOAD)
    if cookie is None and wrong_group is None:
        return False
    attempt.restarts += 1
    if attempt.restarts > MAX_RESTARTS:
        raise IkeFormatError("the responder keeps asking for another IKE_SA_INIT")
    if cookie is not None:
        attempt.cookie = cookie.data
    if wrong_group is not None:
        group = int.from_bytes(wrong_group.data, "big")
        # Only a group that we offered: the notify is not authentic.
        if group not in {s.ike.group.number for s in tunnel.config.suites}:
            raise IkeFormatError(f"the responder wants group {group}, which was not offered")
        attempt.group = group
        attempt.key_pair = make_key_pair(group, tunnel.rng)
    _send(tunnel, attempt, now)
    return True


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
    sa = IkeSa(False, header.spi_i, fresh[:8], tunnel.config.liveness, tunnel.rng)
    sa.chosen = Proposal(chosen.protocol, chosen.transforms, chosen.number)
    sa.nonce_i, sa.nonce_r, sa.init_request = nonce.data, fresh[8:], datagram
    sa.expected_id = 1
    sa.step(Step.ANSWER_INIT)
    _install_keys(sa, key_pair.shared(ke.data))
    sa.peer_hashes = _hashes_of(payloads)
    if tunnel.current is None:
        tunnel.path = Path(local, remote)
    detect_translators(tunnel, sa, payloads, bytes_spi_r=bytes(8))
    source = ("0.0.0.0", 0) if tunnel.config.always_encapsulate else local
    reply: list[Payload] = [
        Sa((sa.chosen,)),
        Ke(group.number, key_pair.public),
        Nonce(sa.nonce_r),
        *_nat_notifies(sa.spi_i, sa.spi_r, source, remote),
        *_hash_notify(tunnel),
    ]
    if tunnel.config.credential is not None:
        reply.append(tunnel.config.credential.request())
    sa.init_response = encode_plain(
        sa.spi_i, sa.spi_r, Exchange.IKE_SA_INIT, FLAG_RESPONSE, 0, reply
    )
    # A half-open SA that is never authenticated goes after as long as we would wait ourselves.
    sa.expires_at = now + 2 * tunnel.config.liveness.give_up
    tunnel.sas.append(sa)
    return sa


def _hash_notify(tunnel: TunnelState) -> Iterable[NotifyPayload]:
    """What we verify signatures with (RFC 7427 section 4), where certificates are used."""
    if tunnel.config.credential is not None:
        yield NotifyPayload(Notify.SIGNATURE_HASH_ALGORITHMS, encode_hashes(HASHES))


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
    tunnel: TunnelState, sa: IkeSa, payloads: list[Payload], *, bytes_spi_r: bytes
) -> None:
    """Compare the peer's hashes with the addresses we see; a difference is a translator."""
    path = tunnel.path
    sources = [
        p.data
        for p in payloads
        if isinstance(p, NotifyPayload) and p.notify == Notify.NAT_DETECTION_SOURCE_IP
    ]
    destination = find_notify(payloads, Notify.NAT_DETECTION_DESTINATION_IP)
    if not sources or destination is None:
        return
    path.remote_translated = _nat_hash(sa.spi_i, bytes_spi_r, path.remote) not in sources
    path.local_translated = _nat_hash(sa.spi_i, bytes_spi_r, path.local) != destination.data
    path.encapsulate = (
        path.remote_translated or path.local_translated or tunnel.config.always_encapsulate
    )
