"""Path attributes (RFC 4271 section 4.3 and 5, RFC 6793 for 4-octet AS numbers, RFC 1997).

    | flags (1) | type (1) | length (1, or 2 with the extended bit) | value |

What is wrong with one costs as little as can be (RFC 7606): a fault of an attribute that decides
nothing throws that attribute away; a fault of one that decides takes the routes away that it came
with; only what makes the list of routes itself uncertain ends the session.

Sessions repeat attributes, so both directions are memoised.
"""

from __future__ import annotations

import functools
from dataclasses import dataclass

from obrin.core.address.prefix import Address, Prefix
from obrin.core.routing.path import DEFAULT_LOCAL_PREF, Carried, Origin, Path, ases
from obrin.wire.bgp.as_numbers import (
    aggregator_is_real,
    decode_as_path,
    encode_as_path,
    narrow_aggregator,
    with_aggregator,
    with_as4,
)
from obrin.wire.bgp.errors import UPDATE_ERROR, BgpError, TreatAsWithdraw
from obrin.wire.bgp.kinds import (
    AGGREGATOR,
    AS4_AGGREGATOR,
    AS4_PATH,
    AS_PATH,
    ATOMIC,
    BAD_NEXT_HOP,
    BAD_ORIGIN,
    CLUSTER_LIST,
    COMMUNITIES,
    EXTENDED,
    EXTENDED_COMMUNITIES,
    FLAGS,
    LARGE_COMMUNITIES,
    LENGTH,
    LOCAL_PREF,
    MALFORMED_LIST,
    MED,
    MISSING,
    MP_REACH,
    MP_UNREACH,
    NEXT_HOP,
    OPTIONAL,
    ORIGIN,
    ORIGINATOR_ID,
    PARTIAL,
    TRANSITIVE,
    UNRECOGNISED,
)
from obrin.wire.bgp.multiprotocol import (
    Reach,
    bad_hop,
    decode_hop_on_file,
    decode_reach,
    decode_unreach,
    encode_reach,
    encode_unreach,
)
from obrin.wire.cursor import Cursor
from obrin.wire.errors import ReadError

# type -> flags that must be as given (RFC 7606 section 3, point c).
_FLAGS: dict[int, int] = {
    ORIGIN: TRANSITIVE,
    AS_PATH: TRANSITIVE,
    NEXT_HOP: TRANSITIVE,
    MED: OPTIONAL,
    LOCAL_PREF: TRANSITIVE,
    ATOMIC: TRANSITIVE,
    AGGREGATOR: OPTIONAL | TRANSITIVE,
    COMMUNITIES: OPTIONAL | TRANSITIVE,
    ORIGINATOR_ID: OPTIONAL,
    CLUSTER_LIST: OPTIONAL,
    MP_REACH: OPTIONAL,
    MP_UNREACH: OPTIONAL,
    EXTENDED_COMMUNITIES: OPTIONAL | TRANSITIVE,
    AS4_PATH: OPTIONAL | TRANSITIVE,
    AS4_AGGREGATOR: OPTIONAL | TRANSITIVE,
    LARGE_COMMUNITIES: OPTIONAL | TRANSITIVE,
}
# type -> lengths that are right; or a unit of which it must be one or more (RFC 7606 section 7).
_LENGTHS: dict[int, tuple[int, ...]] = {
    ORIGIN: (1,),
    NEXT_HOP: (4,),
    MED: (4,),
    LOCAL_PREF: (4,),
    ATOMIC: (0,),
    ORIGINATOR_ID: (4,),
    AS4_AGGREGATOR: (8,),
}
_UNITS = {COMMUNITIES: 4, CLUSTER_LIST: 4, EXTENDED_COMMUNITIES: 8, LARGE_COMMUNITIES: 12}
# Their faults cost only themselves (RFC 7606 sections 7.6 and 7.7; RFC 6793 section 6).
_DISCARDED_ALONE = {ATOMIC, AGGREGATOR, AS4_PATH, AS4_AGGREGATOR}
# Not for us from another AS, right or wrong (RFC 7606 sections 7.5, 7.9 and 7.10).
_INTERNAL_ONLY = {LOCAL_PREF, ORIGINATOR_ID, CLUSTER_LIST}
# Passed on unseen: they are not of this speaker's own decision (RFC 4271 section 5).
_CARRIED = {ATOMIC, AGGREGATOR, EXTENDED_COMMUNITIES, LARGE_COMMUNITIES}


