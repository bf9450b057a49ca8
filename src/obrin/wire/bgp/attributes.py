"""Path attributes (RFC 4271 section 4.3 and 5, RFC 6793 for 4-octet AS numbers, RFC 1997).

    | flags (1) | type (1) | length (1, or 2 with the extended bit) | value |

Sessions repeat attributes, so both directions are memoised.
"""

from __future__ import annotations

import functools
from dataclasses import dataclass

from obrin.core.routing.path import DEFAULT_LOCAL_PREF, Origin, Path
from obrin.wire.bgp.errors import UPDATE_ERROR, BgpError
from obrin.wire.cursor import Cursor
from obrin.wire.errors import ReadError

ORIGIN, AS_PATH, NEXT_HOP, MED, LOCAL_PREF, ATOMIC, AGGREGATOR, COMMUNITIES = range(1, 9)
AS4_PATH = 17
OPTIONAL, TRANSITIVE, PARTIAL, EXTENDED = 0x80, 0x40, 0x20, 0x10
AS_SET, AS_SEQUENCE = 1, 2
AS_TRANS = 23456

# type -> (flags that must be as given, fixed length or None). RFC 4271 section 6.3.
_KNOWN: dict[int, tuple[int, int | None]] = {
    ORIGIN: (TRANSITIVE, 1),
    AS_PATH: (TRANSITIVE, None),
    NEXT_HOP: (TRANSITIVE, 4),
    MED: (OPTIONAL, 4),
    LOCAL_PREF: (TRANSITIVE, 4),
    ATOMIC: (TRANSITIVE, 0),
    AGGREGATOR: (OPTIONAL | TRANSITIVE, None),
    COMMUNITIES: (OPTIONAL | TRANSITIVE, None),
    AS4_PATH: (OPTIONAL | TRANSITIVE, None),
}
MALFORMED_LIST, UNRECOGNISED, MISSING, FLAGS, LENGTH, BAD_ORIGIN, _, BAD_NEXT_HOP, _, NETWORK, \
    BAD_AS_PATH = range(1, 12)  # fmt: skip


@dataclass(frozen=True, slots=True)
class Attributes:
    """A path, and the optional transitive attributes not known here, kept as they came."""

    path: Path
    unknown: tuple[tuple[int, int, bytes], ...] = ()


def _attribute(flags: int, kind: int, value: bytes) -> bytes:
    if len(value) > 255:
        return bytes((flags | EXTENDED, kind)) + len(value).to_bytes(2, "big") + value
    return bytes((flags, kind, len(value))) + value


def _encode_as_path(as_path: tuple[int, ...], size: int) -> bytes:
    out = b""
    for start in range(0, len(as_path), 255):
        part = as_path[start : start + 255]
        out += bytes((AS_SEQUENCE, len(part))) + b"".join(
            (asn if size == 4 or asn < 65536 else AS_TRANS).to_bytes(size, "big") for asn in part
        )
    return out


@functools.lru_cache(maxsize=4096)
def encode_attributes(attributes: Attributes, *, four_octets: bool, internal: bool) -> bytes:
    """In ascending order of type, as section 5 asks."""
    path = attributes.path
    parts = [
        (ORIGIN, _attribute(TRANSITIVE, ORIGIN, bytes((path.origin,)))),
        (AS_PATH, _attribute(TRANSITIVE, AS_PATH,
                             _encode_as_path(path.as_path, 4 if four_octets else 2))),
        (NEXT_HOP, _attribute(TRANSITIVE, NEXT_HOP, path.next_hop.to_bytes(4, "big"))),
    ]  # fmt: skip
    if path.med is not None:
        parts.append((MED, _attribute(OPTIONAL, MED, path.med.to_bytes(4, "big"))))
    if internal:
        parts.append(
            (LOCAL_PREF, _attribute(TRANSITIVE, LOCAL_PREF, path.local_pref.to_bytes(4, "big")))
        )
    if path.communities:
        value = b"".join(c.to_bytes(4, "big") for c in path.communities)
        parts.append((COMMUNITIES, _attribute(OPTIONAL | TRANSITIVE, COMMUNITIES, value)))
    if not four_octets and any(asn > 65535 for asn in path.as_path):
        value = _encode_as_path(path.as_path, 4)
        parts.append((AS4_PATH, _attribute(OPTIONAL | TRANSITIVE, AS4_PATH, value)))
    for flags, kind, value in attributes.unknown:
        parts.append((kind, _attribute(flags & ~EXTENDED | PARTIAL, kind, value)))
    return b"".join(raw for _, raw in sorted(parts, key=lambda part: part[0]))


