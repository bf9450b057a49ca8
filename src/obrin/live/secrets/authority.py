"""A small certificate authority at rest: root, issuing authority, gateways, and what is revoked.

Several of a kind stand in order of age; the last one is in use, and the ones before it are believed
until they end, so that renewals overlap.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date, datetime, timedelta
from typing import NamedTuple, cast

from cryptography import x509
from cryptography.hazmat.primitives.asymmetric import ec, ed25519, rsa
from cryptography.hazmat.primitives.hashes import SHA256
from cryptography.hazmat.primitives.serialization import Encoding

from obrin.core.json_text import Json
from obrin.core.pki.chain import LONGEST, signed
from obrin.core.pki.issue import (
    Issued,
    PublicKey,
    Span,
    make_gateway,
    make_issuing,
    make_revocations,
    make_root,
)
from obrin.core.pki.names import names_in
from obrin.core.pki.read import Bundle, PkiError, PrivateKey, as_pem, key_as_pem, read_bundle
from obrin.live.secrets.file import SecretFile

RSA_BITS = 3072
LISTS_RENEWED = timedelta(days=30)
"""How long before a revocation list ends `settle` makes it anew."""


@dataclass(frozen=True, slots=True)
class Lives:
    """How long certificates live, and the kind of their keys: `rsa`, `ecdsa` or `ed25519`."""

    kind: str = "ecdsa"
    root: timedelta = timedelta(days=3650)
    issuing: timedelta = timedelta(days=1825)
    gateway: timedelta = timedelta(days=365)


class Revoked(NamedTuple):
    """A certificate that was revoked. Another issuer may use its serial number again, so it is
    known by its SHA-256 fingerprint, in hexadecimal."""

    serial: int
    when: datetime
    fingerprint: str


@dataclass(slots=True, kw_only=True)
class Authority:
    """`gateways` by name.

    `others` and `trusted` are of authorities elsewhere: between a brought certificate and its
    root, and such roots. Of a rotation that was begun and not finished, `turns` are the tunnels
    whose turn is to come, and `renewing` who gets another certificate by it.
    """

    name: str
    roots: list[Issued] = field(default_factory=list)
    issuing: list[Issued] = field(default_factory=list)
    gateways: dict[str, list[Issued]] = field(default_factory=dict)
    revoked: list[Revoked] = field(default_factory=list)
    revocations: list[x509.CertificateRevocationList] = field(default_factory=list)
    others: list[x509.Certificate] = field(default_factory=list)
    trusted: list[x509.Certificate] = field(default_factory=list)
    turns: list[str] = field(default_factory=list)
    renewing: list[str] = field(default_factory=list)

    # Making

    def found(self, lives: Lives, now: datetime) -> None:
        """Make a new root, and an issuing authority below it."""
        key = new_key(lives.kind)
        root = make_root(self.name, key, _span(now, lives.root))
        self.roots.append(Issued(root, key))
        self.appoint(lives, now)

    def appoint(self, lives: Lives, now: datetime) -> None:
        """Make a new issuing authority below the newest root. Raises PkiError."""
        key, root = new_key(lives.kind), self.roots[-1]
        if root.key is None:
            raise PkiError("the root's private key is not here. Make a new root")
        if not _is_alive(root, now):
            ended = root.certificate.not_valid_after_utc
            raise PkiError(
                f"the root ended on {ended:%Y-%m-%d}. Make a new one with 'obrin certificates "
                "renew root'"
            )
        made = make_issuing(self.name, key, root.certificate, root.key, _span(now, lives.issuing))
        self.issuing.append(Issued(made, key))

    def prepare(self, lives: Lives, now: datetime) -> None:
        """See to it that an issuing authority is there that has not ended, and a root above it."""
        if not self.roots or not _is_alive(self.roots[-1], now):
            self.found(lives, now)
        elif not self.issuing or not _is_alive(self.issuing[-1], now):
            self.appoint(lives, now)
        else:
            return
        self.publish_again(lives, now)

    def issue(
        self,
        gateway: str,
        identities: Sequence[str],
        lives: Lives,
        now: datetime,
        public_key: PublicKey | None = None,
    ) -> Issued:
        """A certificate for a gateway; with a public key of its own, the private one stays away."""
        key = new_key(lives.kind) if public_key is None else None
        public = public_key if public_key is not None or key is None else key.public_key()
        by = self.issuing[-1]
        if by.key is None or public is None:
            raise PkiError("the issuing authority's private key is not here. Renew it")
        span = _span(now, lives.gateway)
        if not _is_alive(by, now):
            raise PkiError("the issuing authority has ended. Run 'obrin settle'")
        certificate = make_gateway(gateway, identities, public, by.certificate, by.key, span)
        made = Issued(certificate, key)
        self.gateways.setdefault(gateway, []).append(made)
        return made

    def bring(
        self, gateway: str, bundle: Bundle, authorities: Sequence[x509.Certificate]
    ) -> Issued:
        """Take a certificate that somebody else issued, with what is between it and its root."""
        made = Issued(bundle.certificates[0], bundle.key)
        self.gateways.setdefault(gateway, []).append(made)
        self.others += [c for c in bundle.certificates[1:] if c not in self.others]
        self.trusted += [c for c in authorities if c not in self.trusted]
        return made

    def take_back(self, gateway: str) -> None:
        """What it got last is not used after all, where there is one from before."""
        held = self.gateways.get(gateway, [])
        if any(not self.is_revoked(issued.certificate) for issued in held[:-1]):
            held.pop()

    def retire(self, names: Iterable[str], now: datetime) -> list[str]:
        """Believe no root of ours but the newest; the serial numbers of those that had to go, in
        hexadecimal. `names` are all that need a certificate.

        Raises PkiError where somebody is still certified below one of them.
        """
        newest = self.roots[-1].certificate if self.roots else None
        late = [name for name in names if self._is_below_another(name, newest)]
        if late:
            raise PkiError(
                f"{', '.join(late)}: certified below an older root. Run 'obrin certificates rotate'"
            )
        gone = [r.certificate for r in self.roots[:-1] if r.certificate.not_valid_after_utc > now]
        self.roots = self.roots[-1:]
        self.issuing = [i for i in self.issuing if newest and signed(i.certificate, newest)]
        return [f"{c.serial_number:x}" for c in gone]

    def _is_below_another(self, gateway: str, root: x509.Certificate | None) -> bool:
        issued = self.current(gateway)
        if root is None or issued is None or not self.is_ours(issued.certificate):
            return False
        return not signed(self.chain(issued)[-1], root)

    def is_newest(self, gateway: str) -> bool:
        """Whether what a gateway has is of the newest issuing authority."""
        issued = self.current(gateway)
        return (
            issued is not None
            and bool(self.issuing)
            and signed(issued.certificate, self.issuing[-1].certificate)
        )

    def revoke(self, gateway: str, lives: Lives, now: datetime) -> int:
        """Put all that a gateway ever got on the list, and make the lists anew; how many there are.

        An older certificate would otherwise be taken for the current one, and let it in again.
        """
        held = [issued.certificate for issued in self.gateways.get(gateway, ())]
        for certificate in held:
            if not self.is_revoked(certificate):
                self.revoked.append(
                    Revoked(certificate.serial_number, now, _fingerprint(certificate))
                )
        self.publish(lives, now)
        return len(held)

    def publish(self, lives: Lives, now: datetime) -> None:
        """A list of what is revoked, of each issuing authority that still counts."""
        entries = [(one.serial, one.when) for one in self.revoked]
        self.revocations = [
            make_revocations(by.certificate, by.key, entries, _span(now, lives.gateway))
            for by in self.issuing
            if by.key is not None and _is_alive(by, now)
        ]

    def has_late_lists(self, now: datetime) -> bool:
        """Whether a list ends soon, or has: nobody is believed by whoever has it, from then on."""
        ends = (r.next_update_utc for r in self.revocations)
        return any(end is not None and end < now + LISTS_RENEWED for end in ends)

    def publish_again(self, lives: Lives, now: datetime) -> None:
        """Publish revocation lists again where there are any; another authority has its own."""
        if self.revocations:
            self.publish(lives, now)

    # Asking

    def is_ours(self, certificate: x509.Certificate) -> bool:
        """Whether an issuing authority of this design issued it."""
        return any(signed(certificate, by.certificate) for by in self.issuing)

    def is_revoked(self, certificate: x509.Certificate) -> bool:
        print_of = _fingerprint(certificate)
        return any(one.fingerprint == print_of for one in self.revoked)

    def current(self, gateway: str) -> Issued | None:
        """The newest certificate of a gateway that is not revoked."""
        usable = [i for i in self.gateways.get(gateway, ()) if not self.is_revoked(i.certificate)]
        return usable[-1] if usable else None

    def barred(self) -> dict[str, date]:
        """Gateways all of whose certificates are revoked, and the last day of these: none is
        issued for them unasked."""
        days = {one.fingerprint: one.when.date() for one in self.revoked}
        return {
            name: max(days[_fingerprint(i.certificate)] for i in held)
            for name, held in self.gateways.items()
            if held and self.current(name) is None
        }

    def chain(self, issued: Issued) -> tuple[x509.Certificate, ...]:
        """The gateway's certificate and what stands between it and a root."""
        path, known = [issued.certificate], [*(i.certificate for i in self.issuing), *self.others]
        while len(path) < LONGEST:
            above = [c for c in known if c not in path and signed(path[-1], c)]
            if not above:
                break
            path.append(above[0])
        return tuple(path)

    def believed(self, now: datetime) -> list[x509.Certificate]:
        """The roots that have not ended."""
        known = [*(r.certificate for r in self.roots), *self.trusted]
        return list(dict.fromkeys(c for c in known if c.not_valid_after_utc > now))

    def holds_its_own_key(self, gateway: str) -> bool:
        """Whether the device made its key itself, so that nobody here can make it another."""
        issued = self.current(gateway)
        return issued is not None and issued.key is None

    def from_elsewhere(self, gateway: str) -> bool:
        """Whether what a gateway has was brought, and only who issued it can issue it again."""
        issued = self.current(gateway)
        return issued is not None and not self.is_ours(issued.certificate)

    def issue_again(
        self, gateway: str, identities: Sequence[str], lives: Lives, now: datetime
    ) -> Issued:
        """Issue for the key that the device made itself, where it did; else with a new one of
        ours."""
        issued = self.current(gateway)
        public = issued.certificate.public_key() if issued and issued.key is None else None
        return self.issue(gateway, identities, lives, now, cast("PublicKey | None", public))

    def stands_for(self, gateway: str, identities: Sequence[str], now: datetime) -> bool:
        """Whether a gateway has a certificate that still holds for all its identities."""
        issued = self.current(gateway)
        if issued is None or issued.certificate.not_valid_after_utc <= now:
            return False
        return set(identities) <= set(names_in(issued.certificate))


