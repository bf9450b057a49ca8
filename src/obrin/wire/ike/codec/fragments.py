"""Messages in fragments that each fit the path (RFC 7383), so that none need be cut up by IP.

Each fragment is a message of its own with the same header but for its length, and one payload:

    | generic header (4): type of the first payload in fragment 1, else 0; length |
    | fragment number (2) | total fragments (2) |
    | IV | ciphertext of a part of the payloads, padding, pad length | ICV |

A fragment counts once it is authentic. One with a greater total begins the message anew, since its
sender cut it smaller; one with a smaller total is late (section 2.6).
"""

from __future__ import annotations

from dataclasses import dataclass, field
from struct import Struct

from obrin.wire.ike.codec.errors import IkeFormatError, IkeNotAuthentic
from obrin.wire.ike.codec.message import (
    HEADER_SIZE,
    Header,
    MessageCipher,
    encode_head,
    unpad,
)
from obrin.wire.ike.codec.numbers import PayloadType
from obrin.wire.ike.codec.payloads import Payload, encode_chain

USUAL, SMALLEST = 1280, 576
"""Bytes of an IP packet that carries a fragment (section 2.5.1): what every IPv6 path passes, and
what every IPv4 host takes."""
AROUND_IPV4 = 20 + 8 + 4
"""IPv4 and UDP headers, and the marker at port 4500."""
MOST = 64
"""Fragments of one message that are kept; certificates need a few."""
_GENERIC, _PLACE = Struct(">BBH"), Struct(">HH")
Message = tuple[bytes, ...]
"""The datagrams of one message."""


def encode_message(
    cipher: MessageCipher,
    spi_i: bytes,
    spi_r: bytes,
    exchange: int,
    flags: int,
    message_id: int,
    payloads: list[Payload],
    limit: int | None,
) -> Message:
    """Whole where it fits into an IP packet of `limit` bytes, or where that is None."""
    first, chain = encode_chain(payloads)
    head = encode_head(spi_i, spi_r, PayloadType.SK, exchange, flags, message_id)
    room = 0 if limit is None else limit - AROUND_IPV4 - HEADER_SIZE - 4 - cipher.overhead
    if limit is None or len(chain) <= room:
        return (cipher.seal(head, first, chain),)
    head = encode_head(spi_i, spi_r, PayloadType.SKF, exchange, flags, message_id)
    size = room - _PLACE.size
    parts = [chain[at : at + size] for at in range(0, len(chain), size)]
    return tuple(
        cipher.seal(head, first if number == 1 else 0, part, _PLACE.pack(number, len(parts)))
        for number, part in enumerate(parts, 1)
    )


@dataclass(slots=True)
class Assembly:
    """The fragments of one message that have come; `largest` is the size of the largest."""

    total: int = 0
    first: int = 0
    largest: int = 0
    parts: dict[int, bytes] = field(default_factory=dict, repr=False)

    @property
    def whole(self) -> bool:
        return 0 < self.total == len(self.parts)

    def plain(self) -> bytes:
        """The content as it would stand in a whole message, without padding."""
        parts = (self.parts[number] for number in range(1, self.total + 1))
        return b"".join(parts) + b"\0"

    def take(self, cipher: MessageCipher, datagram: bytes, header: Header) -> int:
        """The number of a fragment that is authentic. Raises IkeFormatError only; one that must not
        count, IkeNotAuthentic."""
        if header.next_payload != PayloadType.SKF or len(datagram) < HEADER_SIZE + 8:
            raise IkeNotAuthentic("a fragment without its payload")
        first, _, length = _GENERIC.unpack_from(datagram, HEADER_SIZE)
        number, total = _PLACE.unpack_from(datagram, HEADER_SIZE + 4)
        if length != len(datagram) - HEADER_SIZE or not 1 <= number <= total <= MOST:
            raise IkeNotAuthentic(f"fragment {number} of {total} cannot be one")
        plain = cipher.open(datagram, HEADER_SIZE, _PLACE.size)
        if total < self.total:
            raise IkeNotAuthentic(f"a late fragment of {total}, {self.total} are awaited")
        if total > self.total:
            self.total, self.first, self.largest = total, 0, 0
            self.parts.clear()
        try:
            self.parts.setdefault(number, unpad(plain))
        except IkeFormatError as error:
            raise IkeNotAuthentic(str(error)) from None
        self.largest = max(self.largest, len(datagram) + AROUND_IPV4)
        if number == 1:
            self.first = first
        return int(number)


def number_of(datagram: bytes, header: Header) -> int:
    """Which fragment of its message a datagram is; 1 for a whole message."""
    if header.next_payload != PayloadType.SKF:
        return 1
    return int(_PLACE.unpack_from(datagram, HEADER_SIZE + 4)[0])
