"""Certificates: missing ones, and every reason why the other end would not accept one."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import datetime, timedelta

from cryptography import x509

from obrin.core.check.finding import Finding, Severity
from obrin.core.days import time_after
from obrin.core.design.reader import Location
from obrin.core.handover.secrets import Secrets
from obrin.core.handover.standard.keys import CertificateFiles
from obrin.core.pki.chain import Trust, judge, key_kind, signed
from obrin.core.pki.read import PkiError, fits, read_bundle, read_key
from obrin.core.quantity import plain
from obrin.core.settled.model import Settled

LEAD = timedelta(days=30)
"""A certificate that ends within this time is worth a word."""


def certificates(settled: Settled, secrets: Secrets, now: datetime) -> Iterator[Finding]:
    """What packs would hand over, as the other end will see it; `now` is aware."""
    yield from _lives(settled)
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
        try:
            chain = read_bundle(found.chain.encode(), None, "the chain").certificates
        except PkiError as error:
            yield _refused(here, name, str(error), _ANEW)
            continue
        faults = _faults(found, chain, identities, now)
        if chain:
            faults += kind_faults(settled, name, key_kind(chain[0]))
        for what, fix in faults:
            yield _refused(here, name, what, fix)
        ends = min((c.not_valid_after_utc for c in chain), default=None)
        if ends is not None and now <= ends <= time_after(now, LEAD):
            yield Finding(
                Severity.WARNING,
                "certificate-ends",
                here,
                f"the certificate of {name} ends on {ends:%Y-%m-%d}",
                "from then on the tunnels do not come up again",
                f"'obrin certificates renew {name}', then hand over",
            )
        yield from _cut(settled, here, name, chain, found.authorities)


def _lives(settled: Settled) -> Iterator[Finding]:
    """A life that no certificate can have, since its issuer's is shorter."""
    given = settled.standards.certificates
    for key, what, life, above, longest in (
        ("issuing", "issuing authorities", given.issuing, "the root", given.root),
        ("gateway", "gateways", given.gateway, "their issuing authority", given.issuing),
    ):
        if life > longest:
            yield Finding(
                Severity.WARNING,
                "certificate-cut",
                ("authority", key),
                f"certificates of {what} are to live {_days(life)}, and {above} lives "
                f"{_days(longest)}",
                "they end with their issuer, earlier than the design says",
                f"give 'authority: {key}' a shorter life, or its issuer a longer one",
            )


def _cut(
    settled: Settled, here: Location, name: str, chain: Sequence[x509.Certificate], roots: str
) -> Iterator[Finding]:
    """Certificates that the end of their issuer cut short. They begin a little before they are
    made."""
    lives = settled.standards.certificates
    above = [*chain[1:2], *_readable(roots)]
    for certificate, of, life, below in (
        *((c, name, lives.gateway, "issuing") for c in chain[:1]),
        *((c, f"the issuer of {name}", lives.issuing, "root") for c in chain[1:2]),
    ):
        begins, ends = certificate.not_valid_before_utc, certificate.not_valid_after_utc
        issuers = (c for c in above if c.subject == certificate.issuer and signed(certificate, c))
        cut = any(c.not_valid_after_utc == ends for c in issuers)
        if cut and ends - begins < timedelta(seconds=life):
            yield Finding(
                Severity.WARNING,
                "certificate-cut",
                here,
                f"the certificate of {of} ends on {ends:%Y-%m-%d} with its issuer, after "
                f"{(ends - begins).days} d instead of {_days(life)}",
                "from then on no tunnel with a certificate of that issuer comes up",
                f"'obrin certificates rotate --below {below}'",
            )


def _readable(pem: str) -> tuple[x509.Certificate, ...]:
    """Read them; none where one is damaged: that is another finding."""
    try:
        return read_bundle(pem.encode(), None, "the authorities").certificates
    except PkiError:
        return ()


def _days(seconds: float) -> str:
    return f"{plain(seconds / 86400)} d"


_ANEW = "issue it again with 'obrin certificates renew'"


def _refused(here: Location, name: str, what: str, fix: str) -> Finding:
    return Finding(
        Severity.ERROR,
        "certificate-refused",
        here,
        f"the certificate of {name} will not be accepted: {what}",
        "IKE_AUTH fails with AUTHENTICATION_FAILED, and no screen says why",
        fix,
    )


def _faults(
    found: CertificateFiles,
    chain: Sequence[x509.Certificate],
    identities: tuple[str, ...],
    now: datetime,
) -> list[tuple[str, str]]:
    try:
        trusted = read_bundle(found.authorities.encode(), None, "the authorities").certificates
        if found.key is not None:
            key = read_key(found.key.encode(), None, "the private key")
            if chain and not fits(chain[0], key):
                return [("the private key belongs to another certificate", "Issue it again")]
    except PkiError as error:
        return [(str(error), _ANEW)]
    issued = [
        (fault.what, fault.fix)
        for identity in identities
        for fault in judge(chain, Trust(trusted), now, identity)
    ]
    return list(dict.fromkeys(issued))


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
