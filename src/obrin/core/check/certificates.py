"""Certificates: missing ones, and every reason why the other end would not accept one."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime, timedelta

from obrin.core.check.finding import Finding, Severity
from obrin.core.days import time_after
from obrin.core.handover.secrets import CertificateFiles, Secrets
from obrin.core.pki.chain import Trust, judge, key_kind
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
        for what, fix in (*_faults(found, identities, now), *_kind_faults(settled, name, found)):
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


def _kind_faults(settled: Settled, name: str, found: CertificateFiles) -> list[tuple[str, str]]:
    try:
        chain = read_bundle(found.chain.encode(), None, "the chain").certificates
    except PkiError:
        return []  # told already
    return list(kind_faults(settled, name, key_kind(chain[0])))


def kind_faults(settled: Settled, name: str, kind: str) -> Iterator[tuple[str, str]]:
    """What the gateway itself, and those at the far ends of its tunnels, cannot do with a kind of
    key, and the cure."""
    tunnels = [
        t for t in settled.tunnels_at(name) if settled.links[t.link].authentication == "certificate"
    ]
    ends = dict.fromkeys(end for t in tunnels for end in (name, t.gateway, t.cloud))
    for end in ends:
        device = settled.clouds[end] if end in settled.clouds else settled.gateways[end]
        able = device.profile.authentication
        if able is not None and kind not in able:
            kinds = ", ".join(m for m in able if m != "pre-shared-key") or "no"
            yield (
                f"its key is {kind}, and {end} ({device.profile.name}) does {kinds} certificates",
                "Bring one with a key that both ends can do",
            )


def _ends(found: CertificateFiles) -> datetime | None:
    try:
        chain = read_bundle(found.chain.encode(), None, "the chain").certificates
    except PkiError:
        return None
    return min((c.not_valid_after_utc for c in chain), default=None)
