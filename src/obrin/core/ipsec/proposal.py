"""Proposals and how one is chosen: RFC 7296 sections 2.7 and 3.3.6 as pure functions.

The responder of the wire engine and the checks on a design call the same `choose`, so what is
predicted is what happens.
"""

from __future__ import annotations

import enum
import functools
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from obrin.core.ipsec.registry import Algorithm, Kind, by_number


class Protocol(enum.IntEnum):
    """Security protocol identifiers (RFC 7296 section 3.3.1)."""

    IKE = 1
    AH = 2
    ESP = 3


@dataclass(frozen=True, slots=True)
class Transform:
    """A transform as it stands on the wire; unknown kinds, numbers and attributes survive.

    `attributes` are those not known here, (type with its format bit, value). A transform that has
    one is nobody's choice: it equals none that we offer (RFC 7296 section 3.3.6).
    """

    kind: int
    number: int
    key_bits: int | None = None
    attributes: tuple[tuple[int, bytes], ...] = ()

    @classmethod
    def of(cls, algorithm: Algorithm) -> Transform:
        return cls(algorithm.kind, algorithm.number, algorithm.key_bits)

    def algorithm(self) -> Algorithm | None:
        """The registry entry, or None when this transform is not known here."""
        return None if self.attributes else by_number(self.kind, self.number, self.key_bits)

    @property
    def none(self) -> bool:
        """Says that there is to be no algorithm of this kind."""
        return self.number == 0 and not self.attributes

    def __str__(self) -> str:
        known = self.algorithm()
        if known is not None:
            return known.name
        length = "" if self.key_bits is None else f" with {self.key_bits}-bit key"
        kinds = ", ".join(str(head & 0x7FFF) for head, _ in self.attributes)
        unknown = f" with unknown attribute {kinds}" if kinds else ""
        return f"transform type {self.kind} number {self.number}{length}{unknown}"


@dataclass(frozen=True, slots=True)
class Proposal:
    """One proposal: a protocol, alternatives per transform type, and its number and SPI."""

    protocol: int
    transforms: tuple[Transform, ...]
    number: int = 1
    spi: bytes = b""

    def one(self, kind: Kind) -> Algorithm | None:
        """The only transform of a kind in a chosen proposal, as an algorithm."""
        for transform in self.transforms:
            if transform.kind == kind:
                return by_number(transform.kind, transform.number, transform.key_bits)
        return None


def choose(offered: Sequence[Proposal], accepted: Sequence[Proposal]) -> Proposal | None:
    """What a responder that accepts `accepted` answers to `offered`, or None.

    The responder goes through the initiator's proposals in order (section 3.3: "in order of
    preference") and takes the first that any of its own allows; inside it, the first alternative
    of each transform type that both name. A proposal with a transform type that the responder's
    does not have, or lacks one that it has, does not match (section 3.3.3).
    """
    for proposal in offered:
        for own in accepted:
            if proposal.protocol != own.protocol:
                continue
            picked = _match(proposal.transforms, own.transforms)
            if picked is not None:
                return Proposal(proposal.protocol, picked, proposal.number, proposal.spi)
    return None


_MAY_BE_NONE = (Kind.INTEGRITY, Kind.GROUP)


@functools.lru_cache(maxsize=4096)
def _match(
    offered: tuple[Transform, ...], own: tuple[Transform, ...]
) -> tuple[Transform, ...] | None:
    """One transform of each type that both sides name; sessions repeat, so it is memoised."""
    picked: list[Transform] = []
    for kind in sorted({t.kind for t in offered} | {t.kind for t in own}):
        theirs = [t for t in offered if t.kind == kind]
        ours = [t for t in own if t.kind == kind]
        if not theirs or not ours:
            # A type named by one side only is acceptable when that side also offers NONE.
            if kind in _MAY_BE_NONE and any(t.none for t in theirs or ours):
                continue
            return None
        common = next((t for t in theirs if t in ours), None)
        if common is None:
            return None
        if not (kind in _MAY_BE_NONE and common.number == 0):
            picked.append(common)
    return tuple(picked)


def mismatch(offered: Iterable[Proposal], accepted: Iterable[Proposal]) -> tuple[Kind, ...]:
    """The kinds of transform on which no pair of proposals meets: the reasons behind a None."""
    theirs = [t for p in offered for t in p.transforms]
    ours = [t for p in accepted for t in p.transforms]
    reasons = []
    for kind in Kind:
        left = {t for t in theirs if t.kind == kind}
        right = {t for t in ours if t.kind == kind}
        if (left or right) and not left & right:
            reasons.append(kind)
    return tuple(reasons)
