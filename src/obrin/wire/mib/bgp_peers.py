"""BGP neighbours and the paths that they advertised: BGP4-MIB (RFC 4273), which knows IPv4 only.

Its AS paths have two octets for a number, so that of any longer one stands AS_TRANS (RFC 6793).
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from obrin.core.address.prefix import Address, Prefix
from obrin.core.handover.standard.operational import NeighbourState
from obrin.core.known import NotKnown, known
from obrin.core.routing.path import DEFAULT_LOCAL_PREF, AsPath, AsSet, Origin, Path, short
from obrin.wire.bgp.errors import error_name
from obrin.wire.cursor import Cursor
from obrin.wire.errors import ReadError
from obrin.wire.mib.tables import (
    INTEGER,
    IPV4,
    MIB_2,
    OCTETS,
    Cell,
    Column,
    Index,
    Oid,
    Value,
    Values,
    address_from,
    cell,
    number,
    octets_of,
)

_PEER: Oid = (*MIB_2, 15, 3, 1)
_PATH: Oid = (*MIB_2, 15, 6, 1)
STATE = Column(_PEER, 2, INTEGER)
LAST_ERROR = Column(_PEER, 14, OCTETS)
ORIGIN = Column(_PATH, 4, INTEGER)
AS_PATH = Column(_PATH, 5, OCTETS)
NEXT_HOP = Column(_PATH, 6, IPV4)
MED = Column(_PATH, 7, INTEGER)
LOCAL_PREF = Column(_PATH, 8, INTEGER)
COLUMNS = (STATE, LAST_ERROR, ORIGIN, AS_PATH, NEXT_HOP, MED, LOCAL_PREF)
STATES = {
    1: "idle",
    2: "connect",
    3: "active",
    4: "opensent",
    5: "openconfirm",
    6: "established",
}
_NUMBERS = {state: number for number, state in STATES.items()}
NONE = -1
"""Value of MED and LOCAL_PREF where the path has none."""
_SET, _SEQUENCE = 1, 2


def encode(neighbours: Sequence[NeighbourState]) -> Iterator[Cell]:
    """Cells for IPv4 neighbours; what is reported beside a neighbour's address is left out."""
    for one in neighbours:
        if one.address.bits != 32:
            continue
        peer = tuple(octets_of(one.address))
        yield cell(STATE, peer, _NUMBERS.get(known(one.state, ""), 1))
        yield cell(LAST_ERROR, peer, b"\0\0")
        for prefix, path in (one.learned or {}).items():
            if prefix.bits == 32:
                octets = prefix.value.to_bytes(4, "big")
                yield from _path(path, (*octets, prefix.length, *peer))


def _path(path: Path, row: Oid) -> Iterator[Cell]:
    yield cell(ORIGIN, row, path.origin + 1)
    yield cell(AS_PATH, row, _segments(path.as_path))
    yield cell(NEXT_HOP, row, (path.next_hop & 0xFFFFFFFF).to_bytes(4, "big"))
    yield cell(MED, row, NONE if path.med is None else min(path.med, 0x7FFFFFFF))
    yield cell(LOCAL_PREF, row, path.local_pref)


def _segments(as_path: AsPath) -> bytes:
    found = bytearray()
    run: list[int] = []
    for hop in (*as_path, None):
        if isinstance(hop, int):
            run.append(short(hop))
            continue
        if run:
            found += bytes((_SEQUENCE, len(run))) + _numbers(run)
            run = []
        if hop is not None:
            found += bytes((_SET, len(hop))) + _numbers(sorted(map(short, hop)))
    return bytes(found)


def _numbers(asns: Sequence[int]) -> bytes:
    return b"".join(asn.to_bytes(2, "big") for asn in asns)


def decode(values: Values) -> Iterator[NeighbourState]:
    """Raises ReadError for anything else."""
    learned: dict[Address, dict[Prefix, Path]] = {}
    paths = False
    for row, origin in ORIGIN.rows(values):
        paths = True
        index = Index(row)
        first, length = address_from(index.octets(4)), index.take()
        peer = address_from(index.octets(4))
        index.end()
        if length > 32:
            raise ReadError(f"a path to a prefix of {length} bits, 32 are the most")
        learned.setdefault(peer, {})[first.network(length)] = _path_of(values, row, number(origin))
    for row, state in STATE.rows(values):
        index = Index(row)
        peer = address_from(index.octets(4))
        index.end()
        error = values.get(LAST_ERROR.at(row), b"")
        yield NeighbourState(
            address=peer,
            state=_state(number(state)),
            learned=learned.get(peer, {}) if paths else None,
            last_error=_error(error),
        )


def _state(value: int) -> str | NotKnown:
    return STATES.get(value, NotKnown(f"its bgpPeerState is {value}, which is not a state"))


def _error(value: Value) -> str:
    if not isinstance(value, bytes) or len(value) != 2 or not value[0]:
        return ""
    return error_name(value[0], value[1])


def _path_of(values: Values, row: Oid, origin: int) -> Path:
    def maybe(column: Column) -> int | None:
        found = number(values.get(column.at(row), NONE))
        return None if found < 0 else found

    segments, hop = values.get(AS_PATH.at(row), b""), values.get(NEXT_HOP.at(row), b"\0\0\0\0")
    if not isinstance(segments, bytes) or not isinstance(hop, bytes):
        raise ReadError("a path whose AS path or next hop is a number")
    preference = maybe(LOCAL_PREF)
    return Path(
        next_hop=address_from(hop).value,
        as_path=_as_path(segments),
        origin=Origin(min(max(origin, 1), 3) - 1),
        med=maybe(MED),
        local_pref=DEFAULT_LOCAL_PREF if preference is None else preference,
    )


def _as_path(data: bytes) -> AsPath:
    cursor, found = Cursor(data), list[int | AsSet]()
    while cursor.remaining():
        kind, count = cursor.u8("segment type"), cursor.u8("segment length")
        hops = [cursor.u16("AS number") for _ in range(count)]
        if kind == _SET:
            found.append(AsSet(hops))
        elif kind == _SEQUENCE:
            found += hops
        else:
            raise ReadError(f"a segment of type {kind} in an AS path")
    return tuple(found)
