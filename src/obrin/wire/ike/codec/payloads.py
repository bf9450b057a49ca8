"""IKE payloads (RFC 7296 section 3), parse and serialise side by side.

Every body below starts after the generic payload header:

    | next payload (1) | critical bit and reserved (1) | length (2) |
"""

from __future__ import annotations

import functools
from collections.abc import Callable
from dataclasses import dataclass
from struct import Struct

from obrin.core.ipsec.selectors import Selector
from obrin.wire.cursor import Cursor
from obrin.wire.errors import ReadError
from obrin.wire.ike.codec.errors import IkeFormatError
from obrin.wire.ike.codec.numbers import Notify, PayloadType
from obrin.wire.ike.codec.sa_payload import Sa

MAX_PAYLOADS = 64
_GENERIC = Struct(">BBH")
_NOTIFY = Struct(">BBH")


@dataclass(slots=True)
class Ke:
    """Section 3.4: the group and the public value."""

    group: int
    data: bytes
    kind: int = PayloadType.KE

    def encode(self) -> bytes:
        return self.group.to_bytes(2, "big") + b"\0\0" + self.data

    @classmethod
    def decode(cls, body: bytes, kind: int) -> Ke:
        if len(body) < 5:
            raise IkeFormatError("a key exchange payload without a public value")
        return cls(int.from_bytes(body[:2], "big"), body[4:], kind)


@dataclass(slots=True)
class Nonce:
    """Section 3.9: 16 to 256 random bytes."""

    data: bytes
    kind: int = PayloadType.NONCE

    def encode(self) -> bytes:
        return self.data

    @classmethod
    def decode(cls, body: bytes, kind: int) -> Nonce:
        if not 16 <= len(body) <= 256:
            raise IkeFormatError(f"a nonce of {len(body)} bytes; 16 to 256 are allowed")
        return cls(body, kind)


@dataclass(slots=True)
class Id:
    """Section 3.5: identification of initiator or responder."""

    kind: int
    id_kind: int
    data: bytes

    def encode(self) -> bytes:
        return bytes((self.id_kind, 0, 0, 0)) + self.data

    @classmethod
    def decode(cls, body: bytes, kind: int) -> Id:
        if len(body) < 4:
            raise IkeFormatError("an identification payload without a type")
        return cls(kind, body[0], body[4:])


@dataclass(slots=True)
class Cert:
    """Sections 3.6 and 3.7: a certificate, or a request that names authorities by their hashes."""

    kind: int
    encoding: int
    data: bytes

    def encode(self) -> bytes:
        return bytes((self.encoding,)) + self.data

    @classmethod
    def decode(cls, body: bytes, kind: int) -> Cert:
        if not body:
            raise IkeFormatError("a certificate payload without an encoding")
        return cls(kind, body[0], body[1:])


@dataclass(slots=True)
class Auth:
    """Section 3.8."""

    method: int
    data: bytes
    kind: int = PayloadType.AUTH

    def encode(self) -> bytes:
        return bytes((self.method, 0, 0, 0)) + self.data

    @classmethod
    def decode(cls, body: bytes, kind: int) -> Auth:
        if len(body) < 4:
            raise IkeFormatError("an authentication payload without a method")
        return cls(body[0], body[4:], kind)


@dataclass(slots=True)
class NotifyPayload:
    """Section 3.10."""

    notify: int
    data: bytes = b""
    protocol: int = 0
    spi: bytes = b""
    kind: int = PayloadType.NOTIFY

    def encode(self) -> bytes:
        return (
            bytes((self.protocol, len(self.spi)))
            + self.notify.to_bytes(2, "big")
            + self.spi
            + self.data
        )

    @classmethod
    def decode(cls, body: bytes, kind: int) -> NotifyPayload:
        if len(body) < 4 or len(body) < 4 + body[1]:
            raise IkeFormatError("a notify payload shorter than its SPI")
        protocol, size, notify = _NOTIFY.unpack_from(body)
        return cls(notify, body[4 + size :], protocol, body[4 : 4 + size], kind)


@dataclass(slots=True)
class Delete:
    """Section 3.11: SPIs are empty for the IKE SA itself, 4 bytes each for ESP."""

    protocol: int
    spis: tuple[bytes, ...] = ()
    kind: int = PayloadType.DELETE

    def encode(self) -> bytes:
        size = len(self.spis[0]) if self.spis else 0
        return (
            bytes((self.protocol, size)) + len(self.spis).to_bytes(2, "big") + b"".join(self.spis)
        )

    @classmethod
    def decode(cls, body: bytes, kind: int) -> Delete:
        cursor = Cursor(body)
        protocol, size, count = cursor.u8(), cursor.u8(), cursor.u16("delete")
        if not size and count:
            raise IkeFormatError("a delete payload that counts SPIs of no length")
        spis = tuple(cursor.take(size, "SPI to delete") for _ in range(count))
        cursor.done("the last SPI")
        return cls(protocol, spis, kind)


