"""A child SA: two directions of ESP, its age, and its place in a rekey."""

from __future__ import annotations

from dataclasses import dataclass, field

from obrin.core.address.prefix import Address
from obrin.core.ipsec.proposal import Proposal
from obrin.core.ipsec.registry import Kind
from obrin.core.ipsec.selectors import Selector
from obrin.wire.esp import EspKeys, Opener, Sealer


@dataclass(slots=True, eq=False, kw_only=True)
class ChildSa:
    """`keys_in` and `keys_out` stay for the capture's key file, out of every repr.

    A child is `superseded` once the peer made its successor, and `replaced` once we deleted it.
    """

    spi_in: bytes
    spi_out: bytes
    chosen: Proposal
    local: tuple[Selector, ...]
    remote: tuple[Selector, ...]
    sealer: Sealer
    opener: Opener
    keys_in: EspKeys = field(repr=False)
    keys_out: EspKeys = field(repr=False)
    rekey_at: float
    expires_at: float
    low_nonce: bytes = field(repr=False, default=b"")
    superseded: bool = False
    replaced: bool = False
    delete_again_at: float = float("inf")

    def takes(self, source: Address, destination: Address) -> bool:
        """Whether a packet that leaves by it is one it is for."""
        return any(s.holds(source) for s in self.local) and any(
            s.holds(destination) for s in self.remote
        )

    @property
    def scope(self) -> tuple[tuple[Selector, ...], tuple[Selector, ...]]:
        """What it is for, as others of its tunnel are for something else."""
        return self.local, self.remote

    @property
    def esn(self) -> bool:
        chosen = self.chosen.one(Kind.ESN)
        return chosen is not None and chosen.number == 1
