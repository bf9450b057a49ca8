"""Routes in use: the inetCidrRouteTable of IP-FORWARD-MIB (RFC 4292).

Its index says everything but the way out: destination, length, a policy, next hop.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace

from obrin.core.address.prefix import Address, Prefix
from obrin.core.handover.standard.operational import BGP, DIRECT, STATIC, UsedRoute
from obrin.core.known import NotKnown, Verdict, all_of
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
METRIC = Column(_ROUTE, 12, INTEGER)
"""inetCidrRouteMetric1."""
COLUMNS = (IF_INDEX, TYPE, PROTOCOL, METRIC)
NO_METRIC = -1
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
        yield cell(METRIC, row, NO_METRIC)


def decode(values: Values, names: Mapping[int, str]) -> Iterator[UsedRoute]:
    """`names` are those of interfaces by ifIndex. Discarding routes are left out, those of other
    families, and those of a higher metric than another of their protocol. Raises ReadError."""
    listed: dict[Prefix, list[tuple[int, UsedRoute]]] = {}
    for route, metric in _listed(values, names):
        listed.setdefault(route.prefix, []).append((metric, route))
    for ways in listed.values():
        protocols = {route.source for _, route in ways}
        least = {source: min(_known(ways, source), default=NO_METRIC) for source in protocols}
        which: Verdict = True
        if len(protocols) > 1:
            which = NotKnown(f"it lists it by {' and by '.join(sorted(protocols))}")
        for metric, route in ways:
            if metric in (NO_METRIC, least[route.source]):
                yield replace(route, used=all_of((route.used, which)))


def _known(ways: Sequence[tuple[int, UsedRoute]], source: str) -> Iterator[int]:
    return (metric for metric, r in ways if r.source == source and metric != NO_METRIC)


def _listed(values: Values, names: Mapping[int, str]) -> Iterator[tuple[UsedRoute, int]]:
    """Every route with its metric. One whose type is not reported may discard."""
    rows = (row for column in COLUMNS for row, _ in column.rows(values))
    for row in dict.fromkeys(rows):
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
        route = UsedRoute(
            prefix=first.network(length),
            interface=names.get(number(values.get(IF_INDEX.at(row))), ""),
            next_hop=None if hop is None or hop.value == 0 else hop,
            source=_SOURCES.get(protocol, f"protocol {protocol}"),
            used=TYPE.at(row) in values or NotKnown("its inetCidrRouteType is not reported"),
        )
        yield route, number(values.get(METRIC.at(row), NO_METRIC))
