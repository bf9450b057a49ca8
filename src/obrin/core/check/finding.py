"""A finding: what is wrong with a settled design, what follows from it and when, and the cure."""

from __future__ import annotations

import enum
from dataclasses import dataclass

from obrin.core.design.reader import Location
from obrin.core.design.wishes import AcceptedFinding


class Severity(enum.IntEnum):
    """An error keeps a flow from working or a rule from being kept; a warning will hurt later."""

    ERROR = 3
    WARNING = 2
    NOTE = 1

    @property
    def label(self) -> str:
        return self.name.lower()


@dataclass(frozen=True, slots=True)
class Finding:
    """`accepted` is who answers for it, and why, where somebody does."""

    severity: Severity
    code: str
    place: Location
    cause: str
    consequence: str
    fix: str
    accepted: AcceptedFinding | None = None

    def counts(self, level: Severity) -> bool:
        """Whether it is as severe as a level, and nobody answers for it."""
        return self.accepted is None and self.severity >= level
