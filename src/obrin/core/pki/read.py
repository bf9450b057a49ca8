"""Certificates, keys, requests and lists from bytes: PEM, DER and PKCS #12, with typed errors."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import TypeVar

from cryptography import x509
from cryptography.exceptions import UnsupportedAlgorithm
from cryptography.hazmat.primitives.asymmetric import ec, ed25519, rsa
from cryptography.hazmat.primitives.serialization import (
    BestAvailableEncryption,
    Encoding,
    NoEncryption,
    PrivateFormat,
    PublicFormat,
    load_der_private_key,
    load_pem_private_key,
    pkcs12,
)

from obrin.core.errors import ObrinError
from obrin.core.pki.names import DAMAGED

MOST_BYTES = 1 << 20
MOST_CERTIFICATES = 100
PrivateKey = rsa.RSAPrivateKey | ec.EllipticCurvePrivateKey | ed25519.Ed25519PrivateKey
T = TypeVar("T")


class PkiError(ObrinError):
    """Bytes that are not what they should be, or cannot be opened."""


@dataclass(frozen=True, slots=True)
class Bundle:
    """What a file held: certificates in their order, and a private key if there was one."""

    certificates: tuple[x509.Certificate, ...]
    key: PrivateKey | None = None


def read_bundle(data: bytes, passphrase: str | None, where: str) -> Bundle:
    """Certificates and perhaps a key, in PEM, DER or PKCS #12. Raises PkiError naming `where`."""
    if len(data) > MOST_BYTES:
        raise PkiError(f"{where} has {len(data):,} bytes; at most {MOST_BYTES:,} are read")
    if b"-----BEGIN " in data:
        return _pem(data, passphrase, where)
    try:
        return Bundle((x509.load_der_x509_certificate(data),))
    except DAMAGED:
        return _pkcs12(data, passphrase, where)


def _pem(data: bytes, passphrase: str | None, where: str) -> Bundle:
    certificates: list[x509.Certificate] = []
    if b"-----BEGIN CERTIFICATE-----" in data:
        certificates = _try(x509.load_pem_x509_certificates, data, where, "certificate")
    if len(certificates) > MOST_CERTIFICATES:
        raise PkiError(f"{where} holds more than {MOST_CERTIFICATES} certificates")
    key = read_key(data, passphrase, where) if b"PRIVATE KEY-----" in data else None
    if not certificates and key is None:
        raise PkiError(f"{where} holds neither a certificate nor a private key")
    return Bundle(tuple(certificates), key)


def read_key(data: bytes, passphrase: str | None, where: str) -> PrivateKey:
    """A private key in PEM or DER. Raises PkiError; a missing passphrase is said as such."""
    load = load_pem_private_key if b"-----BEGIN " in data else load_der_private_key
    try:
        key = load(data, None if passphrase is None else passphrase.encode())
    except TypeError as error:
        if "not encrypted" in str(error):
            return read_key(data, None, where)
        raise PkiError(f"the private key in {where} is encrypted. Give its passphrase") from None
    except (ValueError, UnsupportedAlgorithm):
        if passphrase is None:
            raise PkiError(f"{where} holds no private key that can be read") from None
        raise PkiError(f"the passphrase does not open the private key in {where}") from None
    if not isinstance(key, PrivateKey):
        raise PkiError(f"the private key in {where} is of no kind that IKE uses here")
    return key


def _pkcs12(data: bytes, passphrase: str | None, where: str) -> Bundle:
    try:
        key, leaf, others = pkcs12.load_key_and_certificates(
            data, None if passphrase is None else passphrase.encode()
        )
    except (ValueError, UnsupportedAlgorithm):
        if passphrase is None:
            raise PkiError(
                f"{where} is neither PEM nor DER; if it is PKCS #12, give its passphrase"
            ) from None
        raise PkiError(f"{where} is not PKCS #12, or the passphrase does not open it") from None
    if key is not None and not isinstance(key, PrivateKey):
        raise PkiError(f"the private key in {where} is of no kind that IKE uses here")
    return Bundle(tuple(c for c in (leaf, *others) if c is not None), key)


def read_request(data: bytes, where: str) -> x509.CertificateSigningRequest:
    """A PKCS #10 request whose own signature holds. Raises PkiError."""
    pem = b"-----BEGIN " in data
    load = x509.load_pem_x509_csr if pem else x509.load_der_x509_csr
    request = _try(load, data, where, "certificate request (PKCS #10)")
    if not _try(lambda _: request.is_signature_valid, b"", where, "signature"):
        raise PkiError(f"the request in {where} was not signed with its own key, or was changed")
    return request


def read_revocations(data: bytes, where: str) -> x509.CertificateRevocationList:
    """A revocation list in PEM or DER. Raises PkiError."""
    load = x509.load_pem_x509_crl if b"-----BEGIN " in data else x509.load_der_x509_crl
    return _try(load, data, where, "revocation list")


def _try(load: Callable[[bytes], T], data: bytes, where: str, what: str) -> T:
    try:
        return load(data)
    except DAMAGED:
        raise PkiError(f"{where} holds no {what} that can be read") from None


def fits(certificate: x509.Certificate, key: PrivateKey) -> bool:
    """Whether a certificate is for a private key."""
    form = (Encoding.DER, PublicFormat.SubjectPublicKeyInfo)
    return key.public_key().public_bytes(*form) == certificate.public_key().public_bytes(*form)


def as_pem(certificates: Sequence[x509.Certificate]) -> str:
    """Certificates as PEM, one after the other."""
    return "".join(c.public_bytes(Encoding.PEM).decode() for c in certificates)


def key_as_pem(key: PrivateKey, passphrase: str | None = None) -> str:
    """A private key as PKCS #8 PEM, encrypted when there is a passphrase."""
    seal = NoEncryption() if passphrase is None else BestAvailableEncryption(passphrase.encode())
    return key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, seal).decode()


def as_pkcs12(name: str, bundle: Bundle, passphrase: str) -> bytes:
    """Certificates and key as PKCS #12 under a passphrase."""
    leaf, *others = bundle.certificates
    seal = BestAvailableEncryption(passphrase.encode())
    return pkcs12.serialize_key_and_certificates(name.encode(), bundle.key, leaf, others, seal)
