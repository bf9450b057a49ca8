"""Where each value of a filled template is from: a row of the table, a line of the template."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

from obrin.core.design.positions import Locator
from obrin.core.design.reader import Location
from obrin.core.gather.rows import Row

HOLE = re.compile(r"\{([A-Za-z0-9 _-]+)\}")


def fill(text: str, row: Mapping[str, str]) -> str:
    """The text with the row's values in its holes."""
    return HOLE.sub(lambda match: row[match[1]], text)


class Origin:
    """Entries of sections are noted as they are made; what is inside one is found when asked."""

    def __init__(self, template: Any, locator: Locator, table: str) -> None:
        self._template, self._locator, self._table = template, locator, table
        self._entries: dict[Location, tuple[str | int, Row | None]] = {}

    def note(self, made: Location, written: str | int, row: Row | None = None) -> None:
        """The entry `made` is that of the template which is `written` so, filled from a row."""
        self._entries[made] = written, row

    def where(self, location: Location) -> str:
        """The row, where it gave the value, and the line of the template."""
        step, row = self._entries.get(location[:2], (None, None))
        steps: list[str | int] = list(location[:1])
        here = self._template.get(steps[0]) if steps else None
        for depth, made in enumerate(location[1:]):
            written = step if depth == 0 and step is not None else _written(here, made, row)
            here = _inside(here, written)
            steps.append(written)
        place = self._locator.where(steps)
        if row is None or not (_has_hole(here) or _has_hole(steps[-1])):
            return place
        return f"{self._table}:{row.number}:1, filled in at {place}"


def _written(here: Any, made: str | int, row: Row | None) -> str | int:
    """The key of the template that became this one."""
    if row is None or not isinstance(here, dict):
        return made
    return next((key for key in here if fill(key, row.values) == made), made)


def _inside(here: Any, step: str | int) -> Any:
    if isinstance(here, dict):
        return here.get(step)
    if isinstance(here, list) and isinstance(step, int) and step < len(here):
        return here[step]
    return here if isinstance(here, str) else None


def _has_hole(value: Any) -> bool:
    return isinstance(value, str) and HOLE.search(value) is not None
