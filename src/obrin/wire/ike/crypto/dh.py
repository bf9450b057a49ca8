"""Key exchange groups: MODP (see modp.py), 19 to 21 (RFC 5903) and 31 (RFC 8031).

One small interface over the `cryptography` package: make a key pair, publish, agree. Peers'
public values are checked as RFC 6989 asks. Random is passed in.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Protocol

from cryptography.hazmat.primitives.asymmetric import ec, x25519

from obrin.wire.ike.codec.errors import IkeFormatError
from obrin.wire.ike.crypto import modp


class KeyPair(Protocol):
    """One side's half of an exchange."""

    public: bytes

    def shared(self, peer: bytes) -> bytes:
        """The shared secret, or IkeFormatError if the peer's value is not acceptable."""


class _Curve25519:
    def __init__(self, rng: Callable[[int], bytes]) -> None:
        self._key = x25519.X25519PrivateKey.from_private_bytes(rng(32))
        self.public = self._key.public_key().public_bytes_raw()

    def shared(self, peer: bytes) -> bytes:
        try:
            return self._key.exchange(x25519.X25519PublicKey.from_public_bytes(peer))
        except ValueError as error:
            raise IkeFormatError(
                f"the peer's Curve25519 value is not acceptable: {error}"
            ) from error


class _Ecp:
    """RFC 5903 section 6: x and y on the wire, only x is the secret."""

    def __init__(self, curve: ec.EllipticCurve, order: int, rng: Callable[[int], bytes]) -> None:
        self._curve = curve
        self._size = (curve.key_size + 7) // 8
        # 8 bytes more than the order, then a reduction: the bias is below 2**-64.
        number = int.from_bytes(rng(self._size + 8), "big") % (order - 1) + 1
        self._key = ec.derive_private_key(number, curve)
        point = self._key.public_key().public_numbers()
        self.public = point.x.to_bytes(self._size, "big") + point.y.to_bytes(self._size, "big")

    def shared(self, peer: bytes) -> bytes:
        size = self._size
        if len(peer) != 2 * size:
            raise IkeFormatError(f"the peer's point has {len(peer)} bytes, {2 * size} expected")
        try:
            point = ec.EllipticCurvePublicNumbers(
                int.from_bytes(peer[:size], "big"), int.from_bytes(peer[size:], "big"), self._curve
            ).public_key()
        except ValueError as error:
            raise IkeFormatError(f"the peer's point is not on the curve: {error}") from error
        return self._key.exchange(ec.ECDH(), point)


_ORDER_256 = 0xFFFFFFFF00000000FFFFFFFFFFFFFFFFBCE6FAADA7179E84F3B9CAC2FC632551
_ORDER_384 = int(
    "FFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFF"
    "C7634D81F4372DDF581A0DB248B0A77AECEC196ACCC52973",
    16,
)


_ORDER_521 = int(
    "01FFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFF"
    "FA51868783BF2F966B7FCC0148F709A5D03BB5C9B8899C47AEBB6FB71E91386409",
    16,
)
_CURVES: dict[int, tuple[ec.EllipticCurve, int]] = {
    19: (ec.SECP256R1(), _ORDER_256),
    20: (ec.SECP384R1(), _ORDER_384),
    21: (ec.SECP521R1(), _ORDER_521),
}
SPOKEN_GROUPS = frozenset({31, *_CURVES, *modp.NUMBERS})


def make_key_pair(group: int, rng: Callable[[int], bytes]) -> KeyPair:
    """A fresh key pair in an IANA group number. Raises KeyError for a group not spoken."""
    if group == 31:
        return _Curve25519(rng)
    if group in _CURVES:
        return _Ecp(*_CURVES[group], rng)
    if group in modp.NUMBERS:
        return modp.ModpPair(group, rng)
    raise KeyError(f"key exchange group {group} is not spoken here")
