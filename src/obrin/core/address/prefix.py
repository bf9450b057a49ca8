"""Addresses and prefixes as plain integers with a length: our own, small and fast.

A `Prefix` is immutable, hashable and ordered by family, then address, then length, so a sorted
list of prefixes is a walk through address space with every parent before its children.
"""

from __future__ import annotations

import functools
from collections.abc import Iterator
from typing import NamedTuple

from obrin.core.errors import AddressError


class Address(NamedTuple):
    """One address with its family: `bits` is 32 (IPv4) or 128 (IPv6)."""

    bits: int
    value: int

    def __str__(self) -> str:
        return format_address(self.value, self.bits)

    @property
    def alone(self) -> Prefix:
        """The prefix of full length that holds nothing else."""
        return Prefix(self.bits, self.value, self.bits)

    def network(self, length: int) -> Prefix:
        """The prefix of a length that it lies in."""
        return self.alone.widened(length)


class Prefix(NamedTuple):
    """`value` is the first address as an integer, `bits` is 32 (IPv4) or 128 (IPv6)."""

    bits: int
    value: int
    length: int

    def __str__(self) -> str:
        return f"{format_address(self.value, self.bits)}/{self.length}"

    @property
    def size(self) -> int:
        """Number of addresses covered."""
        return 1 << (self.bits - self.length)

    @property
    def last(self) -> int:
        """The last address covered, as an integer."""
        return self.value + self.size - 1

    def address_at(self, offset: int) -> Address:
        """The address `offset` places into the prefix; negative counts from the end.

        Raises AddressError.
        """
        index = offset if offset >= 0 else self.size + offset
        if not 0 <= index < self.size:
            raise AddressError(f"{self} has no address number {offset}")
        return Address(self.bits, self.value + index)

    def address(self, offset: int) -> str:
        """The same as text."""
        return str(self.address_at(offset))

    def ends(self) -> tuple[Address, Address]:
        """Both hosts of a point-to-point block, the lower first.

        A /31 or /127 has no network address (RFC 3021, RFC 6164).
        """
        low = self.value + (0 if self.length == self.bits - 1 else 1)
        return Address(self.bits, low), Address(self.bits, low + 1)

    def covers(self, other: Prefix) -> bool:
        """Whether every address of `other` is also in this prefix."""
        return (
            self.bits == other.bits
            and self.length <= other.length
            and self.value <= other.value <= self.last
        )

    def overlaps(self, other: Prefix) -> bool:
        """Whether the two share an address; for aligned prefixes one then covers the other."""
        return self.covers(other) or other.covers(self)

    def contains(self, address: int) -> bool:
        """Whether the integer address (of the same family) lies inside."""
        return self.value <= address <= self.last

    def holds(self, address: Address) -> bool:
        """Whether the address lies inside; none of the other family does."""
        return self.bits == address.bits and self.contains(address.value)

    def widened(self, length: int) -> Prefix:
        """The prefix of this (shorter or equal) length that covers this one."""
        shift = self.bits - length
        return Prefix(self.bits, self.value >> shift << shift, length)

    @property
    def buddy(self) -> Prefix:
        """The other half of the prefix one bit shorter. Meaningless for a whole family."""
        return Prefix(self.bits, self.value ^ self.size, self.length)

    def children(self, length: int) -> Iterator[Prefix]:
        """All prefixes of `length` inside this one, in address order."""
        step = 1 << (self.bits - length)
        for value in range(self.value, self.last + 1, step):
            yield Prefix(self.bits, value, length)


def parse_ipv4(text: str) -> int:
    """Dotted decimal to an integer. Leading zeros are refused: some programs read them as octal.

    Raises AddressError.
    """
    parts = text.split(".")
    if len(parts) != 4:
        raise AddressError(f"'{text}' is not an IPv4 address: it needs four numbers with dots")
    value = 0
    for part in parts:
        if not (part.isascii() and part.isdigit()):
            raise AddressError(f"'{text}' is not an IPv4 address: '{part}' is not a number")
        if len(part) > 3:
            raise AddressError(
                f"'{text[:40]}' is not an IPv4 address: {part[:20]} is larger than 255"
            )
        if len(part) > 1 and part[0] == "0":
            raise AddressError(
                f"'{text}' has a leading zero in '{part}'; write {int(part)}, "
                "because some programs would read it as octal"
            )
        number = int(part) if len(part) <= 3 else 256
        if number > 255:
            raise AddressError(f"'{text}' is not an IPv4 address: {part} is larger than 255")
        value = value << 8 | number
    return value


