"""The SA payload (RFC 7296 section 3.3): proposals, their transforms, and what qualifies these."""

from __future__ import annotations

import functools
from dataclasses import dataclass
from struct import Struct

from obrin.core.ipsec.proposal import Proposal, Transform
from obrin.core.ipsec.registry import ALGORITHMS
from obrin.wire.cursor import Cursor
from obrin.wire.errors import ReadError
from obrin.wire.ike.codec.numbers import PayloadType

_PROPOSAL = Struct(">BBHBBBB")
_TRANSFORM = Struct(">BBHBBH")
_LEAST = _TRANSFORM.size
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
                _PROPOSAL.pack(
                    0 if index == last else 2,
                    0,
                    8 + len(proposal.spi) + len(body),
                    proposal.number,
                    proposal.protocol,
                    len(proposal.spi),
                    len(proposal.transforms),
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
    """Peers offer the same again and again, so this is memoised. Raises ReadError."""
    proposals, at, end, more = list[Proposal](), 0, len(body), True
    while more:
        if end - at < _PROPOSAL.size:
            raise ReadError(
                f"proposal needs {_PROPOSAL.size} bytes at offset {at}, {end - at} left"
            )
        last, _, length, number, protocol, spi_size, count = _PROPOSAL.unpack_from(body, at)
        begins, after = at + _PROPOSAL.size + spi_size, at + length
        if after > end or begins > after:
            raise ReadError(f"proposal of {length} bytes at offset {at}, {end - at} left")
        spi = body[begins - spi_size : begins]
        transforms = _decode_transforms(body[begins:after], count)
        proposals.append(Proposal(protocol, transforms, number, spi))
        at, more = after, last == 2
    if at != end:
        raise ReadError(f"{end - at} bytes left over after the last proposal")
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


def _decode_transforms(body: bytes, count: int) -> tuple[Transform, ...]:
    """Raises ReadError."""
    found, at, end = list[Transform](), 0, len(body)
    for _ in range(count):
        if at + _LEAST > end:
            raise ReadError(f"transform needs {_LEAST} bytes at offset {at}, {end - at} left")
        after = at + body[at + 3]
        known = _KNOWN.get(body[at + 2 : after])
        if known is None:
            after = at + int.from_bytes(body[at + 2 : at + 4], "big")
            if not at + _LEAST <= after <= end:
                raise ReadError(f"transform of {after - at} bytes at offset {at}, {end - at} left")
            known = _decode_transform(body[at:after])
        found.append(known)
        at = after
    if at != end:
        raise ReadError(f"{end - at} bytes left over after the last transform")
    return tuple(found)


def _decode_transform(body: bytes) -> Transform:
    _, _, _, kind, _, number = _TRANSFORM.unpack_from(body)
    cursor = Cursor(body, _TRANSFORM.size)
    key_bits, others = None, list[tuple[int, bytes]]()
    while cursor.remaining():
        head = cursor.u16("transform attribute")
        value = cursor.take(2, "transform attribute")
        if head == _KEY_LENGTH and key_bits is None:
            key_bits = int.from_bytes(value, "big")
            continue
        if not head & 0x8000:
            value = cursor.take(int.from_bytes(value, "big"), "transform attribute")
        others.append((head, value))
    return Transform(kind, number, key_bits, tuple(others))


_KNOWN = {_encode_transforms((known,))[2:]: known for known in map(Transform.of, ALGORITHMS)}
"""By what stands behind the first two bytes of a transform, its length first; others are taken
apart."""
