"""Certificates: missing ones, and every reason why the other end would not accept one."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime, timedelta

from obrin.core.check.finding import Finding, Severity
from obrin.core.days import time_after
from obrin.core.handover.secrets import CertificateFiles, Secrets
from obrin.core.pki.chain import Trust, judge
from obrin.core.pki.read import PkiError, fits, read_bundle, read_key
from obrin.core.settled.model import Settled

LEAD = timedelta(days=30)
"""A certificate that ends within this time is worth a word."""


def certificates(settled: Settled, secrets: Secrets, now: datetime) -> Iterator[Finding]:
    """What packs would hand over, as the other end will see it; `now` is aware."""
    for name, identities in settled.certified().items():
        here = settled.location_of(name)
        found = secrets.certificates.get(name)
        if name in secrets.barred:
            yield Finding(
                Severity.WARNING,
                "certificate-revoked",
                here,
                f"the certificate of {name} is revoked, and the design still has its tunnels",
                "it gets no pack, and its tunnels do not come up again",
                f"take {name} out of the design, or 'obrin certificates renew {name}'",
            )
            continue
        if found is None:
            yield Finding(
                Severity.WARNING,
                "certificate-missing",
                here,
                f"{name} has no certificate yet",
                "it cannot be handed over or connected",
                "run 'obrin settle'",
            )
            continue
        for what, fix in _faults(found, identities, now):
            yield Finding(
                Severity.ERROR,
                "certificate-refused",
                here,
                f"the certificate of {name} will not be accepted: {what}",
                "IKE_AUTH fails with AUTHENTICATION_FAILED, and no screen says why",
                fix,
            )
        ends = _ends(found)
        if ends is not None and now <= ends <= time_after(now, LEAD):
            yield Finding(
                Severity.WARNING,
                "certificate-ends",
                here,
                f"the certificate of {name} ends on {ends:%Y-%m-%d}",
                "from then on the tunnels do not come up again",
                f"'obrin certificates renew {name}', then hand over",
            )


def _faults(
    found: CertificateFiles, identities: tuple[str, ...], now: datetime
) -> list[tuple[str, str]]:
    try:
        chain = read_bundle(found.chain.encode(), None, "the chain").certificates
        trusted = read_bundle(found.authorities.encode(), None, "the authorities").certificates
        if found.key is not None:
            key = read_key(found.key.encode(), None, "the private key")
            if not fits(chain[0], key):
                return [("the private key belongs to another certificate", "Issue it again")]
    except PkiError as error:
        return [(str(error), "issue it again with 'obrin certificates renew'")]
    told = [
        (fault.what, fault.fix)
        for identity in identities
        for fault in judge(chain, Trust(trusted), now, identity)
    ]
    return list(dict.fromkeys(told))


def _ends(found: CertificateFiles) -> datetime | None:
    try:
        chain = read_bundle(found.chain.encode(), None, "the chain").certificates
    except PkiError:
        return None
    return min((c.not_valid_after_utc for c in chain), default=None)
