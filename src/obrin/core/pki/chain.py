"""Why a certificate chain is not accepted: the true causes, each with its cure.

Path validation after RFC 5280 section 6.1, without policies and name constraints (a critical
extension that is not understood is a fault, as section 4.2 wants), with what RFC 4945 asks of
certificates for IKE. Everything is judged, so that one round of repairs is enough.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import TypeVar

from cryptography import x509
from cryptography.exceptions import InvalidSignature, UnsupportedAlgorithm
from cryptography.hazmat.primitives.asymmetric import ec, ed25519, rsa

from obrin.core.pki.names import (
    ANY_USE,
    DAMAGED,
    IPSEC_IKE,
    is_named,
    issuer,
    listed,
    names_in,
    subject,
)

E = TypeVar("E", bound=x509.ExtensionType)
LONGEST = 8
"""Certificates in a chain; more than that is nobody's."""
MOST_TRIES = 64
"""Signatures that are checked to find the way from a certificate to a trusted one."""
LEAST_RSA = 2048
_CURVES = {"secp256r1": "P-256", "secp384r1": "P-384", "secp521r1": "P-521"}
_WEAK_HASHES = ("md5", "sha1")
_UNDERSTOOD = (
    x509.BasicConstraints,
    x509.KeyUsage,
    x509.ExtendedKeyUsage,
    x509.SubjectAlternativeName,
    x509.AuthorityKeyIdentifier,
    x509.SubjectKeyIdentifier,
    x509.CRLDistributionPoints,
    x509.CertificatePolicies,
    x509.AuthorityInformationAccess,
)


_KEYS = (rsa.RSAPublicKey, ec.EllipticCurvePublicKey, ed25519.Ed25519PublicKey)


@dataclass(frozen=True, slots=True)
class Fault:
    """`code` is stable; `what` and `fix` are for people."""

    code: str
    what: str
    fix: str

    def __str__(self) -> str:
        return f"{self.what}. {self.fix}"


@dataclass(frozen=True, slots=True)
class Trust:
    """Whom to believe: authorities, and lists of what they revoked."""

    authorities: tuple[x509.Certificate, ...]
    revocations: tuple[x509.CertificateRevocationList, ...] = ()


_Way = tuple[list[x509.Certificate], list[Fault]]
"""The certificates from the gateway's upwards, and what is missing at their end."""


def key_kind(certificate: x509.Certificate) -> str:
    """`rsa`, `ecdsa`, `ed25519` or what else the key is."""
    return kind_of_key(certificate.public_key())


def kind_of_key(key: object) -> str:
    """The kind of a public or private key, as device profiles name it."""
    if isinstance(key, rsa.RSAPublicKey | rsa.RSAPrivateKey):
        return "rsa"
    if isinstance(key, ec.EllipticCurvePublicKey | ec.EllipticCurvePrivateKey):
        return "ecdsa"
    if isinstance(key, ed25519.Ed25519PublicKey | ed25519.Ed25519PrivateKey):
        return "ed25519"
    return type(key).__name__.removeprefix("_").removesuffix("PublicKey").lower()


def judge(
    chain: Sequence[x509.Certificate], trust: Trust, now: datetime, identity: str | None = None
) -> list[Fault]:
    """All faults of a chain whose first certificate is the gateway's; empty for a good one.

    `now` is aware. `identity` is what the gateway says it is in IKE; None leaves names out.
    """
    if not chain:
        return [Fault("empty", "there is no certificate", "Send the gateway's certificate first")]
    try:
        return _judge(chain, trust, now, identity)
    except DAMAGED as error:
        what = f"a certificate of the chain is damaged: {error}"
        return [Fault("damaged", what, "Fetch or issue it again")]


def _judge(
    chain: Sequence[x509.Certificate], trust: Trust, now: datetime, identity: str | None
) -> list[Fault]:
    leaf = chain[0]
    found = [*_leaf(leaf, identity)]
    path, missing = _path(leaf, chain[1:], trust)
    found += missing
    for depth, certificate in enumerate(path):
        found += _dates(certificate, now)
        found += _strength(certificate)
        found += _critical(certificate)
        if depth:
            found += _authority(certificate, depth - 1)
    known = () if missing else (*trust.authorities, *path[1:])
    for certificate, above in itertools.pairwise(path):
        found += _revoked(certificate, above, known, trust, now)
    return found


