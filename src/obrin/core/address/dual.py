"""A value for each address family, where a thing has one in both."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Generic, TypeVar

T = TypeVar("T")


@dataclass(frozen=True, slots=True)
class Dual(Generic[T]):
    """`ipv6` is None where only IPv4 is there. Iterating gives those that are there."""

    ipv4: T
    ipv6: T | None = None

    def __iter__(self) -> Iterator[T]:
        yield self.ipv4
        if self.ipv6 is not None:
            yield self.ipv6

    def of(self, bits: int) -> T | None:
        """That of the family with addresses of so many bits."""
        return self.ipv4 if bits == 32 else self.ipv6

    def __str__(self) -> str:
        return " and ".join(map(str, self))
