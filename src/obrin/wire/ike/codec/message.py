"""IKE messages: the header (RFC 7296 section 3.1) and the Encrypted payload (section 3.14).

| initiator's SPI (8) | responder's SPI (8) |
| next payload | version | exchange | flags | message ID (4) | length (4) |
"""

from __future__ import annotations

import hmac as _hmac
from collections.abc import Callable
from struct import Struct
from typing import NamedTuple, Protocol, TypeVar

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers import Cipher, algorithms, modes

from obrin.core.ipsec.registry import Algorithm
from obrin.wire.esp import Aead, make_aead
from obrin.wire.ike.codec.errors import IkeFormatError, IkeNotAuthentic
from obrin.wire.ike.codec.numbers import (
    FLAG_INITIATOR,
    FLAG_RESPONSE,
    VERSION_2,
    Notify,
    PayloadType,
)
from obrin.wire.ike.codec.payloads import NotifyPayload, Payload, decode_chain, encode_chain
from obrin.wire.macs import INTEGRITY, Integrity

_HEADER = Struct(">8s8sBBBBII")
_GENERIC = Struct(">BBH")
HEADER_SIZE = 28
P = TypeVar("P")


class Header(NamedTuple):
    spi_i: bytes
    spi_r: bytes
    next_payload: int
    version: int
    exchange: int
    flags: int
    message_id: int
    length: int

    @property
    def response(self) -> bool:
        return bool(self.flags & FLAG_RESPONSE)

    @property
    def from_initiator(self) -> bool:
        return bool(self.flags & FLAG_INITIATOR)


def decode_header(datagram: bytes) -> Header:
    """Raises IkeFormatError; a higher major version names the notify that answers it."""
    if len(datagram) < HEADER_SIZE:
        raise IkeFormatError(f"{len(datagram)} bytes are shorter than an IKE header")
    header = header_of(datagram)
    if header.version >> 4 != 2:
        raise IkeFormatError(
            f"IKE major version {header.version >> 4} is not spoken here",
            Notify.INVALID_MAJOR_VERSION,
        )
    if header.length != len(datagram):
        raise IkeFormatError(f"the header claims {header.length} bytes, {len(datagram)} came")
    return header


def encode_plain(
    spi_i: bytes, spi_r: bytes, exchange: int, flags: int, message_id: int, payloads: list[Payload]
) -> bytes:
    """A message without the Encrypted payload: IKE_SA_INIT, and notifies outside any SA."""
    first, chain = encode_chain(payloads)
    return (
        _HEADER.pack(
            spi_i, spi_r, first, VERSION_2, exchange, flags, message_id, HEADER_SIZE + len(chain)
        )
        + chain
    )


def header_of(datagram: bytes) -> Header:
    """The fields as they stand, of any version. `datagram` has a whole header."""
    return Header._make(_HEADER.unpack_from(datagram))


class MessageCipher(Protocol):
    """Protects messages of one direction of one IKE SA. There are two modes.

    `overhead` is how many bytes it adds at most, padding included.
    """

    overhead: int

    def seal(self, head: bytes, first: int, chain: bytes, place: bytes = b"") -> bytes:
        """The whole message: header with its length set, SK payload header, IV, ciphertext. Of a
        fragment, `place` stands behind the payload's header."""
        ...

    def open(self, datagram: bytes, start: int, place: int = 0) -> bytes:
        """What stands inside the SK payload whose header starts at `start` (and has `place` bytes
        behind it), padding included.

        Raises IkeNotAuthentic.
        """
        ...


class AeadMessageCipher(MessageCipher):
    """RFC 5282, and RFC 7634 section 4 for ChaCha20-Poly1305: the IV counts, the additional data is
    everything before it."""

    def __init__(self, aead: Aead, salt: bytes) -> None:
        self._aead = aead
        self._salt = salt
        self._counter = 0
        self.overhead = 8 + 1 + 16

    def seal(self, head: bytes, first: int, chain: bytes, place: bytes = b"") -> bytes:
        self._counter += 1
        iv = self._counter.to_bytes(8, "big")
        length = 4 + len(place) + 8 + len(chain) + 1 + 16
        aad = (
            head[:24]
            + (HEADER_SIZE + length).to_bytes(4, "big")
            + _GENERIC.pack(first, 0, length)
            + place
        )
        return aad + iv + self._aead.encrypt(self._salt + iv, chain + b"\0", aad)

    def open(self, datagram: bytes, start: int, place: int = 0) -> bytes:
        body = start + 4 + place
        if len(datagram) < body + 8 + 17:
            raise IkeNotAuthentic("an encrypted payload too short for its IV and checksum")
        iv = datagram[body : body + 8]
        try:
            plain = self._aead.decrypt(self._salt + iv, datagram[body + 8 :], datagram[:body])
        except InvalidTag:
            raise IkeNotAuthentic("the message's integrity check does not match") from None
        return plain