def _leaf(leaf: x509.Certificate, identity: str | None) -> Iterator[Fault]:
    if key_kind(leaf) not in ("rsa", "ecdsa", "ed25519"):
        what = f"its key is of kind {key_kind(leaf)}, which IKE does not use here"
        yield Fault("key-kind", what, "Make it with an RSA, ECDSA or Ed25519 key")
    if identity is not None and not is_named(leaf, identity):
        yield Fault(
            "name",
            f"the gateway says that it is {identity}, and its certificate stands for "
            f"{listed(names_in(leaf))}",
            "Issue it again with that name in the subjectAltName, or change the identity",
        )
    constraints = _extension(leaf, x509.BasicConstraints)
    if constraints is not None and constraints.ca:
        what = f"{subject(leaf)} is an authority's certificate, not a gateway's"
        yield Fault("order", what, "Put the gateway's own certificate first")
    usage = _extension(leaf, x509.KeyUsage)
    if usage is not None and not (usage.digital_signature or usage.content_commitment):
        what = "its key usage has no digitalSignature"
        yield Fault("usage", what, "Issue it again with that use (RFC 4945 section 5.1.3.2)")
    extended = _extension(leaf, x509.ExtendedKeyUsage)
    if extended is not None and not {IPSEC_IKE, ANY_USE} & set(extended):
        what = "its extended key usage is for something else than IKE"
        fix = "Issue it again with id-kp-ipsecIKE, or without that extension"
        yield Fault("usage", what, fix)


def _path(
    leaf: x509.Certificate, sent: Sequence[x509.Certificate], trust: Trust
) -> tuple[list[x509.Certificate], list[Fault]]:
    """Build the chain from the gateway's certificate to a trusted one, as far as it goes.

    A name does not tell two authorities apart: one whose key was renewed keeps its subject. So each
    certificate of the issuer's name is tried by its key, until one leads to a trusted one (the
    search of RFC 4158 section 2.4.2); where none does, the first way that was tried is returned.
    """
    search = _Search([*trust.authorities, *sent], frozenset(trust.authorities))
    return search.above([leaf]) or search.first or ([leaf], [])


@dataclass(slots=True)
class _Search:
    """`tries` bounds the signatures that a hostile chain can have us check."""

    known: Sequence[x509.Certificate]
    trusted: frozenset[x509.Certificate]
    tries: int = MOST_TRIES
    seen: set[x509.Certificate] = field(default_factory=set)
    first: _Way | None = None

    def above(self, path: list[x509.Certificate]) -> _Way | None:
        """The path with what leads from its end to a trusted one; None where nothing does."""
        last = path[-1]
        self.seen.add(last)
        if last in self.trusted:
            return path, []
        named = [c for c in self.known if c.subject == last.issuer and c not in self.seen]
        problem = _problem(path, named)
        if problem is None:
            by, problem = _key_id_of_issuer(last), _unsigned(last)
            for candidate in sorted(named, key=lambda c: by is None or _key_id(c) != by):
                if self.tries == 0:
                    break
                self.tries -= 1
                if candidate not in self.seen and signed(last, candidate):
                    problem = None
                    if way := self.above([*path, candidate]):
                        return way
        if problem is not None and self.first is None:
            self.first = path, [problem]
        return None


def _problem(path: Sequence[x509.Certificate], named: Sequence[x509.Certificate]) -> Fault | None:
    """Why nothing can stand above the end of a path; `named` are those of its issuer's name."""
    last = path[-1]
    if len(path) > LONGEST:
        fix = "Send only the certificates between the gateway and the root"
        return Fault("long", f"the chain is longer than {LONGEST}", fix)
    if len(path) > 1 and last.subject == last.issuer:
        what = f"the chain ends at {subject(last)}, which is not trusted here"
        fix = "Take that authority in at the other end, if it is the right one"
        return Fault("untrusted", what, fix)
    return None if named else _missing(last)


def _unsigned(last: x509.Certificate) -> Fault:
    return Fault(
        "signature",
        f"{subject(last)} names {issuer(last)} as its issuer, and was not signed by the one that "
        "is there",
        "An authority of that name was made anew: use the certificate that belongs to it",
    )


def _missing(last: x509.Certificate) -> Fault:
    if last.subject == last.issuer:
        what = f"{subject(last)} is self-signed and not trusted here"
        return Fault("untrusted", what, "Take it in at the other end, if it is the right one")
    return Fault(
        "incomplete",
        f"the certificate of {issuer(last)}, which issued {subject(last)}, is missing",
        "Let the gateway send it after its own, or take it in at the other end",
    )


def signed(certificate: x509.Certificate, by: x509.Certificate) -> bool:
    """Whether one certificate was issued by another: names and signature."""
    try:
        certificate.verify_directly_issued_by(by)
    except (InvalidSignature, ValueError, TypeError, UnsupportedAlgorithm):
        return False
    return True


def _dates(certificate: x509.Certificate, now: datetime) -> Iterator[Fault]:
    begins, ends = certificate.not_valid_before_utc, certificate.not_valid_after_utc
    if now < begins:
        what = f"{subject(certificate)} is not valid before {begins:%Y-%m-%d %H:%M} UTC"
        yield Fault("early", what, "Wait, or look at the clocks of both ends")
    if now > ends:
        what = f"{subject(certificate)} ended on {ends:%Y-%m-%d %H:%M} UTC"
        yield Fault("ended", what, "Renew it; if it should be valid, look at the clocks")


