"""Finite-field Diffie-Hellman over safe primes: groups 2 (RFC 2409), 5, 14, 15 and 16 (RFC 3526).

The primes follow from pi, as the two documents construct them; no constant has to be trusted:
p = 2^n - 2^(n-64) - 1 + 2^64 * (floor(2^(n-130) * pi) + c), and the generator is 2.

Private numbers are drawn from the caller's random source and have twice the bits of the group's
strength, and some more (RFC 3526 section 8). Python's `pow` takes a time that depends on them: this
is for practice, as all cryptography here is, and not for a gateway that guards anything.
"""

from __future__ import annotations

import functools
from collections.abc import Callable

from obrin.wire.ike.errors import IkeFormatError

_GROUPS = {
    2: (1024, 129093, 192),
    5: (1536, 741804, 256),
    14: (2048, 124476, 320),
    15: (3072, 1690314, 384),
    16: (4096, 240904, 448),
}
"""By IANA number: bits of the prime, the c of its formula, bits of a private number."""
NUMBERS = frozenset(_GROUPS)


@functools.cache
def prime_of(group: int) -> int:
    """Raises KeyError."""
    bits, c, _ = _GROUPS[group]
    middle = _pi_shifted(bits - 130) + c
    return (1 << bits) - (1 << (bits - 64)) - 1 + (middle << 64)


def _pi_shifted(bits: int) -> int:
    """floor(2^bits * pi), by Machin's formula with bits to spare."""
    guard = 64
    one = 1 << (bits + guard)

    def arctan_of_inverse(x: int) -> int:
        power = total = one // x
        n, sign = 3, -1
        while power:
            power //= x * x
            total += sign * (power // n)
            n, sign = n + 2, -sign
        return total

    return (16 * arctan_of_inverse(5) - 4 * arctan_of_inverse(239)) >> guard


class ModpPair:
    """One side's half of an exchange. Raises KeyError for a group not spoken."""

    def __init__(self, group: int, rng: Callable[[int], bytes]) -> None:
        bits, _, private = _GROUPS[group]
        self._prime, self._size = prime_of(group), bits // 8
        # The top bit is set, so that no private number is short.
        self._own = int.from_bytes(rng(private // 8), "big") | 1 << (private - 1)
        self.public = pow(2, self._own, self._prime).to_bytes(self._size, "big")

    def shared(self, peer: bytes) -> bytes:
        """As long as the prime (RFC 7296 section 2.14). Raises IkeFormatError for a value outside
        the group (RFC 6989 section 2.1)."""
        value = int.from_bytes(peer, "big")
        if len(peer) != self._size or not 1 < value < self._prime - 1:
            raise IkeFormatError("the peer's MODP value is outside the group")
        return pow(value, self._own, self._prime).to_bytes(self._size, "big")
