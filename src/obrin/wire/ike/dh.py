"""Key exchange groups 14 (RFC 3526), 19 and 20 (RFC 5903) and 31 (RFC 8031).

One small interface over the `cryptography` package: make a key pair, publish, agree. Peers'
public values are checked as RFC 6989 asks. Random for the elliptic curves is passed in; for the
finite-field group the library draws the private number itself and offers no other way.
"""

from __future__ import annotations

import functools
from collections.abc import Callable
from typing import Protocol

from cryptography.hazmat.primitives.asymmetric import dh, ec, x25519

from obrin.wire.ike.errors import IkeFormatError

# RFC 3526 section 3.
_MODP_2048 = int(
    "FFFFFFFFFFFFFFFFC90FDAA22168C234C4C6628B80DC1CD129024E088A67CC74"
    "020BBEA63B139B22514A08798E3404DDEF9519B3CD3A431B302B0A6DF25F1437"
    "4FE1356D6D51C245E485B576625E7EC6F44C42E9A637ED6B0BFF5CB6F406B7ED"
    "EE386BFB5A899FA5AE9F24117C4B1FE649286651ECE45B3DC2007CB8A163BF05"
    "98DA48361C55D39A69163FA8FD24CF5F83655D23DCA3AD961C62F356208552BB"
    "9ED529077096966D670C354E4ABC9804F1746C08CA18217C32905E462E36CE3B"
    "E39E772C180E86039B2783A2EC07A28FB5C55DF06F4C52C9DE2BCBF695581718"
    "3995497CEA956AE515D2261898FA051015728E5A8AACAA68FFFFFFFFFFFFFFFF",
    16,
)


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


@functools.cache
def _modp_parameters() -> dh.DHParameters:
    return dh.DHParameterNumbers(_MODP_2048, 2).parameters()


class _Modp2048:
    def __init__(self) -> None:
        self._key = _modp_parameters().generate_private_key()
        self.public = self._key.public_key().public_numbers().y.to_bytes(256, "big")

    def shared(self, peer: bytes) -> bytes:
        value = int.from_bytes(peer, "big")
        if len(peer) != 256 or not 1 < value < _MODP_2048 - 1:
            raise IkeFormatError("the peer's MODP value is outside the group")
        try:
            public = dh.DHPublicNumbers(value, dh.DHParameterNumbers(_MODP_2048, 2)).public_key()
            return self._key.exchange(public).rjust(256, b"\0")
        except ValueError as error:
            raise IkeFormatError(f"the peer's MODP value is not acceptable: {error}") from error


_ORDER_256 = 0xFFFFFFFF00000000FFFFFFFFFFFFFFFFBCE6FAADA7179E84F3B9CAC2FC632551
_ORDER_384 = int(
    "FFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFF"
    "C7634D81F4372DDF581A0DB248B0A77AECEC196ACCC52973",
    16,
)


def make_key_pair(group: int, rng: Callable[[int], bytes]) -> KeyPair:
    """A fresh key pair in an IANA group number. Raises KeyError for a group not spoken."""
    if group == 31:
        return _Curve25519(rng)
    if group == 19:
        return _Ecp(ec.SECP256R1(), _ORDER_256, rng)
    if group == 20:
        return _Ecp(ec.SECP384R1(), _ORDER_384, rng)
    if group == 14:
        return _Modp2048()
    raise KeyError(f"key exchange group {group} is not spoken here")
