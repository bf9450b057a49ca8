"""AS numbers in two octets and in four: AS paths, and who made an aggregate (RFC 6793).

AS_PATH and AGGREGATOR have two octets for a number on a session with an old peer, and AS_TRANS
where that is too few; AS4_PATH and AS4_AGGREGATOR then go beside them, with the true numbers.
"""

from __future__ import annotations

from collections.abc import Mapping

from obrin.core.routing.path import AS_TRANS, AsPath, AsSet, Carried, short
from obrin.wire.bgp.errors import TreatAsWithdraw
from obrin.wire.bgp.kinds import AGGREGATOR, AS4_AGGREGATOR, BAD_AS_PATH
from obrin.wire.cursor import Cursor
from obrin.wire.errors import ReadError

AS_SET, AS_SEQUENCE = 1, 2


def encode_as_path(as_path: AsPath, size: int) -> bytes:
    segments: list[tuple[int, list[int]]] = []
    for hop in as_path:
        if isinstance(hop, AsSet):
            segments.append((AS_SET, sorted(hop)))
        elif segments and segments[-1][0] == AS_SEQUENCE and len(segments[-1][1]) < 255:
            segments[-1][1].append(hop)
        else:
            segments.append((AS_SEQUENCE, [hop]))
    return b"".join(
        bytes((kind, len(part)))
        + b"".join((asn if size == 4 else short(asn)).to_bytes(size, "big") for asn in part)
        for kind, part in segments
    )


def decode_as_path(data: bytes, size: int) -> AsPath:
    """Raises TreatAsWithdraw (RFC 7606 section 7.2; AS 0: RFC 7607)."""
    cursor = Cursor(data)
    found: list[int | AsSet] = []
    try:
        while cursor.remaining():
            kind, count = cursor.u8(), cursor.u8()
            if kind not in (AS_SET, AS_SEQUENCE) or not count:
                raise TreatAsWithdraw(f"AS path segment type {kind} of {count}", BAD_AS_PATH)
            members = [int.from_bytes(cursor.take(size), "big") for _ in range(count)]
            if 0 in members:
                raise TreatAsWithdraw("AS number 0 in the AS path", BAD_AS_PATH)
            found += members if kind == AS_SEQUENCE else [AsSet(members)]
    except ReadError as error:
        raise TreatAsWithdraw(f"AS path: {error}", BAD_AS_PATH) from error
    return tuple(found)


def with_as4(as_path: AsPath, raw: bytes, faults: list[str]) -> AsPath:
    """RFC 6793 section 4.2.3: the 4-octet path replaces the tail of the short one."""
    try:
        real = decode_as_path(raw, 4)
    except TreatAsWithdraw as fault:
        faults.append(f"AS4_PATH: {fault}")
        return as_path
    if len(real) > len(as_path):
        return as_path
    return as_path[: len(as_path) - len(real)] + real


def aggregator_is_real(carried: list[Carried], values: Mapping[int, bytes]) -> bool:
    """RFC 6793 section 4.2.3: beside AS4_AGGREGATOR, an AGGREGATOR that is not AS_TRANS says that
    somebody who does not know the 4-octet attributes aggregated since: they are stale."""
    aggregator = next((value for _, kind, value in carried if kind == AGGREGATOR), None)
    if aggregator is None or AS4_AGGREGATOR not in values:
        return False
    return int.from_bytes(aggregator[:2], "big") != AS_TRANS


def with_aggregator(
    carried: list[Carried], values: Mapping[int, bytes], faults: list[str], size: int
) -> list[Carried]:
    """AGGREGATOR with four octets for the AS number, whatever it came with (RFC 6793 section
    4.2.3). Nothing hangs on it, so a wrong one is noted and thrown away (RFC 7606 section 7.7, RFC
    7607)."""
    made: list[Carried] = []
    wide = values.get(AS4_AGGREGATOR)
    if wide is not None and (len(wide) != 8 or not any(wide[:4])):
        faults.append(f"attribute {AS4_AGGREGATOR} names no AS and address")
        wide = None
    for flags, kind, value in carried:
        if kind == AGGREGATOR:
            if len(value) != size + 4 or not any(value[:size]):
                faults.append(f"attribute {AGGREGATOR} names no AS and address")
                continue
            if size == 2:
                is_trans = int.from_bytes(value[:2], "big") == AS_TRANS
                value = wide if is_trans and wide is not None else b"\0\0" + value
        made.append((flags, kind, value))
    return made


def narrow_aggregator(value: bytes) -> list[tuple[int, bytes]]:
    """Types and values for who has two octets for an AS number (RFC 6793 section 4.2.2)."""
    asn = int.from_bytes(value[:4], "big")
    aggregator = [(AGGREGATOR, short(asn).to_bytes(2, "big") + value[4:])]
    return aggregator if short(asn) == asn else [*aggregator, (AS4_AGGREGATOR, value)]
