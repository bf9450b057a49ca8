"""TCP segments (RFC 9293 section 3.1), parse and serialise side by side."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from struct import Struct

from obrin.core.address.prefix import Address
from obrin.wire.errors import PacketError
from obrin.wire.packet import TCP, Packet, pseudo_header, transport_checksum

_HEAD = Struct(">HHIIBBHHH")
FIN, SYN, RST, PSH, ACK = 1, 2, 4, 8, 16
_SIGNATURE = b"\x01\x01\x13\x12"
"""Two options that mean nothing, so that words stay words; then kind and length of the digest."""
SIGNATURE_SIZE = len(_SIGNATURE) + 16
_MOD = 1 << 32
End = tuple[Address, int]
"""An address and a port."""
Ends = tuple[Address, Address]
"""Of a connection, the local one first."""


@dataclass(slots=True, kw_only=True)
class Segment:
    source_port: int
    destination_port: int
    sequence: int
    acknowledgement: int
    flags: int
    window: int
    data: bytes
    mss: int | None = None
    digest: bytes | None = None

    def encode(self, source: Address, destination: Address, key: bytes = b"") -> bytes:
        """With a `key`, signed as RFC 2385 has it."""
        options = b"" if self.mss is None else b"\x02\x04" + self.mss.to_bytes(2, "big")
        if key:
            options += _SIGNATURE + bytes(16)
        raw = (
            _HEAD.pack(
                self.source_port,
                self.destination_port,
                self.sequence % _MOD,
                self.acknowledgement % _MOD,
                (5 + len(options) // 4) << 4,
                self.flags,
                self.window,
                0,
                0,
            )
            + options
            + self.data
        )
        if key:
            head = 20 + len(options)
            raw = raw[: head - 16] + md5_digest(source, destination, raw, key) + raw[head:]
        value = transport_checksum(source, destination, TCP, raw)
        return raw[:16] + value.to_bytes(2, "big") + raw[18:]


def with_mss_of_at_most(segment: bytes, most: int) -> bytes:
    """The same bytes, or with a smaller MSS where a connection begins with a larger one.

    The checksum follows as RFC 1624 has it, so that one which was wrong stays wrong.
    """
    if len(segment) < 20 or not segment[13] & SYN:
        return segment
    at, end = 20, min((segment[12] >> 4) * 4, len(segment))
    while at + 4 <= end and segment[at]:
        if segment[at] == 2 and segment[at + 1] == 4:
            break
        at += 1 if segment[at] == 1 else max(segment[at + 1], 2)
    else:
        return segment
    old = int.from_bytes(segment[at + 2 : at + 4], "big")
    if at + 4 > end or old <= most:
        return segment
    before = int.from_bytes(segment[16:18], "big") ^ 0xFFFF
    # At an odd place the two bytes count the other way round in the sum of words.
    change = ((most - old) << 8) if at & 1 else most - old
    after = (before + change) % 0xFFFF ^ 0xFFFF
    head = segment[:16] + after.to_bytes(2, "big") + segment[18 : at + 2]
    return head + most.to_bytes(2, "big") + segment[at + 4 :]


def decode_segment(packet: Packet) -> Segment:
    """Raises PacketError."""
    data = packet.payload
    if len(data) < 20:
        raise PacketError("a TCP header needs 20 bytes")
    source, destination, sequence, ack, offset, flags, window, _, _ = _HEAD.unpack_from(data)
    head = (offset >> 4) * 4
    if head < 20 or head > len(data):
        raise PacketError("the TCP header's length does not hold together")
    if transport_checksum(packet.source, packet.destination, TCP, data):
        raise PacketError("the TCP checksum does not match")
    return Segment(
        source_port=source,
        destination_port=destination,
        sequence=sequence,
        acknowledgement=ack,
        flags=flags,
        window=window,
        data=data[head:],
        mss=None if (mss := _option(data[20:head], 2, 2)) is None else int.from_bytes(mss, "big"),
        digest=_option(data[20:head], 19, 16),
    )


def md5_digest(source: Address, destination: Address, segment: bytes, key: bytes) -> bytes:
    """RFC 2385 section 2: over the pseudo-header, the header without options and with a checksum of
    zero, the data, and the key."""
    head = (segment[12] >> 4) * 4
    made = hashlib.md5(usedforsecurity=False)  # as the RFC has it; ESP is what protects the session
    made.update(pseudo_header(source, destination, TCP, len(segment)))
    made.update(segment[:16] + bytes(2) + segment[18:20] + segment[head:] + key)
    return made.digest()


def _option(options: bytes, wanted: int, size: int) -> bytes | None:
    """The value of the first option of a kind, where it is of its size."""
    position = 0
    while position < len(options):
        kind = options[position]
        if kind == 0:
            break
        if kind == 1:
            position += 1
            continue
        if position + 1 >= len(options) or options[position + 1] < 2:
            break
        if kind == wanted and options[position + 1] == 2 + size:
            found = options[position + 2 : position + 2 + size]
            return found if len(found) == size else None
        position += options[position + 1]
    return None
