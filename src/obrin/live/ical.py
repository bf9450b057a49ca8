"""Endings as an iCalendar file (RFC 5545): a day each, with reminders ahead."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable
from datetime import datetime, timedelta

from obrin.core.calendar.endings import Ending
from obrin.core.days import day_after


def as_icalendar(design: str, endings: Iterable[Ending], now: datetime) -> bytes:
    """An event keeps its UID over renewals, so that taking the file in again moves it."""
    from icalendar import Alarm, Calendar, Event

    calendar = Calendar()
    calendar.add("prodid", "-//Obrin//EN")
    calendar.add("version", "2.0")
    calendar.add("x-wr-calname", f"{design}: what ends")
    for ending in endings:
        event = Event()
        event.add("uid", f"{_digest(design, ending)}@obrin.invalid")
        event.add("dtstamp", now)
        event.add("dtstart", ending.day)
        event.add("dtend", day_after(ending.day, timedelta(days=1)))
        event.add("summary", f"{design}: {ending.what}")
        event.add("description", f"Then: {ending.then}.\nCure: {ending.cure}.")
        event.add("categories", [ending.kind])
        event.add("transp", "TRANSPARENT")
        for days in dict.fromkeys((ending.lead, min(ending.lead, 7), 1)):
            alarm = Alarm()
            alarm.add("action", "DISPLAY")
            alarm.add("description", ending.what)
            alarm.add("trigger", timedelta(days=-days))
            event.add_component(alarm)
        calendar.add_component(event)
    return bytes(calendar.to_ical())


def _digest(design: str, ending: Ending) -> str:
    text = f"{design}\n{ending.kind}\n{ending.subject}"
    return hashlib.sha256(text.encode()).hexdigest()[:32]
