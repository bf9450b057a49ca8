"""Days and times that are reckoned with, also where the calendar of the program ends."""

from __future__ import annotations

from datetime import UTC, date, datetime, timedelta

LAST = datetime(9999, 12, 31, 23, 59, 59, tzinfo=UTC)
"""RFC 5280 section 4.1.2.5: what a certificate says that has no end that anybody knows."""


def day_after(day: date, span: timedelta) -> date:
    """The day that comes after a span; the last one there is, where it would be later."""
    try:
        return day + span
    except OverflowError:
        return date.max


def time_after(moment: datetime, span: timedelta) -> datetime:
    """The same for an aware time."""
    try:
        return min(moment + span, LAST)
    except OverflowError:
        return LAST
