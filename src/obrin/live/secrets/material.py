"""Certificate files for gateways, made from what the authority issued."""

from __future__ import annotations

from datetime import datetime, timedelta

from cryptography.hazmat.primitives.serialization import Encoding

from obrin.core.calendar.endings import Dated
from obrin.core.handover.standard.keys import CertificateFiles
from obrin.core.pki.read import as_pem, key_as_pem
from obrin.core.settled.model import Settled
from obrin.live.secrets.authority import Authority, Lives


def lives_of(settled: Settled) -> Lives:
    """How long certificates live by the design, and the kind of their keys."""
    given = settled.standards.certificates
    lives = (timedelta(seconds=s) for s in (given.root, given.issuing, given.gateway))
    return Lives(given.kind, *lives)


def certificate_files(
    authority: Authority, settled: Settled, now: datetime
) -> dict[str, CertificateFiles]:
    """Files for every gateway that needs a certificate and has one."""
    believed = as_pem(authority.believed(now))
    lists = "".join(r.public_bytes(Encoding.PEM).decode() for r in authority.revocations)
    found = {}
    for name in settled.certified():
        issued = authority.current(name)
        if issued is not None:
            key = None if issued.key is None else key_as_pem(issued.key)
            found[name] = CertificateFiles(as_pem(authority.chain(issued)), key, believed, lists)
    return found


def dated(authority: Authority, settled: Settled) -> list[Dated]:
    """What is in use, with its last day: authorities, gateways, lists of what is revoked."""
    found = []
    for kind, issued in (("root", authority.roots), ("issuing", authority.issuing)):
        found += [
            Dated(kind, authority.name, i.certificate.not_valid_after_utc.date())
            for i in issued[-1:]
        ]
    for name in settled.certified():
        current = authority.current(name)
        if current is not None:
            found.append(Dated("gateway", name, current.certificate.not_valid_after_utc.date()))
    for revocations in authority.revocations[-1:]:
        if revocations.next_update_utc is not None:
            found.append(Dated("list", authority.name, revocations.next_update_utc.date()))
    return found
