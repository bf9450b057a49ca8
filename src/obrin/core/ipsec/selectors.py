"""Traffic selectors as address and port ranges, and narrowing (RFC 7296 section 2.9)."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from obrin.core.address.prefix import Address, Prefix, format_address


@dataclass(frozen=True, slots=True)
class Selector:
    """A range of addresses (integers, inclusive), ports and one protocol (0 is any)."""

    bits: int
    first: int
    last: int
    protocol: int = 0
    first_port: int = 0
    last_port: int = 65535

    @classmethod
    def of(cls, prefix: Prefix) -> Selector:
        return cls(prefix.bits, prefix.value, prefix.last)

    def __str__(self) -> str:
        return f"{format_address(self.first, self.bits)}-{format_address(self.last, self.bits)}"

    def holds(self, address: Address) -> bool:
        """Whether an address is in the range; none of the other family is."""
        return self.bits == address.bits and self.first <= address.value <= self.last

    def intersect(self, other: Selector) -> Selector | None:
        """What both cover, or None."""
        if self.bits != other.bits:
            return None
        if self.protocol and other.protocol and self.protocol != other.protocol:
            return None
        first, last = max(self.first, other.first), min(self.last, other.last)
        low = max(self.first_port, other.first_port)
        high = min(self.last_port, other.last_port)
        if first > last or low > high:
            return None
        return Selector(self.bits, first, last, self.protocol or other.protocol, low, high)


ANY_IPV4, ANY_IPV6 = Selector(32, 0, 0xFFFFFFFF), Selector(128, 0, (1 << 128) - 1)
ANY = {32: ANY_IPV4, 128: ANY_IPV6}


Selectors = tuple[Selector, ...]
Scope = tuple[Selectors, Selectors]
"""The local selectors of a child SA, and the remote ones."""


def pairs(local: Selectors, remote: Selectors) -> Iterator[Scope]:
    """Each local selector with each remote one of its family."""
    for mine in local:
        for theirs in remote:
            if mine.bits == theirs.bits:
                yield (mine,), (theirs,)


def narrow(offered: Sequence[Selector], own: Sequence[Selector]) -> tuple[Selector, ...]:
    """The parts of `offered` that the responder's `own` selectors allow, without repeats."""
    found: dict[Selector, None] = {}
    for theirs in offered:
        for ours in own:
            both = theirs.intersect(ours)
            if both is not None:
                found[both] = None
    return tuple(found)
