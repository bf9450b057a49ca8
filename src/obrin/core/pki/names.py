"""Identities and names in certificates, as IKE wants them (RFC 4945 section 3.1)."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterable

from cryptography import x509
from cryptography.exceptions import UnsupportedAlgorithm
from cryptography.x509.oid import ExtendedKeyUsageOID, ObjectIdentifier

from obrin.core.address.prefix import parse_address
from obrin.core.errors import AddressError

IPSEC_IKE = ObjectIdentifier("1.3.6.1.5.5.7.3.17")
"""id-kp-ipsecIKE, RFC 4945 section 5.1.3.12."""
DAMAGED = (
    ValueError,
    TypeError,
    UnsupportedAlgorithm,
    x509.DuplicateExtension,
    x509.InvalidVersion,
    x509.UnsupportedGeneralNameType,
)
"""What the library raises for a certificate or request that makes no sense."""
ANY_USE = ExtendedKeyUsageOID.ANY_EXTENDED_KEY_USAGE


def general_name(identity: str) -> x509.GeneralName:
    """An address becomes an iPAddress, one of mail an rfc822Name, anything else a dNSName."""
    try:
        parse_address(identity)
    except AddressError:
        return x509.RFC822Name(identity) if "@" in identity else x509.DNSName(identity)
    return x509.IPAddress(ipaddress.ip_address(identity))


def names_in(certificate: x509.Certificate) -> list[str]:
    """Every name in the subjectAltName that can stand for an IKE identity, as text."""
    try:
        found = certificate.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
    except x509.ExtensionNotFound:
        return []
    kinds = (x509.IPAddress, x509.DNSName, x509.RFC822Name)
    return [str(name.value) for name in found if isinstance(name, kinds)]


def is_named(certificate: x509.Certificate, identity: str) -> bool:
    """Whether a certificate stands for an identity; the case of letters does not matter.

    RFC 4945 section 3.1.1: no name is derived from the subject, and no wildcards are known.
    """
    wanted = str(general_name(identity).value).lower()
    return wanted in (name.lower() for name in names_in(certificate))


def subject(certificate: x509.Certificate) -> str:
    """Subject of a certificate for messages; its names where the subject is empty."""
    return certificate.subject.rfc4514_string() or ", ".join(names_in(certificate)) or "no name"


def issuer(certificate: x509.Certificate) -> str:
    """Issuer of a certificate for messages."""
    return certificate.issuer.rfc4514_string() or "no name"


def listed(names: Iterable[str]) -> str:
    """Names for a message."""
    return ", ".join(names) or "none"
