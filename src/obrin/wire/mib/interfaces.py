"""Interfaces and their addresses: IF-MIB (RFC 2863) and the ipAddressTable of IP-MIB (RFC 4293)."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from obrin.core.address.prefix import Address
from obrin.core.handover.standard.operational import InterfaceState
from obrin.core.known import NotKnown, Verdict
from obrin.wire.errors import ReadError
from obrin.wire.mib.tables import (
    COUNTER32,
    COUNTER64,
    INTEGER,
    MIB_2,
    OCTETS,
    Cell,
    Column,
    Index,
    Oid,
    Values,
    address_from,
    cell,
    index_of,
    number,
    text,
)

_IF: Oid = (*MIB_2, 2, 2, 1)
_IFX: Oid = (*MIB_2, 31, 1, 1, 1)
_ADDRESS: Oid = (*MIB_2, 4, 34, 1)
_OLD_ADDRESS: Oid = (*MIB_2, 4, 20, 1)
IF_DESCR = Column(_IF, 2, OCTETS)
IF_OPER_STATUS = Column(_IF, 8, INTEGER)
IF_IN = Column(_IF, 11, COUNTER32)
IF_OUT = Column(_IF, 17, COUNTER32)
IF_NAME = Column(_IFX, 1, OCTETS)
IF_HC_IN = Column(_IFX, 7, COUNTER64)
IF_HC_OUT = Column(_IFX, 11, COUNTER64)
IF_ALIAS = Column(_IFX, 18, OCTETS)
IP_ADDRESS_IF_INDEX = Column(_ADDRESS, 3, INTEGER)
IP_ADDRESS_TYPE = Column(_ADDRESS, 4, INTEGER)
OLD_IF_INDEX = Column(_OLD_ADDRESS, 2, INTEGER)
"""ipAdEntIfIndex, IPv4 only: deprecated, and still all that many devices have."""
COLUMNS = (
    IF_DESCR,
    IF_OPER_STATUS,
    IF_IN,
    IF_OUT,
    IF_NAME,
    IF_HC_IN,
    IF_HC_OUT,
    IF_ALIAS,
    IP_ADDRESS_IF_INDEX,
    IP_ADDRESS_TYPE,
    OLD_IF_INDEX,
)
UP, DOWN, UNKNOWN, UNICAST = 1, 2, 4, 1
_STATUSES = {
    UP: "up",
    DOWN: "down",
    3: "testing",
    UNKNOWN: "unknown",
    5: "dormant",
    6: "notPresent",
    7: "lowerLayerDown",
}
"""Values of ifOperStatus (RFC 2863 section 6)."""


def encode(interfaces: Sequence[InterfaceState]) -> Iterator[Cell]:
    """Their ifIndex counts from 1."""
    for place, one in enumerate(interfaces, 1):
        row = (place,)
        for column in (IF_DESCR, IF_NAME):
            yield cell(column, row, one.name.encode())
        unknown = isinstance(one.up, NotKnown)
        yield cell(IF_OPER_STATUS, row, UNKNOWN if unknown else UP if one.up else DOWN)
        counters = (one.packets_in, IF_IN, IF_HC_IN), (one.packets_out, IF_OUT, IF_HC_OUT)
        for count, short, long in counters:
            if not isinstance(count, NotKnown):
                yield cell(short, row, count % (1 << 32))
                yield cell(long, row, count)
        yield cell(IF_ALIAS, row, one.description.encode())
        for address in one.addresses:
            yield cell(IP_ADDRESS_IF_INDEX, index_of(address), place)
            yield cell(IP_ADDRESS_TYPE, index_of(address), UNICAST)


def decode(values: Values) -> dict[int, InterfaceState]:
    """Read the interfaces, by ifIndex; each of which anything is reported. Raises ReadError for
    values that are not such a table."""
    held = addresses_in(values)
    own = (column for column in COLUMNS if column.table in (_IF, _IFX))
    indexes = {place(row) for column in own for row, _ in column.rows(values)} | {*held} - {0}
    return {index: _one(values, index, held.get(index, [])) for index in sorted(indexes)}


def place(row: Oid) -> int:
    """The ifIndex that a row of IF-MIB stands for."""
    index = Index(row)
    found = index.take()
    index.end()
    return found


def _one(values: Values, index: int, held: Sequence[Address]) -> InterfaceState:
    def of(*columns: Column) -> int | bytes | None:
        """The first that is reported."""
        cells = (values.get(column.at((index,))) for column in columns)
        return next((value for value in cells if value not in (None, b"")), None)

    return InterfaceState(
        name=text(of(IF_NAME, IF_DESCR)) or f"interface {index}",
        description=text(of(IF_ALIAS)),
        up=_passes(of(IF_OPER_STATUS)),
        packets_in=_counter("ifHCInUcastPkts", of(IF_HC_IN, IF_IN)),
        packets_out=_counter("ifHCOutUcastPkts", of(IF_HC_OUT, IF_OUT)),
        addresses=tuple(held),
    )


def _passes(status: int | bytes | None) -> Verdict:
    if status is None:
        return NotKnown("its ifOperStatus is not reported")
    value = number(status)
    if value not in _STATUSES or value == UNKNOWN:
        return NotKnown(f"its ifOperStatus is {value} ({_STATUSES.get(value, 'not a state')})")
    return value == UP


def _counter(name: str, value: int | bytes | None) -> int | NotKnown:
    if value is None:
        return NotKnown(f"{name} is not reported")
    found = number(value)
    return NotKnown(f"{name} is {found}, which is not a counter") if found < 0 else found


def addresses_in(values: Values) -> dict[int, list[Address]]:
    """List interfaces by ifIndex, in order; broadcast and anycast ones left out. Raises
    ReadError."""
    found: dict[int, set[Address]] = {}
    for row, at in IP_ADDRESS_IF_INDEX.rows(values):
        index = Index(row)
        address = index.address()
        index.end()
        kind = values.get(IP_ADDRESS_TYPE.at(row), UNICAST)
        if address is not None and kind == UNICAST:
            found.setdefault(number(at), set()).add(address)
    for row, at in OLD_IF_INDEX.rows(values):
        if len(row) != 4 or max(row) > 255:
            raise ReadError("a row of ipAddrTable whose index is not an IPv4 address")
        found.setdefault(number(at), set()).add(address_from(bytes(row)))
    return {at: sorted(held) for at, held in found.items()}
