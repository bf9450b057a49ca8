"""Tables of a MIB as values by object identifier; RFC 2578 section 7.7 for how rows are indexed."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

from obrin.core.address.prefix import Address
from obrin.wire.errors import ReadError

Oid = tuple[int, ...]
Value = int | bytes
"""Integers, counters and gauges of any size as they are; strings, addresses and bits as bytes."""
Values = Mapping[Oid, Value]
INTEGER, GAUGE, COUNTER32, COUNTER64 = "integer", "gauge", "counter32", "counter64"
OCTETS, IPV4 = "octets", "ipv4"
MIB_2: Oid = (1, 3, 6, 1, 2, 1)
_KINDS_OF_ADDRESS = {1: 32, 2: 128}
"""InetAddressType (RFC 4001) with the bits of its addresses."""


@dataclass(frozen=True, slots=True)
class Column:
    """One column of a table, with the SMI's type of its values for who writes them."""

    table: Oid
    number: int
    kind: str

    def at(self, row: Oid) -> Oid:
        return (*self.table, self.number, *row)

    def rows(self, values: Values) -> Iterator[tuple[Oid, Value]]:
        """The index of each row that has a value, and the value."""
        start = (*self.table, self.number)
        size = len(start)
        for oid, value in values.items():
            if oid[:size] == start:
                yield oid[size:], value


@dataclass(frozen=True, slots=True)
class Cell:
    """A value to be reported."""

    oid: Oid
    kind: str
    value: Value


def cell(column: Column, row: Oid, value: Value) -> Cell:
    return Cell(column.at(row), column.kind, value)


def number(value: Value | None) -> int:
    """0 for what is not reported. Raises ReadError for bytes."""
    if isinstance(value, bytes):
        raise ReadError("a number is expected where the agent sends bytes")
    return value or 0


def text(value: Value | None) -> str:
    """Empty for what is not reported. Raises ReadError for a number."""
    if isinstance(value, int):
        raise ReadError("text is expected where the agent sends a number")
    return (value or b"").decode("utf-8", "replace")


def index_of(address: Address) -> Oid:
    """InetAddressType, and InetAddress with its length in front."""
    octets = octets_of(address)
    return (1 if address.bits == 32 else 2, len(octets), *octets)


def octets_of(address: Address) -> bytes:
    return address.value.to_bytes(address.bits // 8, "big")


def address_from(octets: bytes) -> Address:
    """Raises ReadError."""
    if len(octets) not in (4, 16):
        raise ReadError(f"an address of {len(octets)} octets, 4 or 16 are expected")
    return Address(len(octets) * 8, int.from_bytes(octets, "big"))


class Index:
    """The index of a row, read part by part. Raises ReadError where it is too short or odd."""

    def __init__(self, parts: Sequence[int]) -> None:
        self._parts, self._at = parts, 0

    def take(self) -> int:
        if self._at >= len(self._parts):
            raise ReadError("the index of a row is too short")
        self._at += 1
        return self._parts[self._at - 1]

    def octets(self, count: int) -> bytes:
        found = [self.take() for _ in range(min(count, 256))]
        if max(found, default=0) > 255:
            raise ReadError("the index of a row holds what is not an octet")
        return bytes(found)

    def address(self) -> Address | None:
        """Return None for what is neither IPv4 nor IPv6: no next hop, or an address with a zone."""
        kind = self.take()
        octets = self.octets(self.take())
        bits = _KINDS_OF_ADDRESS.get(kind)
        if bits is None:
            return None
        found = address_from(octets)
        if found.bits != bits:
            raise ReadError(f"an address of {found.bits} bits where one of {bits} is announced")
        return found

    def skip_counted(self) -> None:
        """A part with its own length in front."""
        for _ in range(min(self.take(), 128)):
            self.take()

    def end(self) -> None:
        if self._at != len(self._parts):
            raise ReadError("the index of a row is too long")
