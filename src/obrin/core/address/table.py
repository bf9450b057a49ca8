"""Longest-prefix match: one dictionary per prefix length, tried from the longest down."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Generic, TypeVar

from obrin.core.address.prefix import Address, Prefix

V = TypeVar("V")


class PrefixTable(Generic[V]):
    """A mutable map from IPv4 or IPv6 prefixes to values with longest-match look-up."""

    def __init__(self) -> None:
        self._levels: dict[tuple[int, int], dict[int, V]] = {}
        self._order: dict[int, list[tuple[int, dict[int, V]]]] = {}

    def __setitem__(self, prefix: Prefix, value: V) -> None:
        level = self._levels.get((prefix.bits, prefix.length))
        if level is None:
            level = self._levels[prefix.bits, prefix.length] = {}
            self._order[prefix.bits] = [
                (prefix.bits - length, self._levels[bits, length])
                for bits, length in sorted(self._levels, reverse=True)
                if bits == prefix.bits
            ]
        level[prefix.value >> (prefix.bits - prefix.length)] = value

    def __delitem__(self, prefix: Prefix) -> None:
        del self._levels[prefix.bits, prefix.length][prefix.value >> (prefix.bits - prefix.length)]

    def get(self, prefix: Prefix) -> V | None:
        """The value stored for exactly this prefix."""
        level = self._levels.get((prefix.bits, prefix.length))
        return None if level is None else level.get(prefix.value >> (prefix.bits - prefix.length))

    def match(self, address: Address) -> tuple[Prefix, V] | None:
        """The longest stored prefix that covers the address, with its value, or None."""
        bits, value = address
        for shift, level in self._order.get(bits, ()):
            key = value >> shift
            if key in level:
                return Prefix(bits, key << shift, bits - shift), level[key]
        return None

    def matches(self, address: Address) -> Iterator[tuple[Prefix, V]]:
        """All stored prefixes that cover the address, the longest first, with their values."""
        bits, value = address
        for shift, level in self._order.get(bits, ()):
            key = value >> shift
            if key in level:
                yield Prefix(bits, key << shift, bits - shift), level[key]

    def items(self) -> Iterator[tuple[Prefix, V]]:
        """All entries in address order."""
        found = [
            (Prefix(bits, key << (bits - length), length), value)
            for (bits, length), level in self._levels.items()
            for key, value in level.items()
        ]
        return iter(sorted(found, key=lambda item: item[0]))

    def __len__(self) -> int:
        return sum(map(len, self._levels.values()))