@dataclass(frozen=True, slots=True)
class Attributes:
    """A path; `faults` says what was thrown away, and why."""

    path: Path
    faults: tuple[str, ...] = ()


def encode_reaching(reach: Reach) -> bytes:
    """The attribute MP_REACH_NLRI, which stands before all others (RFC 7606 section 5.1)."""
    return _attribute(OPTIONAL, MP_REACH, encode_reach(reach))


def encode_withdrawing(prefixes: tuple[Prefix, ...]) -> bytes:
    """The attribute MP_UNREACH_NLRI."""
    return _attribute(OPTIONAL, MP_UNREACH, encode_unreach(prefixes))


def _attribute(flags: int, kind: int, value: bytes) -> bytes:
    if len(value) > 255:
        return bytes((flags | EXTENDED, kind)) + len(value).to_bytes(2, "big") + value
    return bytes((flags, kind, len(value))) + value


@functools.lru_cache(maxsize=4096)
def encode_attributes(
    attributes: Attributes, *, four_octets: bool, internal: bool, hop: bool = True
) -> bytes:
    """Encode in ascending order of type, as section 5 asks; without NEXT_HOP where not `hop`:
    that is for MP_REACH_NLRI, which has its own."""
    path = attributes.path
    parts = [
        (ORIGIN, _attribute(TRANSITIVE, ORIGIN, bytes((path.origin,)))),
        (
            AS_PATH,
            _attribute(TRANSITIVE, AS_PATH, encode_as_path(path.as_path, 4 if four_octets else 2)),
        ),
    ]
    if hop:
        parts.append((NEXT_HOP, _attribute(TRANSITIVE, NEXT_HOP, path.next_hop.to_bytes(4, "big"))))
    if path.med is not None:
        parts.append((MED, _attribute(OPTIONAL, MED, path.med.to_bytes(4, "big"))))
    if internal:
        parts.append(
            (LOCAL_PREF, _attribute(TRANSITIVE, LOCAL_PREF, path.local_pref.to_bytes(4, "big")))
        )
    if path.communities:
        value = b"".join(c.to_bytes(4, "big") for c in path.communities)
        parts.append((COMMUNITIES, _attribute(OPTIONAL | TRANSITIVE, COMMUNITIES, value)))
    if not four_octets and any(asn > 65535 for asn in ases(path.as_path)):
        value = encode_as_path(path.as_path, 4)
        parts.append((AS4_PATH, _attribute(OPTIONAL | TRANSITIVE, AS4_PATH, value)))
    for flags, kind, value in path.carried:
        flags &= ~EXTENDED
        if kind not in _FLAGS:  # it went through somebody who does not know it (section 5)
            flags |= PARTIAL
        if kind == AGGREGATOR and not four_octets:
            parts += [(k, _attribute(flags, k, v)) for k, v in narrow_aggregator(value)]
        else:
            parts.append((kind, _attribute(flags, kind, value)))
    return b"".join(raw for _, raw in sorted(parts, key=lambda part: part[0]))


@dataclass(frozen=True, slots=True)
class Decoded:
    """What the attributes of an UPDATE say. `attributes` are None where they are of no route that
    is known here; `reach` is announced and `gone` withdrawn by them themselves (RFC 4760). With
    nothing in them, they say that all of a family has been sent: it `ends`, in bits."""

    attributes: Attributes | None
    reach: Reach | None = None
    gone: tuple[Prefix, ...] = ()
    faults: tuple[str, ...] = ()
    ends: int = 0


