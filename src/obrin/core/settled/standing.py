"""What holds for the whole design: standards to keep to, and ranges around it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from obrin.core.address.prefix import Prefix
from obrin.core.design.abilities import certificate_kind
from obrin.core.design.model import Design, Reliability
from obrin.core.design.reader import Location
from obrin.core.design.references import all_suites, crypto_policy
from obrin.core.design.windows import Window
from obrin.core.design.wishes import Elsewhere, Pool
from obrin.core.ipsec.policy import CryptoPolicy
from obrin.core.ipsec.suite import Suite
from obrin.core.settle.work import families
from obrin.core.settled.leaving_out import left_out


@dataclass(frozen=True, slots=True, kw_only=True)
class CertificateLives:
    """Seconds that certificates live, and the kind of their keys."""

    kind: str
    root: float
    issuing: float
    gateway: float


@dataclass(frozen=True, slots=True, kw_only=True)
class Standards:
    """`suites` are all that are known by name. `key_life` is the longest use of a pre-shared key,
    in seconds, None for any. `reliability` is by kind of failure element. `own_as` are the AS
    numbers that the design lists as its own. `windows` say when a site or cloud may be changed."""

    policy: CryptoPolicy
    suites: Mapping[str, Suite]
    certificates: CertificateLives
    key_life: float | None
    reliability: Mapping[str, Reliability]
    own_as: tuple[range, ...]
    windows: Mapping[str, tuple[Window, ...]]


@dataclass(frozen=True, slots=True, kw_only=True)
class Surroundings:
    """Ranges to choose from, and ranges of others. `ula` is the unique local /48 that is given,
    `families` those that are carried, in bits, `left_out` the places of what is given in
    another."""

    families: tuple[int, ...]
    pools: Mapping[str, Pool]
    elsewhere: Mapping[str, Elsewhere]
    ula: Prefix | None
    left_out: tuple[Location, ...] = ()


def standards_of(design: Design) -> Standards:
    own = design.authority
    return Standards(
        policy=crypto_policy(design),
        suites=all_suites(design),
        certificates=CertificateLives(
            kind=certificate_kind(design), root=own.root, issuing=own.issuing, gateway=own.gateway
        ),
        key_life=design.policy.key_life,
        reliability={str(kind): found for kind, found in design.reliability.items()},
        own_as=(*(design.as_numbers.sites or ()), *(design.as_numbers.clouds or ())),
        windows={str(name): held for name, held in design.windows.items()},
    )


def surroundings_of(design: Design) -> Surroundings:
    return Surroundings(
        families=families(design),
        pools=design.pools,
        elsewhere=design.elsewhere,
        ula=design.ula,
        left_out=left_out(design),
    )
