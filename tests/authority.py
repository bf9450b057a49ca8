"""A certificate authority for tests: a root, an issuing authority, gateways, and mistakes."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta

from cryptography import x509
from cryptography.hazmat.primitives.asymmetric import ec, ed25519, rsa

from obrin.core.pki.chain import Trust
from obrin.core.pki.issue import Span, make_gateway, make_issuing, make_revocations, make_root
from obrin.core.pki.read import PrivateKey
from obrin.wire.ike.crypto.credentials import Credential

NOW = datetime(2026, 11, 23, 12, 0, tzinfo=UTC)
YEAR = timedelta(days=365)


def new_key(kind: str = "ecdsa") -> PrivateKey:
    if kind == "rsa":
        return rsa.generate_private_key(65537, 2048)
    return (
        ed25519.Ed25519PrivateKey.generate()
        if kind == "ed25519"
        else ec.generate_private_key(
            {"ecdsa": ec.SECP256R1(), "p384": ec.SECP384R1(), "p521": ec.SECP521R1()}[kind]
        )
    )


@dataclass
class Made:
    """A root and an issuing authority of one kind of key."""

    kind: str = "ecdsa"
    name: str = "Test"
    serial: int = 100
    root_key: PrivateKey = field(init=False)
    issuing_key: PrivateKey = field(init=False)
    root: x509.Certificate = field(init=False)
    issuing: x509.Certificate = field(init=False)

    def __post_init__(self) -> None:
        self.root_key, self.issuing_key = new_key(self.kind), new_key(self.kind)
        self.root = make_root(self.name, self.root_key, self.span(10 * YEAR))
        self.issuing = make_issuing(
            self.name, self.issuing_key, self.root, self.root_key, self.span(5 * YEAR)
        )

    def span(self, life: timedelta = YEAR, now: datetime = NOW) -> Span:
        self.serial += 1
        return Span(self.serial, now, life)

    def gateway(
        self, *identities: str, kind: str = "", now: datetime = NOW, key: PrivateKey | None = None
    ) -> tuple[x509.Certificate, PrivateKey]:
        key = key or new_key(kind or self.kind)
        leaf = make_gateway(
            "gateway",
            identities,
            key.public_key(),
            self.issuing,
            self.issuing_key,
            self.span(now=now),
        )
        return leaf, key

    def revocations(self, *serials: int, now: datetime = NOW) -> x509.CertificateRevocationList:
        return make_revocations(
            self.issuing,
            self.issuing_key,
            [(s, now) for s in serials],
            self.span(timedelta(days=30), now),
        )

    def trust(self, *revocations: x509.CertificateRevocationList) -> Trust:
        return Trust((self.root,), revocations)

    def credential(
        self, *identities: str, kind: str = "", trust: Trust | None = None, **changes
    ) -> Credential:
        leaf, key = self.gateway(*identities, kind=kind)
        parts = {
            "chain": (leaf, self.issuing),
            "key": key,
            "trust": trust or self.trust(),
            "wall": lambda now: NOW + timedelta(seconds=now),
        }
        return Credential(**parts | changes)
