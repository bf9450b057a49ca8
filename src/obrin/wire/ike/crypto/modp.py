"""Finite-field Diffie-Hellman over safe primes: groups 2 (RFC 2409), 5, 14, 15 and 16 (RFC 3526).

The primes follow from pi, as the two documents construct them; no constant has to be trusted: p =
2^n - 2^(n-64) - 1 + 2^64 * (floor(2^(n-130) * pi) + c), and the generator is 2.

Private numbers are drawn from the caller's random source and have twice the bits of the group's
strength, and some more (RFC 3526 section 8). The library raises to powers in a time that does not
depend on them, and ten times as fast as Python's `pow`. It is given the private number with a
public number that stands in for its own (2, the generator); an exchange with the public value 2
then gives the true one, 2^x. Group 2 is none that it knows, and it would prove the prime anew each
time: there, and without the library's groups, it is `pow`, whose time tells of the private number.
"""

from __future__ import annotations

import functools
import warnings
from collections.abc import Callable

from cryptography.hazmat.primitives.asymmetric import dh
from cryptography.utils import CryptographyDeprecationWarning

from obrin.wire.ike.codec.errors import IkeFormatError

_GROUPS = {
    2: (1024, 129093, 192),
    5: (1536, 741804, 256),
    14: (2048, 124476, 320),
    15: (3072, 1690314, 384),
    16: (4096, 240904, 448),
}
"""By IANA number: bits of the prime, the c of its formula, bits of a private number."""
_BY_LIBRARY = frozenset({5, 14, 15, 16})
GENERATOR = 2
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


def power(group: int, base: int, exponent: int) -> bytes:
    """base^exponent in a group, as long as its prime. Raises KeyError for a group not spoken."""
    prime = prime_of(group)
    if group not in _BY_LIBRARY:
        return pow(base, exponent, prime).to_bytes(_GROUPS[group][0] // 8, "big")
    with warnings.catch_warnings():
        # The library means to give these groups up one day; here they are spoken with old devices.
        warnings.simplefilter("ignore", CryptographyDeprecationWarning)
        parameters = dh.DHParameterNumbers(prime, GENERATOR)
        stand_in = dh.DHPublicNumbers(GENERATOR, parameters)
        own = dh.DHPrivateNumbers(exponent, stand_in).private_key()
        return own.exchange(dh.DHPublicNumbers(base, parameters).public_key())


class ModpPair:
    """One side's half of an exchange. Raises KeyError for a group not spoken."""

    def __init__(self, group: int, rng: Callable[[int], bytes]) -> None:
        bits, _, private = _GROUPS[group]
        self._group, self._prime, self._size = group, prime_of(group), bits // 8
        # The top bit is set, so that no private number is short.
        self._own = int.from_bytes(rng(private // 8), "big") | 1 << (private - 1)
        self.public = power(group, GENERATOR, self._own)

    def shared(self, peer: bytes) -> bytes:
        """Encode a value to the length of the prime (RFC 7296 section 2.14). Raises
        IkeFormatError for a value outside the group (RFC 6989 section 2.1)."""
        value = int.from_bytes(peer, "big")
        if len(peer) != self._size or not 1 < value < self._prime - 1:
            raise IkeFormatError("the peer's MODP value is outside the group")
        try:
            return power(self._group, value, self._own)
        except ValueError as error:
            raise IkeFormatError(f"the peer's MODP value is not acceptable: {error}") from error
