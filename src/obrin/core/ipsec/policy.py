"""What an organisation asks of every suite, beyond the standards."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from obrin.core.ipsec.registry import ALGORITHMS, Kind, Standing
from obrin.core.ipsec.suite import Suite
from obrin.core.quantity import plain


@dataclass(frozen=True, slots=True, kw_only=True)
class CryptoPolicy:
    """`least_strength` in bits, lifetimes in seconds; names are the registry's."""

    least_strength: int = 0
    forbid: frozenset[str] = frozenset()
    require: frozenset[str] = frozenset()
    longest_ike: float = float("inf")
    longest_child: float = float("inf")
    pfs: bool = False

    def breaches(self, suite: Suite) -> Iterator[str]:
        """Each way in which a suite is not what is asked; none when it is."""
        used = {a.name: a for a in suite.algorithms()}
        weak = [
            a for a in used.values() if a.kind is not Kind.ESN and a.strength < self.least_strength
        ]
        if weak:
            listed = ", ".join(f"{a.name} ({a.strength} bits)" for a in weak)
            yield f"weaker than {self.least_strength} bits: {listed}"
        forbidden = sorted(self.forbid & used.keys())
        if forbidden:
            yield f"forbidden: {', '.join(forbidden)}"
        missing = sorted(self.require - used.keys())
        if missing:
            yield f"required and not used: {', '.join(missing)}"
        if suite.ike.lifetime > self.longest_ike:
            life, most = plain(suite.ike.lifetime), plain(self.longest_ike)
            yield f"IKE SA lives {life} s, longer than {most} s"
        if suite.esp.lifetime > self.longest_child:
            life, most = plain(suite.esp.lifetime), plain(self.longest_child)
            yield f"child SA lives {life} s, longer than {most} s"
        if self.pfs and suite.esp.group is None:
            yield "no perfect forward secrecy"

    def allows(self, suite: Suite) -> bool:
        return next(self.breaches(suite), None) is None


def outdated(suite: Suite) -> bool:
    """Whether the standards themselves rule a suite out."""
    must_not = any(a.standing is Standing.MUST_NOT for a in suite.algorithms())
    return must_not or suite.ike_version == 1


NAMES = frozenset(a.name for a in ALGORITHMS)
