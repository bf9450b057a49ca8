"""The SA payload (RFC 7296 section 3.3): proposals, their transforms, and what qualifies these."""

from __future__ import annotations

import functools
from dataclasses import dataclass
from struct import Struct

from obrin.core.ipsec.proposal import Proposal, Transform
from obrin.wire.cursor import Cursor
from obrin.wire.ike.numbers import PayloadType

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