class AuthorityStore:
    """The authority in its file."""

    def __init__(self, file: SecretFile) -> None:
        self.file = file

    def read(self, name: str) -> Authority:
        """An empty authority of that name when there is none yet. Raises SecretsError."""
        data = self.file.read()
        if not data:
            return Authority(name=name)
        try:
            return Authority(
                name=str(data["name"]),
                roots=[_issued(entry) for entry in data["roots"]],
                issuing=[_issued(entry) for entry in data["issuing"]],
                gateways={n: [_issued(e) for e in found] for n, found in data["gateways"].items()},
                revoked=[
                    Revoked(int(serial), datetime.fromisoformat(when), str(fingerprint))
                    for serial, when, fingerprint in data["revoked"]
                ],
                revocations=[x509.load_pem_x509_crl(text.encode()) for text in data["revocations"]],
                others=_certificates(data["others"]),
                trusted=_certificates(data["trusted"]),
                turns=[str(label) for label in data.get("turns", [])],
                renewing=[str(name) for name in data.get("renewing", [])],
            )
        except (KeyError, TypeError, ValueError, AttributeError, PkiError):
            raise self.file.damaged() from None

    def write(self, authority: Authority) -> None:
        self.file.write(
            {
                "name": authority.name,
                "roots": [_as_data(i) for i in authority.roots],
                "issuing": [_as_data(i) for i in authority.issuing],
                "gateways": {n: [_as_data(i) for i in f] for n, f in authority.gateways.items()},
                "revoked": [
                    [str(one.serial), one.when.isoformat(), one.fingerprint]
                    for one in authority.revoked
                ],
                "revocations": [
                    r.public_bytes(Encoding.PEM).decode() for r in authority.revocations
                ],
                "others": as_pem(authority.others),
                "trusted": as_pem(authority.trusted),
                "turns": authority.turns,
                "renewing": authority.renewing,
            }
        )

    def fill(
        self, name: str, needs: Mapping[str, Sequence[str]], lives: Lives, now: datetime
    ) -> list[str]:
        """Make what gateways lack, the authority included, and lists of what is revoked before
        they end; names of the gateways served. Raises SecretsError."""
        if not needs:
            return []
        authority = self.read(name)
        lacking = [
            gateway
            for gateway, identities in needs.items()
            if not authority.stands_for(gateway, identities, now)
            and gateway not in authority.barred()
            and not authority.from_elsewhere(gateway)
        ]
        late = authority.has_late_lists(now)
        if not lacking and not late:
            return []
        if lacking:
            authority.prepare(lives, now)
        if late:
            authority.publish(lives, now)
        for gateway in lacking:
            authority.issue_again(gateway, needs[gateway], lives, now)
        self.write(authority)
        return lacking


