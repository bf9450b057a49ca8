"""The strongest suite that several devices can do, made of what each of them is able to do."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

from obrin.core.ipsec.policy import CryptoPolicy
from obrin.core.ipsec.profile import Algorithms, LifetimeRange, Phase, Profile
from obrin.core.ipsec.registry import ALGORITHMS, SPOKEN, Algorithm, Kind, Standing
from obrin.core.ipsec.suite import EspSuite, IkeSuite, Suite
from obrin.core.quantity import plain

ENOUGH = 192
"""Bits beyond which more strength only costs time."""
USUAL_IKE, USUAL_ESP = 28800.0, 3600.0
_BY_NAME = {a.name: a for a in ALGORITHMS}
_OUTDATED = (Standing.SHOULD_NOT, Standing.MUST_NOT)


def compose(name: str, profiles: Sequence[Profile], policy: CryptoPolicy) -> Suite | None:
    """Return None when nothing is common. What the policy wants comes first, then what the
    standards recommend, then strength up to ENOUGH bits. Where a profile says nothing, what the
    practice world speaks is taken for granted."""
    return _Composer(name, tuple(profiles), policy).suite()


@dataclass(frozen=True, slots=True)
class _Composer:
    name: str
    profiles: tuple[Profile, ...]
    policy: CryptoPolicy

    def suite(self) -> Suite | None:
        version = self._version()
        groups = self._common(Kind.GROUP, lambda p: p.ike.groups)
        prfs = self._common(Kind.PRF, lambda p: p.ike.prf)
        ike = self._cipher(lambda p: p.ike)
        esp = self._cipher(lambda p: p.esp)
        if version is None or not groups or not prfs or ike is None or esp is None:
            return None
        wanted = {p.pfs for p in self.profiles}
        if {"required", "never"} <= wanted:
            return None
        # A profile that says nothing of PFS groups is taken to use those of IKE.
        pfs_groups = self._common(Kind.GROUP, lambda p: p.esp.groups or p.ike.groups)
        if "required" in wanted and not pfs_groups:
            return None
        pfs = pfs_groups[0] if pfs_groups and "never" not in wanted else None
        sizes = [
            e for e in (True, False) if all(p.esn is None or e in p.esn for p in self.profiles)
        ]
        if not sizes:
            return None
        return Suite(
            self.name,
            IkeSuite(
                *ike,
                prfs[0],
                groups[0],
                self._life(
                    USUAL_IKE, self.policy.longest_ike, [p.ike.lifetime for p in self.profiles]
                ),
            ),
            EspSuite(
                *esp,
                pfs,
                sizes[0],
                self._life(
                    USUAL_ESP, self.policy.longest_child, [p.esp.lifetime for p in self.profiles]
                ),
            ),
            version,
        )

    def _version(self) -> int | None:
        """The old one only where every device says that it speaks it."""
        said = [(2,) if p.versions is None else p.versions for p in self.profiles]
        return next((v for v in (2, 1) if all(v in versions for versions in said)), None)

    def _common(self, kind: Kind, able: Callable[[Profile], Algorithms]) -> list[Algorithm]:
        """What all of them can do, the best first."""
        found = [
            a
            for a in ALGORITHMS
            if a.kind is kind
            and all(
                a.name in SPOKEN if (list_ := able(p)) is None else a in list_
                for p in self.profiles
            )
        ]
        required = [a for a in found if a.name in self.policy.require]
        return sorted(required or found, key=self._rank)

    def _cipher(
        self, phase: Callable[[Profile], Phase]
    ) -> tuple[Algorithm, Algorithm | None] | None:
        """The best cipher, with an integrity algorithm where it needs one."""
        integrity = self._common(Kind.INTEGRITY, lambda p: phase(p).integrity)
        for cipher in self._common(Kind.ENCRYPTION, lambda p: phase(p).encryption):
            if cipher.combined:
                return cipher, None
            if integrity:
                return cipher, integrity[0]
        return None

    def _rank(self, algorithm: Algorithm) -> tuple[bool, bool, int, bool, int, int]:
        policy = self.policy
        against = algorithm.name in policy.forbid or algorithm.strength < policy.least_strength
        standings = list(Standing)
        return (
            against,
            algorithm.standing in _OUTDATED,
            -min(algorithm.strength, ENOUGH),
            not algorithm.combined,
            standings.index(algorithm.standing),
            algorithm.number,
        )

    @staticmethod
    def _life(usual: float, longest: float, ranges: list[LifetimeRange]) -> float:
        """The usual lifetime, or what comes nearest to it and can be entered everywhere."""
        life = min(usual, longest)
        for able in (*ranges, *ranges):
            life = able.nearest(life)
        return life


def spell(suite: Suite) -> str:
    """A composed suite as one line that `parse_spelled` reads; without its name."""
    ike = " ".join(a.name for a in suite.ike.algorithms())
    esp = " ".join(a.name for a in suite.esp.algorithms())
    lives = f"{plain(suite.ike.lifetime)} s", f"{plain(suite.esp.lifetime)} s"
    return f"IKEv{suite.ike_version} {ike} {lives[0]}; ESP {esp} {lives[1]}"


def parse_spelled(name: str, text: str) -> Suite:
    """The inverse of `spell`. Raises ValueError."""
    try:
        ike_words, esp_words = (part.split() for part in text.split(";"))
        version = {"IKEv1": 1, "IKEv2": 2}[ike_words[0]]
        ike = {a.kind: a for a in _algorithms(ike_words[1:-2])}
        esp = {a.kind: a for a in _algorithms(esp_words[1:-2])}
        return Suite(
            name,
            IkeSuite(
                ike[Kind.ENCRYPTION],
                ike.get(Kind.INTEGRITY),
                ike[Kind.PRF],
                ike[Kind.GROUP],
                float(ike_words[-2]),
            ),
            EspSuite(
                esp[Kind.ENCRYPTION],
                esp.get(Kind.INTEGRITY),
                esp.get(Kind.GROUP),
                esp[Kind.ESN].number == 1,
                float(esp_words[-2]),
            ),
            version,
        )
    except (KeyError, IndexError) as error:
        raise ValueError(f"'{text}' does not spell a suite") from error


def _algorithms(words: list[str]) -> Iterator[Algorithm]:
    return (_BY_NAME[word] for word in words)