@functools.lru_cache(maxsize=4096)
def decode_all(
    data: bytes,
    *,
    four_octets: bool,
    internal: bool = True,
    families: tuple[int, ...] = (32, 128),
    beside_routes: bool = True,
) -> Decoded:
    """Attributes of an UPDATE; `beside_routes` of IPv4, or of those in MP_REACH_NLRI alone.

    `internal`: from a peer of our own AS. `families` are those that were agreed on. Raises
    TreatAsWithdraw for a fault that costs the routes, and another BgpError for one that costs the
    session.
    """
    values, carried, faults, worst = _values(data, internal=internal, hop_counts=beside_routes)
    reaching, leaving = values.pop(MP_REACH, None), values.pop(MP_UNREACH, None)
    reach = None if reaching is None else decode_reach(reaching, families)
    gone = None if leaving is None else decode_unreach(leaving, families)
    for raw, found in ((reaching, reach), (leaving, gone)):
        if raw is not None and found is None:
            faults.append("routes of a family that was not agreed on")
    alone = NEXT_HOP not in values and reach is None and (reaching or leaving) is not None
    if alone and worst is None:
        ends = 128 if gone == () and not values else 0
        return Decoded(None, None, gone or (), tuple(faults), ends)
    lost = (*(gone or ()), *(reach.prefixes if reach is not None else ()))
    path = None
    try:
        hop = None if reach is None or NEXT_HOP in values else reach.next_hop
        path = _path(values, carried, faults, four_octets=four_octets, hop=hop)
        if reach is not None and bad_hop(reach.next_hop):
            raise TreatAsWithdraw("the next hop is not a host's address", BAD_NEXT_HOP)
    except TreatAsWithdraw as fault:
        worst = worst or fault
    if worst is not None or path is None:
        worst = worst or TreatAsWithdraw("no path")
        raise TreatAsWithdraw(str(worst), worst.subcode, lost)
    made = Attributes(path, tuple(faults))
    return Decoded(made, reach, gone or (), tuple(faults))


def decode_attributes(data: bytes, *, four_octets: bool, internal: bool = True) -> Attributes:
    """Return those of routes that stand beside them; raises as `decode_all`."""
    found = decode_all(data, four_octets=four_octets, internal=internal).attributes
    if found is None:
        raise TreatAsWithdraw(f"well-known attribute {NEXT_HOP} is missing", MISSING)
    return found


def decode_on_file(data: bytes) -> Path:
    """Encode them as in tables on file: AS paths have four octets, and of MP_REACH_NLRI there is
    the next hop alone (RFC 6396 section 4.3.4); many have all of it. Raises BgpError."""
    if not data:  # a route of the router that made the table
        return Path(0)
    values, carried, faults, worst = _values(data, internal=True)
    raw = values.pop(MP_REACH, None)
    hop = None if raw is None else decode_hop_on_file(raw)
    if worst is not None:
        raise worst
    return _path(values, carried, faults, four_octets=True, hop=hop)


def encode_on_file(path: Path, bits: int) -> bytes:
    """The inverse, for a path to a prefix of a family."""
    made = Attributes(path)
    raw = encode_attributes(made, four_octets=True, internal=True, hop=bits == 32)
    if bits == 32:
        return raw
    return raw + _attribute(OPTIONAL, MP_REACH, b"\x10" + path.next_hop.to_bytes(16, "big"))


Values = dict[int, bytes]


