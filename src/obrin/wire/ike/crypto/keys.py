"""Key derivation: prf, prf+ and the seven keys of an IKE SA (RFC 7296 sections 2.13 to 2.18)."""

from __future__ import annotations

from dataclasses import dataclass, field

from cryptography.hazmat.primitives.hmac import HMAC

from obrin.core.ipsec.registry import Algorithm
from obrin.wire.esp import EspKeys, key_lengths
from obrin.wire.ike.codec.errors import IkeFormatError
from obrin.wire.macs import PRF_HASHES

PSK_PAD = b"Key Pad for IKEv2"


def prf(number: int, key: bytes, data: bytes) -> bytes:
    """The pseudo-random function with an IANA number (RFC 4868). KeyError if not spoken."""
    mac = HMAC(key, PRF_HASHES[number])
    mac.update(data)
    return mac.finalize()


def prf_plus(number: int, key: bytes, seed: bytes, length: int) -> bytes:
    """Section 2.13: T1 = prf(K, S | 1), T2 = prf(K, T1 | S | 2), ... The key is set up once."""
    base = HMAC(key, PRF_HASHES[number])
    out = block = b""
    counter = 1
    while len(out) < length:
        mac = base.copy()
        mac.update(block + seed + bytes((counter,)))
        block = mac.finalize()
        out += block
        counter += 1
    return out[:length]


@dataclass(frozen=True, slots=True)
class IkeKeys:
    """Section 2.14. Secrets are kept out of repr."""

    d: bytes = field(repr=False)
    ai: bytes = field(repr=False)
    ar: bytes = field(repr=False)
    ei: bytes = field(repr=False)
    er: bytes = field(repr=False)
    pi: bytes = field(repr=False)
    pr: bytes = field(repr=False)


def ike_cipher_lengths(encryption: Algorithm, integrity: Algorithm | None) -> tuple[int, int]:
    """Key bytes per direction: the same sizes as ESP's (RFC 5282 section 3, RFC 7296)."""
    return key_lengths(encryption, integrity)


def derive_ike_keys(
    skeyseed: bytes,
    prf_algorithm: Algorithm,
    encryption: Algorithm,
    integrity: Algorithm | None,
    nonces: bytes,
    spis: bytes,
) -> IkeKeys:
    """The seven keys from SKEYSEED, Ni | Nr and SPIi | SPIr."""
    e, a = ike_cipher_lengths(encryption, integrity)
    p = PRF_HASHES[prf_algorithm.number].digest_size  # the preferred key length of an HMAC
    sizes = (p, a, a, e, e, p, p)
    material = prf_plus(prf_algorithm.number, skeyseed, nonces + spis, sum(sizes))
    parts, start = [], 0
    for size in sizes:
        parts.append(material[start : start + size])
        start += size
    return IkeKeys(*parts)


def skeyseed_first(number: int, nonces: bytes, shared: bytes) -> bytes:
    """Section 2.14: prf(Ni | Nr, g^ir)."""
    return prf(number, nonces, shared)


def skeyseed_rekey(number: int, old_d: bytes, shared: bytes, nonces: bytes) -> bytes:
    """Section 2.18: prf(SK_d of the old SA, g^ir | Ni | Nr)."""
    return prf(number, old_d, shared + nonces)


def derive_child_keys(
    number: int,
    d: bytes,
    encryption: Algorithm,
    integrity: Algorithm | None,
    nonces: bytes,
    shared: bytes = b"",
) -> tuple[EspKeys, EspKeys]:
    """Section 2.17: (initiator to responder, responder to initiator)."""
    e, a = key_lengths(encryption, integrity)
    material = prf_plus(number, d, shared + nonces, 2 * (e + a))
    half = e + a
    return (
        EspKeys(material[:e], material[e:half]),
        EspKeys(material[half : half + e], material[half + e :]),
    )


def padded_key(number: int, psk: bytes) -> bytes:
    """Section 2.15: prf(key, "Key Pad for IKEv2"), the form in which a key may be kept."""
    if not psk:
        raise IkeFormatError("there is no pre-shared key for this tunnel")
    return prf(number, psk, PSK_PAD)


def shared_key_auth(number: int, padded: bytes, octets: bytes) -> bytes:
    """Section 2.15: prf(the padded key, signed octets)."""
    return prf(number, padded, octets)
