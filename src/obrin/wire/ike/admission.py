"""Decide for which peers an IKE_SA_INIT is computed: anybody can send one in a peer's name (RFC
7296 section 2.6).

A first message is not authentic, and to answer it costs a Diffie-Hellman exchange. So a few are
answered as they come, of each peer and in all: a bucket of turns that fills slowly bounds the rate
of exchanges that nobody proved. When there is no turn left, the sender is asked for a cookie first.
Asking keeps no state and reads no payload but two:

    version of the secret (1) | BLAKE2s(secret, Ni | IPi | SPIi) (16)

The secret changes every minute, and the one before it is good as well. Whoever returns a cookie can
at least be reached at its address; for those a peer has turns of its own, so that strangers who
never see a cookie cannot use them up. What is over that is not answered: it is sent again.

Between handshakes everything else is served: those that have a turn wait in a short queue
(endpoint.py), and a few are computed at a time.
"""

from __future__ import annotations

import hmac as _hmac
from collections.abc import Callable
from dataclasses import dataclass, field
from hashlib import blake2s
from struct import Struct

from obrin.wire.ike.codec.errors import IkeFormatError
from obrin.wire.ike.codec.message import HEADER_SIZE, Header
from obrin.wire.ike.codec.numbers import FLAG_RESPONSE, VERSION_2, Exchange, Notify, PayloadType
from obrin.wire.ike.codec.payloads import MAX_PAYLOADS
from obrin.wire.ike.path import Address

SECRET_LIFE = 60.0
"""Seconds. A cookie is good for one life of its secret at least, and for two at most."""
LEAST_NONCE, MOST_NONCE = 16, 256
"""Bytes (section 2.10)."""
UNPROVEN, ALL_UNPROVEN = 4, 32
"""First messages that are answered at once without a cookie: of one peer, of all."""
_GENERIC = Struct(">BBH")
"""Next payload, flags, length; and of a notify: protocol, size of the SPI, number."""
_REQUEST = Struct(">8s8sBBBBII BBH BBH 17s")
"""Header, header of a payload, notify, cookie: in one, since nothing else is sent as often."""
_NONCE, _NOTIFY, _COOKIE = int(PayloadType.NONCE), int(PayloadType.NOTIFY), int(Notify.COOKIE)


@dataclass(slots=True)
class Turns:
    """`most` at once, and one more every `every` seconds."""

    most: float
    every: float
    _left: float = field(init=False)
    _at: float = field(init=False, default=0.0)

    def __post_init__(self) -> None:
        self._left = self.most

    def any_left(self, now: float) -> bool:
        grown = max(0.0, now - self._at) / self.every
        self._left, self._at = min(self.most, self._left + grown), max(self._at, now)
        return self._left >= 1

    def take(self, now: float) -> bool:
        """Whether there was one."""
        if not self.any_left(now):
            return False
        self._left -= 1
        return True


class PeerTurns:
    """What one peer may still ask for: without a cookie, and with one."""

    __slots__ = ("reachable", "unproven")

    def __init__(self) -> None:
        self.unproven = Turns(UNPROVEN, 10.0)
        self.reachable = Turns(16, 0.2)


class Admission:
    """Decides which first messages an endpoint answers. `rng` gives the
    secret from which cookies are made."""

    def __init__(self, rng: Callable[[int], bytes]) -> None:
        self._root = rng(32)
        self._all = Turns(ALL_UNPROVEN, 0.5)
        self._secrets: dict[int, blake2s] = {}

    def cookie_wanted(
        self, peer: PeerTurns, header: Header, datagram: bytes, remote: Address, now: float
    ) -> bytes | None:
        """The cookie that a first message has to come with; None where it has a turn.

        Raises IkeFormatError for one without a nonce, and for one that has no turn although its
        sender can be reached."""
        if peer.unproven.any_left(now) and self._all.take(now):
            peer.unproven.take(now)
            return None
        nonce, cookie = _nonce_and_cookie(header.next_payload, datagram)
        bound, version = nonce + remote[0].encode() + header.spi_i, int(now // SECRET_LIFE)
        wanted = self._cookie(version, bound)
        if not cookie:
            return wanted
        for right in (wanted, self._cookie(version - 1, bound)):
            if _hmac.compare_digest(cookie, right):
                if peer.reachable.take(now):
                    return None
                raise IkeFormatError("more first messages of a peer than have a turn")
        return wanted

    def _cookie(self, version: int, bound: bytes) -> bytes:
        secret = self._secrets.get(version)
        if secret is None:
            number = version.to_bytes(8, "big", signed=True)
            key = blake2s(number, key=self._root).digest()
            secret = self._secrets[version] = blake2s(key=key, digest_size=16)
            if len(self._secrets) > 2:
                del self._secrets[min(self._secrets)]
        digest = secret.copy()
        digest.update(bound)
        return bytes((version & 0xFF,)) + digest.digest()


def request_for(cookie: bytes, spi_i: bytes) -> bytes:
    """The answer to a first message that has to come again, with a cookie as its first payload."""
    return _REQUEST.pack(
        spi_i, bytes(8), _NOTIFY, VERSION_2, Exchange.IKE_SA_INIT, FLAG_RESPONSE, 0, _REQUEST.size,
        0, 0, _REQUEST.size - HEADER_SIZE, 0, 0, _COOKIE, cookie,
    )  # fmt: skip


def _nonce_and_cookie(first: int, datagram: bytes) -> tuple[bytes, bytes]:
    """Read nonce and cookie of a first message from the payload headers alone. The cookie is empty
    where there is none. Raises IkeFormatError."""
    kind, position, end = first, HEADER_SIZE, len(datagram)
    nonce = cookie = b""
    for _ in range(MAX_PAYLOADS):
        if kind == PayloadType.NONE:
            break
        if position + 4 > end:
            raise IkeFormatError(f"payload type {kind} is missing its header at {position}")
        following, _, length = _GENERIC.unpack_from(datagram, position)
        if length < 4 or position + length > end:
            raise IkeFormatError(f"payload type {kind} at offset {position} is cut short")
        if kind == _NONCE:
            nonce = datagram[position + 4 : position + length]
        elif kind == _NOTIFY and length > 8:
            _, spi_size, number = _GENERIC.unpack_from(datagram, position + 4)
            if number == _COOKIE:
                cookie = datagram[position + 8 + spi_size : position + length]
        kind, position = following, position + length
    if not LEAST_NONCE <= len(nonce) <= MOST_NONCE:
        raise IkeFormatError(f"a nonce of {len(nonce)} bytes; 16 to 256 are allowed")
    return nonce, cookie