def parse_ipv6(text: str) -> int:
    """RFC 4291 section 2.2 text to an integer (a dotted IPv4 tail is accepted).

    Raises AddressError.
    """
    wrong = f"'{text}' is not an IPv6 address"
    head, gap, tail = text.partition("::")
    if "::" in tail:
        raise AddressError(f"{wrong}: '::' may stand only once")

    def groups(part: str) -> list[int]:
        if not part:
            return []
        words = part.split(":")
        numbers: list[int] = []
        for index, word in enumerate(words):
            if "." in word and index == len(words) - 1:
                v4 = parse_ipv4(word)
                numbers += [v4 >> 16, v4 & 0xFFFF]
            elif 1 <= len(word) <= 4 and all(c in "0123456789abcdefABCDEF" for c in word):
                numbers.append(int(word, 16))
            else:
                raise AddressError(f"{wrong}: '{word}' is not one to four hexadecimal digits")
        return numbers

    first, last = groups(head), groups(tail)
    missing = 8 - len(first) - len(last)
    if (gap and missing < 1) or (not gap and missing != 0):
        raise AddressError(f"{wrong}: it does not have eight groups")
    value = 0
    for number in [*first, *([0] * missing), *last]:
        value = value << 16 | number
    return value


@functools.lru_cache(maxsize=65536)
def parse_address(text: str) -> Address:
    """An address of either family. Raises AddressError."""
    if ":" in text:
        return Address(128, parse_ipv6(text))
    return Address(32, parse_ipv4(text))


def netmask_length(mask: Address) -> int | None:
    """255.255.252.0 to 22; None where its ones are not all in front."""
    ones = mask.value ^ ((1 << mask.bits) - 1)
    return None if ones & (ones + 1) else mask.bits - ones.bit_length()


def format_address(value: int, bits: int = 32) -> str:
    """An integer as text; IPv6 in the canonical form of RFC 5952."""
    if bits == 32:
        return f"{value >> 24}.{value >> 16 & 255}.{value >> 8 & 255}.{value & 255}"
    words = [value >> shift & 0xFFFF for shift in range(112, -1, -16)]
    best_start, best_run, start = -1, 1, 0
    while start < 8:
        end = start
        while end < 8 and words[end] == 0:
            end += 1
        if end - start > best_run:
            best_start, best_run = start, end - start
        start = max(end, start + 1)
    if best_start < 0:
        return ":".join(f"{word:x}" for word in words)
    left = ":".join(f"{word:x}" for word in words[:best_start])
    right = ":".join(f"{word:x}" for word in words[best_start + best_run :])
    return f"{left}::{right}"


@functools.lru_cache(maxsize=65536)
def parse_prefix(text: str) -> Prefix:
    """`192.0.2.0/24` to a Prefix.

    Host bits that are set are refused with both prefixes that may have been meant.
    Raises AddressError.
    """
    address, slash, tail = text.partition("/")
    if not slash:
        raise AddressError(f"'{text:.60}' has no prefix length; write for example {address:.40}/24")
    single = parse_address(address)
    bits = single.bits
    if not (tail.isascii() and tail.isdigit() and len(tail) <= 3) or int(tail) > bits:
        raise AddressError(f"'{text}' needs a prefix length from 0 to {bits} after the slash")
    length = int(tail)
    network = single.network(length)
    if network.value != single.value:
        raise AddressError(
            f"'{text}' has bits set beyond its length; "
            f"either the network {network} or the single address {single.alone} was meant"
        )
    return network


def host_prefix(address: str) -> Prefix:
    """One address as a prefix of full length. Raises AddressError."""
    return parse_address(address).alone


DEFAULT_ROUTE, DEFAULT_ROUTE6 = Prefix(32, 0, 0), Prefix(128, 0, 0)
PRIVATE_IPV4 = tuple(map(parse_prefix, ("10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16")))
LINK_LOCAL_IPV4 = parse_prefix("169.254.0.0/16")