def new_key(kind: str) -> PrivateKey:
    """A new private key from the system's randomness."""
    if kind == "rsa":
        return rsa.generate_private_key(65537, RSA_BITS)
    if kind == "ed25519":
        return ed25519.Ed25519PrivateKey.generate()
    return ec.generate_private_key(ec.SECP256R1())


def _fingerprint(certificate: x509.Certificate) -> str:
    return certificate.fingerprint(SHA256()).hex()


def _is_alive(issued: Issued, now: datetime) -> bool:
    return issued.certificate.not_valid_after_utc > now


def _span(now: datetime, life: timedelta) -> Span:
    return Span(x509.random_serial_number(), now, life)


def _certificates(text: str) -> list[x509.Certificate]:
    if not text:
        return []
    return list(read_bundle(text.encode(), None, "the authority").certificates)


def _issued(entry: Json) -> Issued:
    key = entry.get("key")
    text = str(entry["certificate"]) + (str(key) if key is not None else "")
    bundle: Bundle = read_bundle(text.encode(), None, "the authority")
    return Issued(bundle.certificates[0], bundle.key)


def _as_data(issued: Issued) -> Json:
    return {
        "certificate": as_pem([issued.certificate]),
        "key": None if issued.key is None else key_as_pem(issued.key),
    }
