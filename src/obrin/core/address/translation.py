"""One-to-one prefix translation: the same host part behind another prefix (RFC 2663 section 4.1.1).

No state and no ports: an address of `real` and one of `seen` stand for each other, in both
directions. In IPv4 they have the same offset; in IPv6 a word of the host part makes up for the
other prefix in checksums (RFC 6296). The model and the practice devices translate with these
functions.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from obrin.core.address import neutral
from obrin.core.address.prefix import Address, Prefix
from obrin.core.errors import AddressError


@dataclass(frozen=True, slots=True)
class Exposure:
    """A range as its own side has it (`real`) and as the other side knows it (`seen`).

    Without translation the two are the same. Raises AddressError when their sizes differ.
    """

    network: str
    real: Prefix
    seen: Prefix

    def __post_init__(self) -> None:
        if (self.real.bits, self.real.length) != (self.seen.bits, self.seen.length):
            raise AddressError(f"{self.seen} is not as large as {self.real}, which it stands for")

    @property
    def translated(self) -> bool:
        return self.real != self.seen

    def outward(self, address: Address) -> Address:
        """An address of the real range, as the other side knows it."""
        return _moved(address, self.real, self.seen)

    def inward(self, address: Address) -> Address:
        """An address as the other side knows it, in the real range."""
        return _moved(address, self.seen, self.real)

    def outward_prefix(self, prefix: Prefix) -> Prefix:
        """A part of the real range, as the other side knows it."""
        return self.outward(prefix.address_at(0)).network(prefix.length)

    def inward_prefix(self, prefix: Prefix) -> Prefix:
        """A part of the range that the other side knows, as it really is."""
        return self.inward(prefix.address_at(0)).network(prefix.length)

    def within(self, prefix: Prefix) -> Exposure | None:
        """What of it lies in a prefix of the real side."""
        if prefix.covers(self.real):
            return self
        if not self.real.covers(prefix):
            return None
        return Exposure(self.network, prefix, self.outward_prefix(prefix))


def _moved(address: Address, old: Prefix, new: Prefix) -> Address:
    if old == new or address.bits == 32:
        return Address(address.bits, address.value - old.value + new.value)
    return neutral.translated(address, old, new)


def outward(parts: Iterable[Exposure], address: Address) -> Address:
    """An own address as the other side knows it; what no part names stays as it is."""
    return next((p.outward(address) for p in parts if p.real.holds(address)), address)


def inward(parts: Iterable[Exposure], address: Address) -> Address:
    """An address as the other side wrote it, as it really is; what no part names stays."""
    return next((p.inward(address) for p in parts if p.seen.holds(address)), address)