@dataclass(slots=True)
class Ts:
    """Section 3.13: traffic selectors of one side."""

    kind: int
    selectors: tuple[Selector, ...]

    def encode(self) -> bytes:
        return _encode_selectors(self.selectors)

    @classmethod
    def decode(cls, body: bytes, kind: int) -> Ts:
        return cls(kind, _decode_selectors(body))


@functools.lru_cache(maxsize=256)
def _encode_selectors(selectors: tuple[Selector, ...]) -> bytes:
    parts = [bytes((len(selectors), 0, 0, 0))]
    for selector in selectors:
        size = selector.bits // 8
        parts.append(
            bytes((7 if size == 4 else 8, selector.protocol))
            + (8 + 2 * size).to_bytes(2, "big")
            + selector.first_port.to_bytes(2, "big")
            + selector.last_port.to_bytes(2, "big")
            + selector.first.to_bytes(size, "big")
            + selector.last.to_bytes(size, "big")
        )
    return b"".join(parts)


@functools.lru_cache(maxsize=256)
def _decode_selectors(body: bytes) -> tuple[Selector, ...]:
    cursor = Cursor(body)
    count = cursor.u8("selector count")
    cursor.take(3, "reserved")
    selectors = []
    for _ in range(count):
        ts_type, protocol, length = cursor.u8(), cursor.u8(), cursor.u16("selector length")
        inner = Cursor(cursor.take(length - 4, "traffic selector"))
        size = {7: 4, 8: 16}.get(ts_type)
        if size is None:
            continue
        low, high = inner.u16("port"), inner.u16("port")
        first = int.from_bytes(inner.take(size, "address"), "big")
        last = int.from_bytes(inner.take(size, "address"), "big")
        inner.done("a traffic selector")
        selectors.append(Selector(size * 8, first, last, protocol, low, high))
    cursor.done("the last traffic selector")
    return tuple(selectors)


@dataclass(slots=True)
class Unknown:
    """Any other payload, kept as it came."""

    kind: int
    critical: bool
    body: bytes

    def encode(self) -> bytes:
        return self.body


Payload = Sa | Ke | Nonce | Id | Cert | Auth | NotifyPayload | Delete | Ts | Unknown

_DECODERS: dict[int, Callable[[bytes, int], Payload]] = {
    int(PayloadType.SA): Sa.decode,
    int(PayloadType.KE): Ke.decode,
    int(PayloadType.IDI): Id.decode,
    int(PayloadType.IDR): Id.decode,
    int(PayloadType.CERT): Cert.decode,
    int(PayloadType.CERTREQ): Cert.decode,
    int(PayloadType.AUTH): Auth.decode,
    int(PayloadType.NONCE): Nonce.decode,
    int(PayloadType.NOTIFY): NotifyPayload.decode,
    int(PayloadType.DELETE): Delete.decode,
    int(PayloadType.TSI): Ts.decode,
    int(PayloadType.TSR): Ts.decode,
}


def encode_chain(payloads: list[Payload]) -> tuple[int, bytes]:
    """(type of the first payload, the chain as bytes)."""
    parts: list[bytes] = []
    following: int = PayloadType.NONE
    for payload in reversed(payloads):
        body = payload.encode()
        critical = 0x80 if type(payload) is Unknown and payload.critical else 0
        parts.append(_GENERIC.pack(following, critical, 4 + len(body)) + body)
        following = payload.kind
    parts.reverse()
    return following, b"".join(parts)


def decode_chain(first: int, data: bytes, start: int = 0) -> list[Payload]:
    """Payloads in `data[start:]`. Raises IkeFormatError, also for unknown critical ones."""
    payloads: list[Payload] = []
    kind, position, end = first, start, len(data)
    try:
        while kind != PayloadType.NONE:
            if position + 4 > end:
                raise IkeFormatError(f"payload type {kind} is missing its header at {position}")
            if len(payloads) == MAX_PAYLOADS:
                raise IkeFormatError(f"more than {MAX_PAYLOADS} payloads in one message")
            following, flags, length = _GENERIC.unpack_from(data, position)
            if length < 4 or position + length > end:
                raise IkeFormatError(
                    f"payload type {kind} at offset {position} claims {length} bytes, "
                    f"{end - position} left"
                )
            body = data[position + 4 : position + length]
            decoder = _DECODERS.get(kind)
            if decoder is not None:
                payloads.append(decoder(body, kind))
            else:
                critical = bool(flags & 0x80)
                if critical and kind != PayloadType.VENDOR:
                    raise IkeFormatError(
                        f"payload type {kind} is critical and not known here",
                        Notify.UNSUPPORTED_CRITICAL_PAYLOAD,
                        bytes((kind,)),
                    )
                payloads.append(Unknown(kind, critical, body))
            kind, position = following, position + length
    except ReadError as error:
        raise IkeFormatError(f"payload type {kind}: {error}") from error
    if position != end:
        raise IkeFormatError(f"{end - position} bytes left over after the last payload")
    return payloads