@functools.lru_cache(maxsize=4096)
def decode_attributes(data: bytes, *, four_octets: bool) -> Attributes:
    """Attributes of an UPDATE that announces something. Raises BgpError."""
    cursor = Cursor(data)
    values: dict[int, bytes] = {}
    unknown: list[tuple[int, int, bytes]] = []
    try:
        while cursor.remaining():
            start = cursor.position
            flags, kind = cursor.u8(), cursor.u8()
            length = cursor.u16() if flags & EXTENDED else cursor.u8()
            value = cursor.take(length, f"attribute {kind}")
            whole = data[start : cursor.position]
            if kind in values:
                raise BgpError(UPDATE_ERROR, MALFORMED_LIST, f"attribute {kind} stands twice")
            known = _KNOWN.get(kind)
            if known is None:
                if not flags & OPTIONAL:
                    raise BgpError(
                        UPDATE_ERROR, UNRECOGNISED, f"well-known attribute {kind} unknown", whole
                    )
                if flags & TRANSITIVE:
                    unknown.append((flags, kind, value))
                continue
            wanted, size = known
            if flags & (OPTIONAL | TRANSITIVE) != wanted:
                raise BgpError(UPDATE_ERROR, FLAGS, f"attribute {kind} has wrong flags", whole)
            if size is not None and length != size:
                raise BgpError(
                    UPDATE_ERROR, LENGTH, f"attribute {kind} has {length} bytes, not {size}", whole
                )
            values[kind] = value
    except ReadError as error:
        raise BgpError(UPDATE_ERROR, MALFORMED_LIST, str(error)) from error
    return Attributes(_path(values, four_octets=four_octets), tuple(unknown))


def _path(values: dict[int, bytes], *, four_octets: bool) -> Path:
    for kind in (ORIGIN, AS_PATH, NEXT_HOP):
        if kind not in values:
            raise BgpError(
                UPDATE_ERROR, MISSING, f"well-known attribute {kind} is missing", bytes((kind,))
            )
    origin = values[ORIGIN][0]
    if origin > Origin.INCOMPLETE:
        raise BgpError(UPDATE_ERROR, BAD_ORIGIN, f"origin {origin} does not exist")
    next_hop = int.from_bytes(values[NEXT_HOP], "big")
    if next_hop == 0 or next_hop >> 28 == 14 or next_hop == 0xFFFFFFFF:
        raise BgpError(UPDATE_ERROR, BAD_NEXT_HOP, "the next hop is not a host's address")
    as_path = _decode_as_path(values[AS_PATH], 4 if four_octets else 2)
    if not four_octets and AS4_PATH in values:
        # RFC 6793 section 4.2.3: the 4-octet path replaces the tail of the short one.
        real = _decode_as_path(values[AS4_PATH], 4)
        if len(real) <= len(as_path):
            as_path = as_path[: len(as_path) - len(real)] + real
    communities = values.get(COMMUNITIES, b"")
    if len(communities) % 4:
        raise BgpError(UPDATE_ERROR, LENGTH, "communities are 4 bytes each")
    return Path(
        next_hop,
        as_path,
        origin,
        int.from_bytes(values[MED], "big") if MED in values else None,
        int.from_bytes(values[LOCAL_PREF], "big") if LOCAL_PREF in values else DEFAULT_LOCAL_PREF,
        tuple(int.from_bytes(communities[i : i + 4], "big") for i in range(0, len(communities), 4)),
    )


def _decode_as_path(data: bytes, size: int) -> tuple[int, ...]:
    """An AS_SET counts as one hop (section 9.1.2.2) and is kept as its lowest member."""
    cursor = Cursor(data)
    found: list[int] = []
    try:
        while cursor.remaining():
            kind, count = cursor.u8(), cursor.u8()
            if kind not in (AS_SET, AS_SEQUENCE) or not count:
                raise BgpError(UPDATE_ERROR, BAD_AS_PATH, f"AS path segment type {kind}")
            members = [int.from_bytes(cursor.take(size), "big") for _ in range(count)]
            found += members if kind == AS_SEQUENCE else [min(members)]
    except ReadError as error:
        raise BgpError(UPDATE_ERROR, BAD_AS_PATH, str(error)) from error
    return tuple(found)
