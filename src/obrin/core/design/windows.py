"""Maintenance windows of a place: times of the week, as `sat 22:00-04:00` says them."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta, tzinfo
from typing import Annotated, Any
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from pydantic import BeforeValidator, PlainSerializer, WithJsonSchema

DAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
WEEK = 7
PATTERN = (
    r"^[A-Za-z]{3}(-[A-Za-z]{3})? [0-9]{1,2}:[0-9]{2}-[0-9]{1,2}:[0-9]{2}( [A-Za-z0-9_+/-]+)?$"
)
_FORM = re.compile(
    r"([A-Za-z]{3})(?:-([A-Za-z]{3}))? +(\d{1,2}):(\d{2}) ?- ?(\d{1,2}):(\d{2})(?: +(\S+))?"
)
_EXAMPLE = "write for example 'sat 22:00-04:00', 'mon-fri 06:00-07:00' or 'sun 01:00-05:00 UTC'"


@dataclass(frozen=True, slots=True)
class Window:
    """Opens on `days` (0 is Monday) at `begin`, minutes from midnight in the zone (UTC where none
    is named), and is open for `lasts` minutes, if need be into the next day."""

    text: str
    days: frozenset[int]
    begin: int
    lasts: int
    zone: str

    def __str__(self) -> str:
        return self.text

    def around(self, moment: datetime, days: int = WEEK) -> Iterable[tuple[datetime, datetime]]:
        """Say when it is open, from the one that may have begun the day before until so long
        after."""
        zone = zone_of(self.zone)
        local = moment.astimezone(zone)
        for ahead in range(-1, days + 1):
            day = (local + timedelta(days=ahead)).date()
            if day.weekday() in self.days:
                opens = datetime(
                    day.year, day.month, day.day, self.begin // 60, self.begin % 60, tzinfo=zone
                )
                opens = opens.astimezone(UTC)
                yield opens, opens + timedelta(minutes=self.lasts)


def zone_of(name: str) -> tzinfo:
    """Raises ValueError for a zone that is not known here."""
    if name == "UTC":
        return UTC
    try:
        return ZoneInfo(name)
    except (ZoneInfoNotFoundError, ValueError, OSError):
        raise ValueError(f"'{name}' is not a time zone that is known here") from None


def rooms(
    windows: Iterable[Window], since: datetime, days: int, needed: timedelta
) -> Iterator[tuple[datetime, datetime]]:
    """List from when to when something that takes so long can begin, in each opening around that
    time (`Window.around`) that is long enough."""
    for window in windows:
        for opens, closes in window.around(since, days):
            if closes - opens >= needed:
                yield opens, closes - needed


def next_room(windows: Iterable[Window], moment: datetime, needed: timedelta) -> datetime | None:
    """The first time from then on at which one is open for long enough; with no windows at all,
    then. None where none is ever open for so long."""
    windows = list(windows)
    if not windows:
        return moment
    found = (
        max(first, moment) for first, last in rooms(windows, moment, WEEK, needed) if moment <= last
    )
    return min(found, default=None)


def parse_window(text: str) -> Window:
    """Raises ValueError."""
    found = _FORM.fullmatch(text.strip())
    if found is None:
        raise ValueError(f"'{text}' is not a time of the week; {_EXAMPLE}")
    first, last = (found[1].lower(), (found[2] or found[1]).lower())
    numbers, zone = found.groups()[2:6], found[7]
    if first not in DAYS or last not in DAYS:
        raise ValueError(f"'{text}' names no day of the week; days are {', '.join(DAYS)}")
    hours = [int(number) for number in numbers]
    begin, end = hours[0] * 60 + hours[1], hours[2] * 60 + hours[3]
    if max(hours[1], hours[3]) > 59 or begin >= 24 * 60 or end > 24 * 60:
        raise ValueError(f"'{text}' has no such time of day; {_EXAMPLE}")
    days = _days(DAYS.index(first), DAYS.index(last))
    zone = zone or "UTC"
    zone_of(zone)
    return Window(text.strip(), days, begin, (end - begin) % (24 * 60) or 24 * 60, zone)


def _days(first: int, last: int) -> frozenset[int]:
    return frozenset((first + ahead) % WEEK for ahead in range((last - first) % WEEK + 1))


def _windows(value: Any) -> tuple[Window, ...]:
    texts = value if isinstance(value, list | tuple) else [value]
    if not texts or not all(isinstance(text, str | Window) for text in texts):
        raise ValueError(f"no times of the week; {_EXAMPLE}")
    return tuple(t if isinstance(t, Window) else parse_window(t) for t in texts)


_ONE = {"type": "string", "pattern": PATTERN, "examples": ["sat 22:00-04:00"]}
WindowsText = Annotated[
    tuple[Window, ...],
    BeforeValidator(_windows),
    PlainSerializer(lambda held: [w.text for w in held], return_type=list[str]),
    WithJsonSchema({"anyOf": [_ONE, {"type": "array", "items": _ONE, "minItems": 1}]}),
]
