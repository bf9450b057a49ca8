"""Routes of both families in BGP (RFC 4760), and next hops of the other family (RFC 8950).

MP_REACH_NLRI:   | AFI (2) | SAFI (1) | length (1) | next hop | reserved (1) | prefixes |
MP_UNREACH_NLRI: | AFI (2) | SAFI (1) | prefixes |
"""

from __future__ import annotations

from collections.abc import Collection, Iterable
from dataclasses import dataclass
from struct import unpack_from

from obrin.core.address.prefix import Address, Prefix
from obrin.wire.bgp.errors import UPDATE_ERROR, BgpError
from obrin.wire.cursor import Cursor
from obrin.wire.errors import ReadError

AFI = {32: 1, 128: 2}
UNICAST = 1
BITS = {afi: bits for bits, afi in AFI.items()}
OPTIONAL_ATTRIBUTE, NETWORK = 9, 10
BEYOND = 1 << 30
"""Further than any message."""
_WORDS = {1: "B", 2: "H", 4: "I", 8: "Q"}
_RUN = 256
"""Prefixes of one length that are taken apart at once, at most."""


@dataclass(frozen=True, slots=True)
class Reach:
    """Prefixes of one family that are announced with a next hop of their own."""

    next_hop: Address
    prefixes: tuple[Prefix, ...]


def family_of(bits: int) -> bytes:
    """AFI, a reserved byte, SAFI, as in a capability (section 8)."""
    return AFI[bits].to_bytes(2, "big") + bytes((0, UNICAST))


def bits_of(family: bytes) -> int | None:
    """Return None for a family that is not spoken here."""
    return next((bits for bits in AFI if family == family_of(bits)), None)


def _shapes(bits: int) -> list[tuple[int, int, int, int]]:
    """Layout by length of a prefix: where the next one begins, how far its value is shifted,
    what of that counts, and the length in front of the value as it is written. After a length
    that cannot be there is nothing."""
    found = []
    for length in range(bits + 1):
        octets = (length + 7) // 8
        mask = (1 << bits) - (1 << bits - length)
        found.append((1 + octets, bits - 8 * octets, mask, length << 8 * octets))
    return found + [(BEYOND, 0, 0, 0)] * (255 - bits)


_SHAPES = {bits: _shapes(bits) for bits in AFI}


def encode_prefixes(prefixes: Iterable[Prefix]) -> bytes:
    shapes, parts = _SHAPES, list[bytes]()
    for bits, value, length in prefixes:
        size, shift, _, front = shapes[bits][length]
        parts.append((value >> shift | front).to_bytes(size, "big"))
    return b"".join(parts)


def decode_prefixes(data: bytes, bits: int = 32) -> tuple[Prefix, ...]:
    """Raises BgpError: where one begins depends on all before it."""
    shapes, found, at, end = _SHAPES[bits], list[Prefix](), 0, len(data)
    read, make, last = int.from_bytes, tuple.__new__, -1
    while at < end:
        length = data[at]
        size, shift, mask, _ = shapes[length]
        if length == last and size in _WORDS:
            # Most tables have long runs of one length: these are words of one size.
            same = data[at : at + _RUN * size : size]
            count = min(len(same) - len(same.lstrip(same[:1])), (end - at) // size)
            words = unpack_from(f">{count}{_WORDS[size]}", data, at)
            found += [make(Prefix, (bits, word << shift & mask, length)) for word in words]
            at += count * size
            last = -1
            continue
        last = length
        after = at + size
        # RFC 4271 section 4.3: bits beyond the length are irrelevant. Those of the length itself
        # are in front of what counts.
        value = read(data[at:after], "big") << shift & mask
        found.append(make(Prefix, (bits, value, length)))
        at = after
    if at > end:
        length = found[-1].length
        what = (
            f"a prefix of {length} bits is cut off"
            if length <= bits
            else f"a prefix length of {length}"
        )
        raise BgpError(UPDATE_ERROR, NETWORK, what)
    return tuple(found)


def encode_reach(reach: Reach) -> bytes:
    bits = reach.prefixes[0].bits
    hop = reach.next_hop.value.to_bytes(reach.next_hop.bits // 8, "big")
    head = AFI[bits].to_bytes(2, "big") + bytes((UNICAST, len(hop)))
    return head + hop + b"\0" + encode_prefixes(reach.prefixes)


def decode_reach(value: bytes, families: Collection[int]) -> Reach | None:
    """Return None for a family that is none of these, whatever it holds. Raises BgpError: what
    cannot be taken apart may hide any route (RFC 7606 section 7.11)."""
    cursor = Cursor(value)
    try:
        afi, safi = cursor.u16("address family"), cursor.u8("subsequent address family")
        bits = BITS.get(afi)
        if bits not in families or bits is None or safi != UNICAST:
            return None
        hop = cursor.take(cursor.u8("next hop length"), "next hop")
        cursor.u8("reserved byte")
    except ReadError as error:
        raise BgpError(UPDATE_ERROR, OPTIONAL_ATTRIBUTE, f"MP_REACH_NLRI: {error}") from error
    return Reach(_next_hop(hop, bits), decode_prefixes(cursor.rest(), bits))


def _next_hop(hop: bytes, bits: int) -> Address:
    """A link-local address may stand behind a global one (RFC 2545 section 3)."""
    if len(hop) == 4 and bits == 32:
        return Address(32, int.from_bytes(hop, "big"))
    if len(hop) in (16, 32):
        return Address(128, int.from_bytes(hop[:16], "big"))
    what = f"MP_REACH_NLRI with a next hop of {len(hop)} bytes"
    raise BgpError(UPDATE_ERROR, OPTIONAL_ATTRIBUTE, what)


def decode_hop_on_file(value: bytes) -> Address:
    """Decode it as in tables on file, which leave out all but the next hop (RFC 6396 section
    4.3.4), or have the attribute as it came. Raises BgpError."""
    if value and value[0] == len(value) - 1:
        return _next_hop(value[1:], 128)
    whole = decode_reach(value, tuple(AFI))
    if whole is None:
        what = "MP_REACH_NLRI is neither a next hop alone nor of a family that is read here"
        raise BgpError(UPDATE_ERROR, OPTIONAL_ATTRIBUTE, what)
    return whole.next_hop


def encode_unreach(prefixes: tuple[Prefix, ...]) -> bytes:
    """Encode withdrawn IPv6 prefixes. Without any it is the End-of-RIB marker (RFC 4724 section
    2)."""
    return AFI[128].to_bytes(2, "big") + bytes((UNICAST,)) + encode_prefixes(prefixes)


def decode_unreach(value: bytes, families: Collection[int]) -> tuple[Prefix, ...] | None:
    """Return None for a family that is none of these. Raises BgpError."""
    if len(value) < 3:
        raise BgpError(UPDATE_ERROR, OPTIONAL_ATTRIBUTE, "MP_UNREACH_NLRI without a family")
    bits = BITS.get(int.from_bytes(value[:2], "big"))
    if bits is None or bits not in families or value[2] != UNICAST:
        return None
    return decode_prefixes(value[3:], bits)


def bad_hop(hop: Address) -> bool:
    """Whether an address is none of a host: unspecified, multicast, broadcast, loopback of IPv6."""
    if hop.bits == 32:
        return hop.value == 0 or hop.value >> 28 == 14 or hop.value == 0xFFFFFFFF
    return hop.value <= 1 or hop.value >> 120 == 0xFF
