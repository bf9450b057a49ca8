"""The practice processes' clock, for certificates."""

from __future__ import annotations

from datetime import UTC, datetime


def wall_clock(_now: float) -> datetime:
    """The real time, whatever an engine counts in."""
    return datetime.now(UTC)
