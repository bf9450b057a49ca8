"""A device's credential, read from what its keys or the cloud's API brought."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime

from cryptography import x509

from obrin.core.handover.standard.keys import CertificateFiles
from obrin.core.pki.chain import Trust
from obrin.core.pki.read import PkiError, fits, read_bundle, read_key
from obrin.wire.ike.crypto.credentials import Credential

Wall = Callable[[float], datetime]
_END = "-----END X509 CRL-----\n"


def credential_from(files: CertificateFiles, wall: Wall) -> Credential:
    """Read the files that a gateway was given. Raises PkiError."""
    if files.key is None:
        raise PkiError(
            "the private key is not in the pack: the device made its own request, and only that "
            "device can use the certificate"
        )
    chain = read_bundle(files.chain.encode(), None, "the chain").certificates
    key = read_key(files.key.encode(), None, "the private key")
    if not chain or not fits(chain[0], key):
        raise PkiError("the private key does not belong to the first certificate of the chain")
    authorities = read_bundle(files.authorities.encode(), None, "the authorities").certificates
    return Credential(chain, key, Trust(authorities, _lists(files.revocations)), wall)


def judge_certificate(files: CertificateFiles, wall: Wall) -> None:
    """Whether all of it can be read, also where the private key is not in it. Raises PkiError."""
    if files.key is not None:
        credential_from(files, wall)
        return
    for name, text in (("chain", files.chain), ("authorities", files.authorities)):
        if not read_bundle(text.encode(), None, f"the {name}").certificates:
            raise PkiError(f"the {name} holds no certificate")
    _lists(files.revocations)


def _lists(text: str) -> tuple[x509.CertificateRevocationList, ...]:
    try:
        return tuple(
            x509.load_pem_x509_crl((part + _END).encode())
            for part in text.split(_END)
            if part.strip()
        )
    except ValueError:
        raise PkiError("a revocation list cannot be read") from None
