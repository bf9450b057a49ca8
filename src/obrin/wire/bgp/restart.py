"""Graceful restart (RFC 4724), as the one that helps: routes of a peer that comes back are kept.

    capability 64: | flags (4) time (12) |, then for each family | AFI (2) | SAFI (1) | flags (1) |

A speaker here has nothing of its own to preserve, and names no family; it keeps what it learned
from others.
"""

from __future__ import annotations

from dataclasses import dataclass

from obrin.wire.bgp.multiprotocol import AFI, BITS, UNICAST

CAPABILITY = 64
_FORWARDING = 0x80
WAIT = 180.0
"""Seconds from a new session until a peer that does not say that it sent all is taken at its word
(section 4.2 wants a limit)."""


@dataclass(frozen=True, slots=True)
class Restart:
    """`seconds` that its routes are to be kept; `forwarding` by family whether it went on to
    forward while it was away."""

    seconds: int = 0
    forwarding: tuple[tuple[int, bool], ...] = ()

    @property
    def families(self) -> frozenset[int]:
        """Families in bits; none for a speaker that only helps."""
        return frozenset(bits for bits, _ in self.forwarding)

    @property
    def forwarded(self) -> frozenset[int]:
        return frozenset(bits for bits, went_on in self.forwarding if went_on)

    def encode(self) -> bytes:
        parts = (
            AFI[bits].to_bytes(2, "big") + bytes((UNICAST, _FORWARDING * went_on))
            for bits, went_on in self.forwarding
        )
        return self.seconds.to_bytes(2, "big") + b"".join(parts)


def decode(data: bytes) -> Restart | None:
    """Return None for what is none; families that are not spoken here are passed over."""
    if len(data) < 2 or len(data) % 4 != 2:
        return None
    found = []
    for at in range(2, len(data), 4):
        bits = BITS.get(int.from_bytes(data[at : at + 2], "big"))
        if bits is not None and data[at + 2] == UNICAST:
            found.append((bits, bool(data[at + 3] & _FORWARDING)))
    return Restart(int.from_bytes(data[:2], "big") & 0x0FFF, tuple(dict(found).items()))
