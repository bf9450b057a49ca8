"""Digital signatures in IKE_AUTH (RFC 7427): RSA-PSS, ECDSA and Ed25519 (RFC 8420).

The value of the AUTH payload with method 14:

    | length of the AlgorithmIdentifier (1) | AlgorithmIdentifier, DER | signature |
"""

from __future__ import annotations

from dataclasses import dataclass

from cryptography.exceptions import InvalidSignature
from cryptography.hazmat.primitives.asymmetric import ec, ed25519, padding, rsa
from cryptography.hazmat.primitives.hashes import SHA256, SHA384, SHA512, HashAlgorithm

SHA2_256, SHA2_384, SHA2_512, IDENTITY = 2, 3, 4, 5
"""Hash algorithms by their IANA numbers (RFC 7427 section 7, RFC 8420 section 2)."""
HASHES = (SHA2_256, SHA2_384, SHA2_512, IDENTITY)

PrivateKey = rsa.RSAPrivateKey | ec.EllipticCurvePrivateKey | ed25519.Ed25519PrivateKey


@dataclass(frozen=True, slots=True)
class _Algorithm:
    """One AlgorithmIdentifier, what it needs of a key, and the hash that it runs on."""

    identifier: bytes
    key: str
    number: int
    digest: HashAlgorithm | None


def _pss(digest: bytes, salt: int) -> bytes:
    """RSASSA-PSS with a hash, MGF1 with the same hash, and a salt as long as it (RFC 4055)."""
    hash_id = b"\x30\x0b\x06\x09" + digest
    mgf = b"\x30\x18\x06\x09\x2a\x86\x48\x86\xf7\x0d\x01\x01\x08" + hash_id
    body = (
        b"\xa0"
        + bytes((len(hash_id),))
        + hash_id
        + b"\xa1"
        + bytes((len(mgf),))
        + mgf
        + b"\xa2\x03\x02\x01"
        + bytes((salt,))
    )
    parameters = b"\x30" + bytes((len(body),)) + body
    whole = b"\x06\x09\x2a\x86\x48\x86\xf7\x0d\x01\x01\x0a" + parameters
    return b"\x30" + bytes((len(whole),)) + whole


_SHA = b"\x60\x86\x48\x01\x65\x03\x04\x02"
_ECDSA = b"\x30\x0a\x06\x08\x2a\x86\x48\xce\x3d\x04\x03"
_ALGORITHMS = (
    _Algorithm(_pss(_SHA + b"\x01", 32), "rsa", SHA2_256, SHA256()),
    _Algorithm(_pss(_SHA + b"\x02", 48), "rsa", SHA2_384, SHA384()),
    _Algorithm(_pss(_SHA + b"\x03", 64), "rsa", SHA2_512, SHA512()),
    _Algorithm(_ECDSA + b"\x02", "ecdsa", SHA2_256, SHA256()),
    _Algorithm(_ECDSA + b"\x03", "ecdsa", SHA2_384, SHA384()),
    _Algorithm(_ECDSA + b"\x04", "ecdsa", SHA2_512, SHA512()),
    _Algorithm(b"\x30\x05\x06\x03\x2b\x65\x70", "ed25519", IDENTITY, None),
)
_CURVE_HASHES = {256: SHA2_256, 384: SHA2_384, 521: SHA2_512}


class SignatureProblem(Exception):
    """A signature cannot be made or does not hold; the text is for people."""


def sign(key: PrivateKey, octets: bytes, peer_hashes: tuple[int, ...]) -> bytes:
    """The AUTH value. Raises SignatureProblem when the peer knows none of our hashes."""
    kind, wanted = _kind(key)
    usable = [a for a in _ALGORITHMS if a.key == kind and a.number in peer_hashes]
    if not usable:
        raise SignatureProblem("the peer takes no signature with a hash that this key can use")
    algorithm = next((a for a in usable if a.number == wanted), usable[0])
    if isinstance(key, rsa.RSAPrivateKey) and algorithm.digest is not None:
        signature = key.sign(octets, _padding(algorithm.digest), algorithm.digest)
    elif isinstance(key, ec.EllipticCurvePrivateKey) and algorithm.digest is not None:
        signature = key.sign(octets, ec.ECDSA(algorithm.digest))
    elif isinstance(key, ed25519.Ed25519PrivateKey):
        signature = key.sign(octets)
    else:
        raise AssertionError(f"a key of kind {kind} with another kind's algorithm")
    return bytes((len(algorithm.identifier),)) + algorithm.identifier + signature


def verify(key: object, value: bytes, octets: bytes) -> None:
    """`key` is the public key of the peer's certificate. Raises SignatureProblem."""
    size = value[0] if value else 0
    identifier, signature = value[1 : 1 + size], value[1 + size :]
    algorithm = next((a for a in _ALGORITHMS if a.identifier == identifier), None)
    if algorithm is None:
        raise SignatureProblem("the peer signs with an algorithm that is not known here")
    try:
        if isinstance(key, rsa.RSAPublicKey) and algorithm.key == "rsa" and algorithm.digest:
            key.verify(signature, octets, _padding(algorithm.digest), algorithm.digest)
        elif (
            isinstance(key, ec.EllipticCurvePublicKey)
            and algorithm.key == "ecdsa"
            and (algorithm.digest)
        ):
            key.verify(signature, octets, ec.ECDSA(algorithm.digest))
        elif isinstance(key, ed25519.Ed25519PublicKey) and algorithm.key == "ed25519":
            key.verify(signature, octets)
        else:
            raise SignatureProblem("the peer's signature is of another kind than its certificate")
    except InvalidSignature:
        raise SignatureProblem(
            "the peer's signature does not fit: it has not the key of its certificate"
        ) from None


def _padding(digest: HashAlgorithm) -> padding.PSS:
    return padding.PSS(padding.MGF1(digest), digest.digest_size)


def _kind(key: PrivateKey) -> tuple[str, int]:
    """The key's kind, and the hash that suits it best."""
    if isinstance(key, rsa.RSAPrivateKey):
        return "rsa", SHA2_256
    if isinstance(key, ec.EllipticCurvePrivateKey):
        return "ecdsa", _CURVE_HASHES.get(key.curve.key_size, SHA2_256)
    return "ed25519", IDENTITY


def encode_hashes(numbers: tuple[int, ...]) -> bytes:
    """The data of SIGNATURE_HASH_ALGORITHMS (RFC 7427 section 4)."""
    return b"".join(number.to_bytes(2, "big") for number in numbers)


def decode_hashes(data: bytes) -> tuple[int, ...]:
    """Unknown numbers survive; an odd byte at the end is left over."""
    return tuple(
        int.from_bytes(data[i : i + 2], "big") for i in range(0, min(len(data) - 1, 128), 2)
    )
