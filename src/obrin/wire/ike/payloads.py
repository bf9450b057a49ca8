"""IKE payloads (RFC 7296 section 3), parse and serialise side by side.

Every body below starts after the generic payload header:

    | next payload (1) | critical bit and reserved (1) | length (2) |
"""

from __future__ import annotations

import functools
from collections.abc import Callable
from dataclasses import dataclass
from struct import Struct

from obrin.core.ipsec.proposal import Proposal, Transform
from obrin.core.ipsec.selectors import Selector
from obrin.wire.cursor import Cursor
from obrin.wire.errors import ReadError
from obrin.wire.ike.errors import IkeFormatError
from obrin.wire.ike.numbers import Notify, PayloadType

MAX_PAYLOADS = 64
_GENERIC = Struct(">BBH")
_SUB = Struct(">BBH")
_TRANSFORM = Struct(">BBHBBH")
_KEY_LENGTH = 0x800E  # attribute format bit and attribute type 14 (section 3.3.5)


@dataclass(slots=True)
class Sa:
    """Section 3.3: proposals with their transforms."""

    proposals: tuple[Proposal, ...]
    kind: int = PayloadType.SA

    def encode(self) -> bytes:
        last = len(self.proposals) - 1
        parts = []
        for index, proposal in enumerate(self.proposals):
            body = _encode_transforms(proposal.transforms)
            parts.append(
                _SUB.pack(0 if index == last else 2, 0, 8 + len(proposal.spi) + len(body))
                + bytes(
                    (
                        proposal.number,
                        proposal.protocol,
                        len(proposal.spi),
                        len(proposal.transforms),
                    )
                )
                + proposal.spi
                + body
            )
        return b"".join(parts)

    @classmethod
    def decode(cls, body: bytes, kind: int) -> Sa:
        return cls(_decode_proposals(body), kind)


@functools.lru_cache(maxsize=256)
def _decode_proposals(body: bytes) -> tuple[Proposal, ...]:
    """Peers offer the same again and again, so this is memoised."""
    cursor = Cursor(body)
    proposals = []
    more = True
    while more:
        more = cursor.u8("proposal") == 2
        cursor.u8("proposal")
        length = cursor.u16("proposal length")
        inner = Cursor(cursor.take(length - 4, "proposal"))
        number, protocol, spi_size, count = inner.take(4, "proposal")
        spi = inner.take(spi_size, "proposal SPI")
        proposals.append(Proposal(protocol, _decode_transforms(inner.rest(), count), number, spi))
    cursor.done("the last proposal")
    return tuple(proposals)


@functools.lru_cache(maxsize=256)
def _encode_transforms(transforms: tuple[Transform, ...]) -> bytes:
    parts = []
    last = len(transforms) - 1
    for index, transform in enumerate(transforms):
        attribute = _encode_transform_attributes(transform)
        parts.append(
            _TRANSFORM.pack(
                0 if index == last else 3,
                0,
                8 + len(attribute),
                transform.kind,
                0,
                transform.number,
            )
            + attribute
        )
    return b"".join(parts)


def _encode_transform_attributes(transform: Transform) -> bytes:
    """Section 3.3.5: with the first bit, type and value; without it, a length between them."""
    parts = []
    if transform.key_bits is not None:
        parts.append(_KEY_LENGTH.to_bytes(2, "big") + transform.key_bits.to_bytes(2, "big"))
    for head, value in transform.attributes:
        length = b"" if head & 0x8000 else len(value).to_bytes(2, "big")
        parts.append(head.to_bytes(2, "big") + length + value)
    return b"".join(parts)


@functools.lru_cache(maxsize=256)
def _decode_transforms(body: bytes, count: int) -> tuple[Transform, ...]:
    cursor = Cursor(body)
    found = []
    for _ in range(count):
        cursor.take(2, "transform")
        length = cursor.u16("transform length")
        inner = Cursor(cursor.take(length - 4, "transform"))
        kind = inner.u8("transform type")
        inner.u8()
        number = inner.u16("transform number")
        key_bits, others = None, []
        while inner.remaining():
            head = inner.u16("transform attribute")
            value = inner.take(2, "transform attribute")
            if head == _KEY_LENGTH and key_bits is None:
                key_bits = int.from_bytes(value, "big")
                continue
            if not head & 0x8000:
                value = inner.take(int.from_bytes(value, "big"), "transform attribute")
            others.append((head, value))
        found.append(Transform(kind, number, key_bits, tuple(others)))
    cursor.done("the last transform")
    return tuple(found)


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
        end = 4 + body[1]
        return cls(int.from_bytes(body[2:4], "big"), body[end:], body[0], body[4:end], kind)


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
