"""A value for each address family, where a thing has one in both."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import Generic, Protocol, TypeVar

T = TypeVar("T")


class OfFamily(Protocol):
    """What knows how long its addresses are."""

    @property
    def bits(self) -> int: ...


F = TypeVar("F", bound=OfFamily)


@dataclass(frozen=True, slots=True)
class Dual(Generic[T]):
    """One of the two is None where its family is not used. Iterating gives those that are there,
    IPv4 first."""

    ipv4: T | None
    ipv6: T | None = None

    def __iter__(self) -> Iterator[T]:
        if self.ipv4 is not None:
            yield self.ipv4
        if self.ipv6 is not None:
            yield self.ipv6

    def of(self, bits: int) -> T | None:
        """Take that of the family with addresses of so many bits."""
        return self.ipv4 if bits == 32 else self.ipv6

    @property
    def first(self) -> T:
        """The IPv4 one where there is one, else the other. Raises StopIteration for none."""
        return next(iter(self))

    def __str__(self) -> str:
        return " and ".join(map(str, self))


def of_families(values: Iterable[F]) -> Dual[F]:
    """Take at most one of each family; the family of each is its own."""
    held = {value.bits: value for value in values}
    return Dual(held.get(32), held.get(128))
