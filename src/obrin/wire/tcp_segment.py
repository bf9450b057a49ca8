"""TCP segments (RFC 9293 section 3.1), parse and serialise side by side."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from struct import Struct

from obrin.core.address.prefix import Address
from obrin.wire.errors import PacketError
from obrin.wire.packet import TCP, Packet, transport_checksum
from obrin.wire.tcp_protection import NO_NUMBERS, SIGNING_KINDS, Numbers, Protection

_HEAD = Struct(">HHIIBBHHH")
_BLOCK = Struct(">II")
MOST_OPTIONS = 40
"""Bytes (RFC 9293 section 3.1)."""
FIN, SYN, RST, PSH, ACK = 1, 2, 4, 8, 16
_MOD = 1 << 32
End = tuple[Address, int]
"""An address and a port."""
Ends = tuple[Address, Address]
"""The two ends of a connection, the local one first."""


@dataclass(slots=True, kw_only=True)
class Segment:
    """`selective`: its sender takes selective acknowledgements; `blocks` are some, from a sequence
    number up to another (RFC 2018)."""

    source_port: int
    destination_port: int
    sequence: int
    acknowledgement: int
    flags: int
    window: int
    data: bytes
    mss: int | None = None
    selective: bool = False
    blocks: tuple[tuple[int, int], ...] = ()
    signatures: tuple[tuple[int, bytes], ...] = ()

    def encode(
        self,
        source: Address,
        destination: Address,
        protection: Protection | None = None,
        numbers: Numbers = NO_NUMBERS,
    ) -> bytes:
        """Encode a segment; signed where a `protection` is given."""
        signed = b"" if protection is None else protection.blank
        options = self._options(MOST_OPTIONS - len(signed)) + signed
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
        if protection is not None:
            value = protection.value(source, destination, raw, numbers)
            head = 20 + len(options)
            raw = raw[: head - len(value)] + value + raw[head:]
        covered = transport_checksum(source, destination, TCP, raw)
        return raw[:16] + covered.to_bytes(2, "big") + raw[18:]

    def _options(self, room: int) -> bytes:
        """Whole words, of so many bytes at the most: blocks that find no room are left out."""
        written = b"" if self.mss is None else b"\x02\x04" + self.mss.to_bytes(2, "big")
        if self.selective:
            written += b"\x01\x01\x04\x02"
        blocks = self.blocks[: max(0, (room - len(written) - 4) // 8)]
        if blocks:
            written += b"\x01\x01\x05" + bytes((2 + 8 * len(blocks),))
            written += b"".join(_BLOCK.pack(a % _MOD, b % _MOD) for a, b in blocks)
        return written


def begins(segment: bytes) -> bool:
    """Whether it asks for a connection."""
    return len(segment) > 13 and segment[13] & (SYN | ACK) == SYN


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
    options = list(_options(data[20:head]))
    return Segment(
        source_port=source,
        destination_port=destination,
        sequence=sequence,
        acknowledgement=ack,
        flags=flags,
        window=window,
        data=data[head:],
        mss=_mss(options),
        selective=(4, b"") in options,
        blocks=tuple(_blocks(options)),
        signatures=tuple(one for one in options if one[0] in SIGNING_KINDS),
    )


Option = tuple[int, bytes]


def _mss(options: Sequence[Option]) -> int | None:
    value = next((value for kind, value in options if kind == 2 and len(value) == 2), None)
    return None if value is None else int.from_bytes(value, "big")


def _blocks(options: Sequence[Option]) -> Iterator[tuple[int, int]]:
    for kind, value in options:
        if kind == 5 and len(value) % 8 == 0:
            yield from (_BLOCK.unpack_from(value, at) for at in range(0, len(value), 8))


def _options(options: bytes) -> Iterator[tuple[int, bytes]]:
    """Kind and value of each, as far as they hold together."""
    position = 0
    while position < len(options):
        kind = options[position]
        if kind == 0:
            return
        if kind == 1:
            position += 1
            continue
        if position + 1 >= len(options):
            return
        size = options[position + 1]
        if size < 2 or position + size > len(options):
            return
        yield kind, options[position + 2 : position + size]
        position += size