def _values(
    data: bytes, *, internal: bool, hop_counts: bool = True
) -> tuple[Values, list[Carried], list[str], TreatAsWithdraw | None]:
    """(by type, passed on unseen, what was thrown away, the first fault that costs the routes).

    NEXT_HOP is ignored, right or wrong, where it does not count: beside MP_REACH_NLRI and no IPv4
    routes (RFC 4760 section 3).

    The whole list is gone through: a later attribute may have a graver fault (section 3, point h).
    """
    cursor = Cursor(data)
    values: Values = {}
    carried: list[Carried] = []
    faults: list[str] = []
    worst: TreatAsWithdraw | None = None
    hop_fault: TreatAsWithdraw | None = None
    seen: set[int] = set()
    try:
        while cursor.remaining():
            start = cursor.position
            flags, kind = cursor.u8(), cursor.u8()
            length = cursor.u16() if flags & EXTENDED else cursor.u8()
            value = cursor.take(length, f"attribute {kind}")
            if kind in seen:
                if kind in (MP_REACH, MP_UNREACH):
                    raise BgpError(UPDATE_ERROR, MALFORMED_LIST, f"attribute {kind} stands twice")
                faults.append(f"attribute {kind} stands twice; the first counts")
                continue
            seen.add(kind)
            if kind not in _FLAGS:
                if not flags & OPTIONAL:
                    whole = data[start : cursor.position]
                    raise BgpError(
                        UPDATE_ERROR, UNRECOGNISED, f"well-known attribute {kind} unknown", whole
                    )
                if flags & TRANSITIVE:
                    carried.append((flags, kind, value))
                continue
            fault, subcode = _fault(flags, kind, value)
            if kind in _INTERNAL_ONLY and not internal:
                faults.append(f"attribute {kind} from another AS")
            elif fault and kind in _DISCARDED_ALONE:
                faults.append(fault)
            elif fault and kind == NEXT_HOP:
                hop_fault = TreatAsWithdraw(fault, subcode)
            elif fault:
                worst = worst or TreatAsWithdraw(fault, subcode)
            elif kind in _CARRIED:
                carried.append((flags, kind, value))
            else:
                values[kind] = value
    except ReadError as error:
        # Section 4: the length of the whole list still says where the routes begin.
        worst = worst or TreatAsWithdraw(str(error))
    if MP_REACH in seen and not hop_counts:
        values.pop(NEXT_HOP, None)
    else:
        worst = worst or hop_fault
    return values, carried, faults, worst


def _fault(flags: int, kind: int, value: bytes) -> tuple[str, int]:
    """(what is wrong, its subcode); both empty for an attribute that is right."""
    if flags & (OPTIONAL | TRANSITIVE) != _FLAGS[kind]:
        return f"attribute {kind} has wrong flags", FLAGS
    lengths, unit = _LENGTHS.get(kind), _UNITS.get(kind)
    if lengths is not None and len(value) not in lengths:
        return f"attribute {kind} has {len(value)} bytes, not {lengths[0]}", LENGTH
    if unit is not None and (not value or len(value) % unit):
        what = f"attribute {kind} has {len(value)} bytes; one or more times {unit} are allowed"
        return what, LENGTH
    return "", 0


def _path(
    values: Values,
    carried: list[Carried],
    faults: list[str],
    *,
    four_octets: bool,
    hop: Address | None = None,
) -> Path:
    """`hop` where it does not stand among the values. Raises TreatAsWithdraw."""
    for kind in (ORIGIN, AS_PATH, NEXT_HOP):
        if kind not in values and not (kind == NEXT_HOP and hop is not None):
            raise TreatAsWithdraw(f"well-known attribute {kind} is missing", MISSING)
    origin = values[ORIGIN][0]
    if origin > Origin.INCOMPLETE:
        raise TreatAsWithdraw(f"origin {origin} does not exist", BAD_ORIGIN)
    next_hop = hop or Address(32, int.from_bytes(values[NEXT_HOP], "big"))
    if bad_hop(next_hop):
        raise TreatAsWithdraw("the next hop is not a host's address", BAD_NEXT_HOP)
    as_path = decode_as_path(values[AS_PATH], 4 if four_octets else 2)
    if AS4_PATH in values:
        if four_octets:
            faults.append("AS4_PATH from a peer with 4-octet AS numbers")
        elif not aggregator_is_real(carried, values):
            as_path = with_as4(as_path, values[AS4_PATH], faults)
    carried = with_aggregator(carried, values, faults, 4 if four_octets else 2)
    communities = values.get(COMMUNITIES, b"")
    return Path(
        next_hop.value,
        as_path,
        origin,
        int.from_bytes(values[MED], "big") if MED in values else None,
        int.from_bytes(values[LOCAL_PREF], "big") if LOCAL_PREF in values else DEFAULT_LOCAL_PREF,
        tuple(int.from_bytes(communities[i : i + 4], "big") for i in range(0, len(communities), 4)),
        tuple(sorted(carried, key=lambda one: one[1])),
    )
