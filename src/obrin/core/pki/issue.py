"""Making certificates: authorities, gateways and revocation lists, as RFC 4945 and RFC 5280 want.

Keys and serial numbers come from outside; nothing here is random and nothing reads a clock.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from cryptography import x509
from cryptography.hazmat.primitives.asymmetric import ec, ed25519, rsa
from cryptography.hazmat.primitives.hashes import SHA256, SHA384, SHA512
from cryptography.x509.oid import NameOID

from obrin.core.days import time_after
from obrin.core.pki.names import DAMAGED, IPSEC_IKE, general_name
from obrin.core.pki.read import PrivateKey

CLOCK_SLACK = timedelta(hours=1)
"""Certificates begin a little before they are made: clocks of devices differ."""
PublicKey = rsa.RSAPublicKey | ec.EllipticCurvePublicKey | ed25519.Ed25519PublicKey


@dataclass(frozen=True, slots=True)
class Issued:
    """A certificate and, where it was made here, its private key."""

    certificate: x509.Certificate
    key: PrivateKey | None


@dataclass(frozen=True, slots=True)
class Span:
    """A serial number, when it is made (aware), and how long it lives."""

    serial: int
    now: datetime
    life: timedelta


def make_root(name: str, key: PrivateKey, span: Span) -> x509.Certificate:
    """A root that may have one authority below it."""
    subject = _subject(name, "root")
    latest = time_after(span.now, span.life)
    return _authority(subject, subject, key.public_key(), key, span, latest, below=1)


def make_issuing(
    name: str, key: PrivateKey, root: x509.Certificate, root_key: PrivateKey, span: Span
) -> x509.Certificate:
    """An issuing authority, which may have none below it."""
    subject = _subject(name, f"issuing {span.now:%Y-%m}")
    latest = root.not_valid_after_utc
    return _authority(root.subject, subject, key.public_key(), root_key, span, latest, below=0)


def make_gateway(
    name: str,
    identities: Iterable[str],
    public_key: PublicKey,
    issuing: x509.Certificate,
    issuing_key: PrivateKey,
    span: Span,
) -> x509.Certificate:
    """A gateway's certificate: its identities as names, for signing in IKE and nothing else."""
    organisation = issuing.subject.get_attributes_for_oid(NameOID.ORGANIZATION_NAME)
    subject = x509.Name([*organisation, x509.NameAttribute(NameOID.COMMON_NAME, name)])
    names = [general_name(identity) for identity in dict.fromkeys(identities)]
    builder = (
        _builder(issuing.subject, subject, public_key, span, issuing.not_valid_after_utc)
        .add_extension(x509.SubjectAlternativeName(names), critical=False)
        .add_extension(x509.BasicConstraints(ca=False, path_length=None), critical=True)
        .add_extension(_usage(signs=True), critical=True)
        .add_extension(x509.ExtendedKeyUsage([IPSEC_IKE]), critical=False)
        .add_extension(_by(issuing), critical=False)
    )
    return builder.sign(issuing_key, _hash(issuing_key))


def make_revocations(
    issuing: x509.Certificate, key: PrivateKey, revoked: Iterable[tuple[int, datetime]], span: Span
) -> x509.CertificateRevocationList:
    """A list of (serial number, when revoked); `span.serial` is the list's own number."""
    builder = (
        x509.CertificateRevocationListBuilder()
        .issuer_name(issuing.subject)
        .last_update(span.now - CLOCK_SLACK)
        .next_update(time_after(span.now, span.life))
        .add_extension(x509.CRLNumber(span.serial), critical=False)
        .add_extension(_by(issuing), critical=False)
    )
    for serial, when in revoked:
        builder = builder.add_revoked_certificate(
            x509.RevokedCertificateBuilder().serial_number(serial).revocation_date(when).build()
        )
    return builder.sign(key, _hash(key))


def identities_of(request: x509.CertificateSigningRequest) -> Sequence[str]:
    """The names that a request asks for."""
    try:
        found = request.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
    except (x509.ExtensionNotFound, *DAMAGED):
        return ()
    return [str(n.value) for n in found if isinstance(n, x509.IPAddress | x509.DNSName)]


def _subject(name: str, what: str) -> x509.Name:
    return x509.Name(
        [
            x509.NameAttribute(NameOID.ORGANIZATION_NAME, name),
            x509.NameAttribute(NameOID.COMMON_NAME, f"{name} {what}"),
        ]
    )


def _builder(
    issuer: x509.Name, subject: x509.Name, key: PublicKey, span: Span, latest: datetime
) -> x509.CertificateBuilder:
    """Nothing lives longer than its issuer; what is cut by that is a finding of `check`."""
    return (
        x509.CertificateBuilder()
        .issuer_name(issuer)
        .subject_name(subject)
        .public_key(key)
        .serial_number(span.serial)
        .not_valid_before(span.now - CLOCK_SLACK)
        .not_valid_after(min(time_after(span.now, span.life), latest))
        .add_extension(x509.SubjectKeyIdentifier.from_public_key(key), critical=False)
    )


def _authority(
    issuer: x509.Name,
    subject: x509.Name,
    public: PublicKey,
    key: PrivateKey,
    span: Span,
    latest: datetime,
    *,
    below: int,
) -> x509.Certificate:
    builder = (
        _builder(issuer, subject, public, span, latest)
        .add_extension(x509.BasicConstraints(ca=True, path_length=below), critical=True)
        .add_extension(_usage(signs=False), critical=True)
    )
    return builder.sign(key, _hash(key))


def _usage(*, signs: bool) -> x509.KeyUsage:
    """A gateway signs; an authority signs certificates and lists."""
    return x509.KeyUsage(
        digital_signature=signs,
        content_commitment=False,
        key_encipherment=False,
        data_encipherment=False,
        key_agreement=False,
        key_cert_sign=not signs,
        crl_sign=not signs,
        encipher_only=False,
        decipher_only=False,
    )


def _by(issuing: x509.Certificate) -> x509.AuthorityKeyIdentifier:
    found = issuing.extensions.get_extension_for_class(x509.SubjectKeyIdentifier).value
    return x509.AuthorityKeyIdentifier.from_issuer_subject_key_identifier(found)


def _hash(key: PrivateKey) -> SHA256 | SHA384 | SHA512 | None:
    """The hash that suits a key; Ed25519 brings its own."""
    if isinstance(key, ed25519.Ed25519PrivateKey):
        return None
    if isinstance(key, ec.EllipticCurvePrivateKey):
        if key.curve.key_size > 384:
            return SHA512()
        return SHA384() if key.curve.key_size == 384 else SHA256()
    return SHA256()
