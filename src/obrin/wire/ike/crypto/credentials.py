"""Credentials of one end by certificate, and whom it trusts; the payloads that carry it.

Certificates travel as CERT payloads, the gateway's own first (RFC 7296 section 3.6); CERTREQ
names the authorities that an end believes by hashes of their keys (section 3.7).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import datetime

from cryptography import x509
from cryptography.hazmat.primitives.hashes import SHA1, Hash
from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat

from obrin.core.pki.chain import Trust, judge
from obrin.core.pki.names import DAMAGED
from obrin.wire.ike.codec.numbers import CERT_X509, PayloadType
from obrin.wire.ike.codec.payloads import Cert, Payload
from obrin.wire.ike.crypto.signatures import PrivateKey, SignatureProblem, sign, verify

MOST_SENT = 8
"""Certificates that are read of one peer."""


@dataclass(frozen=True, slots=True)
class Credential:
    """`chain` begins with the gateway's own certificate; `wall` turns an engine's time into UTC."""

    chain: tuple[x509.Certificate, ...]
    key: PrivateKey = field(repr=False, compare=False)
    trust: Trust
    wall: Callable[[float], datetime] = field(compare=False)

    def payloads(self) -> list[Payload]:
        """What is sent of ourselves: all but a root, which the peer has or does not believe."""
        sent = [c for n, c in enumerate(self.chain) if n == 0 or c.subject != c.issuer]
        return [Cert(PayloadType.CERT, CERT_X509, c.public_bytes(Encoding.DER)) for c in sent]

    def request(self) -> Payload:
        """Whom we believe."""
        hashes = b"".join(_key_hash(c) for c in self.trust.authorities)
        return Cert(PayloadType.CERTREQ, CERT_X509, hashes)

    def prove(self, octets: bytes, peer_hashes: tuple[int, ...]) -> bytes:
        """The AUTH value. Raises SignatureProblem."""
        return sign(self.key, octets, peer_hashes)

    def check(
        self, payloads: list[Payload], identity: str, value: bytes, octets: bytes, now: float
    ) -> tuple[x509.Certificate, ...]:
        """Believe the peer's chain, name and signature; the chain. Raises SignatureProblem with the
        causes."""
        sent = [p for p in payloads if isinstance(p, Cert) and p.kind == PayloadType.CERT]
        try:
            chain = tuple(
                x509.load_der_x509_certificate(p.data)
                for p in sent[:MOST_SENT]
                if p.encoding == CERT_X509
            )
        except DAMAGED:
            raise SignatureProblem("the peer's certificate cannot be read") from None
        faults = judge(chain, self.trust, self.wall(now), identity)
        if faults:
            raise SignatureProblem("; ".join(fault.what for fault in faults))
        verify(chain[0].public_key(), value, octets)
        return chain

    def believes(self, chain: tuple[x509.Certificate, ...], identity: str, now: float) -> bool:
        """Whether a chain that was proven once would be good again."""
        return not judge(chain, self.trust, self.wall(now), identity)


def _key_hash(certificate: x509.Certificate) -> bytes:
    """SHA-1 of the public key's SubjectPublicKeyInfo (RFC 7296 section 3.7); only a label."""
    digest = Hash(SHA1())
    digest.update(
        certificate.public_key().public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo)
    )
    return digest.finalize()