class CbcMessageCipher(MessageCipher):
    """AES-CBC with an HMAC over the whole message (RFC 7296 section 3.14)."""

    def __init__(
        self,
        encryption_key: bytes,
        integrity_key: bytes,
        integrity: Integrity,
        rng: Callable[[int], bytes],
    ) -> None:
        self._key = algorithms.AES(encryption_key)
        self._mac = integrity.start(integrity_key)
        self._icv = integrity.icv
        self._rng = rng
        self.overhead = 16 + 16 + integrity.icv

    def _checksum(self, data: bytes) -> bytes:
        mac = self._mac.copy()
        mac.update(data)
        return mac.finalize()[: self._icv]

    def seal(self, head: bytes, first: int, chain: bytes, place: bytes = b"") -> bytes:
        pad = (-len(chain) - 1) % 16
        iv = self._rng(16)
        encryptor = Cipher(self._key, modes.CBC(iv)).encryptor()
        cipher = encryptor.update(chain + bytes(pad) + bytes((pad,))) + encryptor.finalize()
        length = 4 + len(place) + 16 + len(cipher) + self._icv
        message = (
            head[:24]
            + (HEADER_SIZE + length).to_bytes(4, "big")
            + _GENERIC.pack(first, 0, length)
            + place
            + iv
            + cipher
        )
        return message + self._checksum(message)

    def open(self, datagram: bytes, start: int, place: int = 0) -> bytes:
        body, icv = start + 4 + place, self._icv
        cipher_size = len(datagram) - body - 16 - icv
        if cipher_size < 16 or cipher_size % 16:
            raise IkeNotAuthentic("an encrypted payload that is not whole blocks")
        if not _hmac.compare_digest(self._checksum(datagram[:-icv]), datagram[-icv:]):
            raise IkeNotAuthentic("the message's integrity check does not match")
        decryptor = Cipher(self._key, modes.CBC(datagram[body : body + 16])).decryptor()
        return decryptor.update(datagram[body + 16 : -icv]) + decryptor.finalize()


def unpad(plain: bytes) -> bytes:
    """Strip padding and pad length. Raises IkeFormatError."""
    if not plain:
        raise IkeFormatError("an encrypted payload without its pad length")
    end = len(plain) - 1 - plain[-1]
    if end < 0:
        raise IkeFormatError("the padding is longer than the payloads")
    return plain[:end]


def make_cipher(
    encryption: Algorithm,
    integrity: Algorithm | None,
    encryption_key: bytes,
    integrity_key: bytes,
    rng: Callable[[int], bytes],
) -> MessageCipher:
    """The cipher for one direction; lengths come from the registry (see keys.py)."""
    if integrity is None:
        return AeadMessageCipher(*make_aead(encryption, encryption_key))
    return CbcMessageCipher(encryption_key, integrity_key, INTEGRITY[integrity.number], rng)


def encode_head(
    spi_i: bytes, spi_r: bytes, kind: int, exchange: int, flags: int, message_id: int
) -> bytes:
    """A header whose length is set when the message is sealed."""
    return _HEADER.pack(spi_i, spi_r, kind, VERSION_2, exchange, flags, message_id, 0)


def open_protected(cipher: MessageCipher, datagram: bytes, header: Header) -> tuple[int, bytes]:
    """(type of the first payload, decrypted bytes) of a message from the network, or an error that
    no answer may follow, since nothing about the message is authentic. Raises IkeFormatError only.
    """
    if header.next_payload != PayloadType.SK or len(datagram) < HEADER_SIZE + 4:
        raise IkeNotAuthentic("a message of an established SA that is not encrypted")
    first, _, length = _GENERIC.unpack_from(datagram, HEADER_SIZE)
    if length != len(datagram) - HEADER_SIZE:
        raise IkeNotAuthentic("the encrypted payload does not fill the message")
    return first, cipher.open(datagram, HEADER_SIZE)


def decode_inside(first: int, plain: bytes) -> list[Payload]:
    """Payloads of a message that is authentic. An IkeFormatError from here is the peer's mistake,
    and names the notify that reports it (RFC 7296 section 2.21.3)."""
    return decode_chain(first, unpad(plain))


def find(payloads: list[Payload], cls: type[P], kind: int | None = None) -> P | None:
    """The first payload of a class (and payload type), or None."""
    for payload in payloads:
        if isinstance(payload, cls) and (kind is None or payload.kind == kind):
            return payload
    return None


def need(payloads: list[Payload], cls: type[P], what: str, kind: int | None = None) -> P:
    """Like find; its absence is INVALID_SYNTAX."""
    found = find(payloads, cls, kind)
    if found is None:
        raise IkeFormatError(f"the message lacks its {what} payload")
    return found


def find_notify(payloads: list[Payload], number: int) -> NotifyPayload | None:
    for payload in payloads:
        if isinstance(payload, NotifyPayload) and payload.notify == number:
            return payload
    return None


def first_error(payloads: list[Payload]) -> NotifyPayload | None:
    """The first notify that reports an error, or None."""
    for payload in payloads:
        if isinstance(payload, NotifyPayload) and payload.notify < 16384:
            return payload
    return None
