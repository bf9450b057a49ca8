"""A suite: the algorithms and lifetimes that protect one tunnel, and the ones that ship."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from obrin.core.ipsec.proposal import Proposal, Protocol, Transform
from obrin.core.ipsec.registry import SPOKEN, Algorithm, Kind, by_name


@dataclass(frozen=True, slots=True)
class IkeSuite:
    """Algorithms of the IKE SA; `integrity` is None with a combined-mode cipher."""

    encryption: Algorithm
    integrity: Algorithm | None
    prf: Algorithm
    group: Algorithm
    lifetime: float

    def algorithms(self) -> Iterator[Algorithm]:
        yield self.encryption
        if self.integrity is not None:
            yield self.integrity
        yield self.prf
        yield self.group

    def proposal(self) -> Proposal:
        """The suite as the single proposal of an IKE_SA_INIT (RFC 7296 section 3.3)."""
        return Proposal(Protocol.IKE, tuple(Transform.of(a) for a in self.algorithms()))


@dataclass(frozen=True, slots=True)
class EspSuite:
    """Algorithms of the child SA; `group` is None without perfect forward secrecy."""

    encryption: Algorithm
    integrity: Algorithm | None
    group: Algorithm | None
    esn: bool
    lifetime: float

    def algorithms(self) -> Iterator[Algorithm]:
        yield self.encryption
        if self.integrity is not None:
            yield self.integrity
        if self.group is not None:
            yield self.group
        yield by_name(Kind.ESN, "ESN" if self.esn else "NO-ESN")

    def proposal(self, *, with_group: bool) -> Proposal:
        """The suite as a child proposal.

        The first child, made in IKE_AUTH, takes its keys from the IKE SA and carries no group
        (RFC 7296 section 1.2); later ones do when the suite asks for perfect forward secrecy.
        """
        chosen = (a for a in self.algorithms() if with_group or a.kind is not Kind.GROUP)
        return Proposal(Protocol.ESP, tuple(Transform.of(a) for a in chosen))


@dataclass(frozen=True, slots=True)
class Suite:
    """IKE and ESP proposals under one name."""

    name: str
    ike: IkeSuite
    esp: EspSuite
    ike_version: int = 2

    def algorithms(self) -> Iterator[Algorithm]:
        yield from self.ike.algorithms()
        yield from self.esp.algorithms()

    @property
    def strength(self) -> int:
        """Bits of strength of the weakest part that has one."""
        return min(a.strength for a in self.algorithms() if a.kind is not Kind.ESN)

    def unspoken(self) -> tuple[str, ...]:
        """Names of algorithms, and of an old IKE, that the wire engines do not speak."""
        old = ("IKEv1",) if self.ike_version == 1 else ()
        return (*old, *(a.name for a in self.algorithms() if a.name not in SPOKEN))


def make_suite(
    name: str,
    *,
    encryption: str,
    prf: str,
    group: str,
    integrity: str | None = None,
    ike_lifetime: float = 28800.0,
    esp_encryption: str | None = None,
    esp_integrity: str | None = None,
    pfs: str | None = "",
    esn: bool = True,
    esp_lifetime: float = 3600.0,
    ike_version: int = 2,
) -> Suite:
    """Build a suite from names; `pfs` "" means the same group as IKE, None means none.

    Raises KeyError for an unknown name, ValueError for a pairing that cannot work.
    """
    ike_cipher = by_name(Kind.ENCRYPTION, encryption)
    esp_cipher = by_name(Kind.ENCRYPTION, esp_encryption or encryption)
    esp_integrity = esp_integrity or (None if esp_cipher.combined else integrity)
    return Suite(
        name,
        IkeSuite(
            ike_cipher,
            _integrity(ike_cipher, integrity),
            by_name(Kind.PRF, prf),
            by_name(Kind.GROUP, group),
            ike_lifetime,
        ),
        EspSuite(
            esp_cipher,
            _integrity(esp_cipher, esp_integrity),
            None if pfs is None else by_name(Kind.GROUP, pfs or group),
            esn,
            esp_lifetime,
        ),
        ike_version,
    )


def _integrity(cipher: Algorithm, name: str | None) -> Algorithm | None:
    if cipher.combined:
        if name is not None:
            raise ValueError(f"{cipher.name} protects integrity itself; leave integrity out")
        return None
    if name is None:
        raise ValueError(f"{cipher.name} needs an integrity algorithm, such as HMAC-SHA2-256-128")
    return by_name(Kind.INTEGRITY, name)


SHIPPED: dict[str, Suite] = {
    suite.name: suite
    for suite in (
        make_suite("high", encryption="AES-GCM-16-256", prf="PRF-HMAC-SHA2-384", group="ECP-384"),
        make_suite(
            "modern", encryption="AES-GCM-16-256", prf="PRF-HMAC-SHA2-256", group="CURVE25519"
        ),
        make_suite("common", encryption="AES-GCM-16-128", prf="PRF-HMAC-SHA2-256", group="ECP-256"),
        make_suite(
            "wide",
            encryption="AES-CBC-256",
            integrity="HMAC-SHA2-256-128",
            prf="PRF-HMAC-SHA2-256",
            group="MODP-2048",
            esn=False,
        ),
    )
}
"""Ready-made suites, the strongest first."""
