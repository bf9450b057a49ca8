"""Routes in use: the inetCidrRouteTable of IP-FORWARD-MIB (RFC 4292).

Its index says everything but the way out: destination, length, a policy, next hop.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from obrin.core.address.prefix import Address
from obrin.core.handover.standard.operational import BGP, DIRECT, STATIC, UsedRoute
from obrin.wire.errors import ReadError
from obrin.wire.mib.tables import (
    INTEGER,
    MIB_2,
    Cell,
    Column,
    Index,
    Oid,
    Values,
    cell,
    index_of,
    number,
)

_ROUTE: Oid = (*MIB_2, 4, 24, 7, 1)
IF_INDEX = Column(_ROUTE, 7, INTEGER)
TYPE = Column(_ROUTE, 8, INTEGER)
PROTOCOL = Column(_ROUTE, 9, INTEGER)
COLUMNS = (IF_INDEX, TYPE, PROTOCOL)
_ANY_POLICY: Oid = (2, 0, 0)
"""zeroDotZero with its length."""
_NO_HOP: Oid = (0, 0)
LOCAL, REMOTE = 3, 4
_SOURCES = {2: DIRECT, 3: STATIC, 14: BGP}
_PROTOCOLS = {source: value for value, source in _SOURCES.items()}
OTHER = 1


def encode(routes: Sequence[UsedRoute], indexes: Mapping[str, int]) -> Iterator[Cell]:
    """`indexes` are ifIndexes by the interface's name."""
    for route in routes:
        first = Address(route.prefix.bits, route.prefix.value)
        hop = _NO_HOP if route.next_hop is None else index_of(route.next_hop)
        row = (*index_of(first), route.prefix.length, *_ANY_POLICY, *hop)
        yield cell(IF_INDEX, row, indexes.get(route.interface, 0))
        yield cell(TYPE, row, LOCAL if route.next_hop is None else REMOTE)
        yield cell(PROTOCOL, row, _PROTOCOLS.get(route.source, OTHER))


def decode(values: Values, names: Mapping[int, str]) -> Iterator[UsedRoute]:
    """`names` are those of interfaces by ifIndex. Discarding routes are left out, and those of
    other families. Raises ReadError."""
    for row, out in IF_INDEX.rows(values):
        index = Index(row)
        first = index.address()
        length = index.take()
        index.skip_counted()
        hop = index.address()
        index.end()
        if first is None or values.get(TYPE.at(row), REMOTE) not in (LOCAL, REMOTE):
            continue
        if length > first.bits:
            raise ReadError(f"a route of {length} bits, {first.bits} are the most")
        protocol = number(values.get(PROTOCOL.at(row)))
        yield UsedRoute(
            prefix=first.network(length),
            interface=names.get(number(out), ""),
            next_hop=None if hop is None or hop.value == 0 else hop,
            source=_SOURCES.get(protocol, f"protocol {protocol}"),
        )