def _strength(certificate: x509.Certificate) -> Iterator[Fault]:
    key = certificate.public_key()
    if isinstance(key, rsa.RSAPublicKey) and key.key_size < LEAST_RSA:
        what = f"{subject(certificate)} has an RSA key of {key.key_size} bits"
        yield Fault("weak", what, f"Make one of at least {LEAST_RSA} bits")
    if isinstance(key, ec.EllipticCurvePublicKey) and key.curve.name not in _CURVES:
        what = f"{subject(certificate)} uses the curve {key.curve.name}"
        yield Fault("key-kind", what, f"Use one of {listed(_CURVES.values())}")
    try:
        digest = certificate.signature_hash_algorithm
    except UnsupportedAlgorithm:
        digest = None
    if (
        digest is not None
        and digest.name in _WEAK_HASHES
        and certificate.subject != certificate.issuer
    ):
        what = f"{subject(certificate)} was signed with {digest.name.upper()}"
        yield Fault("weak", what, "Have it issued again with SHA-256 or better")


def _critical(certificate: x509.Certificate) -> Iterator[Fault]:
    for extension in certificate.extensions:
        if extension.critical and not isinstance(extension.value, _UNDERSTOOD):
            name = extension.oid.dotted_string
            what = f"{subject(certificate)} has the critical extension {name}, not understood here"
            yield Fault("critical", what, "Use an authority without it")


def _authority(certificate: x509.Certificate, below: int) -> Iterator[Fault]:
    """What an issuer must be; `below` counts the authorities between it and the gateway."""
    constraints = _extension(certificate, x509.BasicConstraints)
    if constraints is None or not constraints.ca:
        what = f"{subject(certificate)} issued a certificate and is not an authority"
        yield Fault("not-authority", what, "Use an authority whose basicConstraints say so")
    elif constraints.path_length is not None and below > constraints.path_length:
        what = (
            f"{subject(certificate)} allows {constraints.path_length} authorities below it, "
            f"the chain has {below}"
        )
        yield Fault("path-length", what, "Issue from an authority further up")
    usage = _extension(certificate, x509.KeyUsage)
    if usage is not None and not usage.key_cert_sign:
        what = f"{subject(certificate)} may not sign certificates by its key usage"
        yield Fault("not-authority", what, "Use an authority with keyCertSign")


def _revoked(
    certificate: x509.Certificate,
    by: x509.Certificate,
    known: Sequence[x509.Certificate],
    trust: Trust,
    now: datetime,
) -> Iterator[Fault]:
    """What the lists of its issuer say; `known` are authorities that are believed.

    A list belongs to a key, and not to a name (RFC 5280 section 5.2.1). Of two authorities with one
    name each may have a list; the entries of both count, since no issuer uses a number twice.
    """
    for found in (r for r in trust.revocations if r.issuer == by.subject):
        own = _is_list_of(found, by)
        if not own and not any(c != by and _is_list_of(found, c) for c in known):
            if _key_id_of_issuer(found) in (None, _key_id(by)):
                what = f"the revocation list of {subject(by)} was not signed by it"
                yield Fault("list-signature", what, "Fetch it again")
            continue
        if own and found.next_update_utc is not None and now > found.next_update_utc:
            what = (
                f"the revocation list of {subject(by)} ended on "
                f"{found.next_update_utc:%Y-%m-%d %H:%M} UTC"
            )
            yield Fault("list-ended", what, "Make or fetch a new one")
        entry = found.get_revoked_certificate_by_serial_number(certificate.serial_number)
        if entry is not None:
            what = f"{subject(certificate)} was revoked on {entry.revocation_date_utc:%Y-%m-%d}"
            yield Fault("revoked", what, "Issue a new one, if the gateway is to come back")


def _is_list_of(revocations: x509.CertificateRevocationList, by: x509.Certificate) -> bool:
    """Whether an authority made a list: its name, and a signature by its key."""
    key = by.public_key()
    return (
        revocations.issuer == by.subject
        and isinstance(key, _KEYS)
        and revocations.is_signature_valid(key)
    )


def _key_id(certificate: x509.Certificate) -> bytes | None:
    """The identifier of its own key (RFC 5280 section 4.2.1.2)."""
    found = _extension(certificate, x509.SubjectKeyIdentifier)
    return None if found is None else found.digest


def _key_id_of_issuer(
    signed_by: x509.Certificate | x509.CertificateRevocationList,
) -> bytes | None:
    """The identifier of the key that signed it (section 4.2.1.1), as far as it says one."""
    found = _extension(signed_by, x509.AuthorityKeyIdentifier)
    return None if found is None else found.key_identifier


def _extension(
    holder: x509.Certificate | x509.CertificateRevocationList, kind: type[E]
) -> E | None:
    try:
        return holder.extensions.get_extension_for_class(kind).value
    except x509.ExtensionNotFound:
        return None
