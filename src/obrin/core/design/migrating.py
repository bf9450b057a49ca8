"""Keys of the format that were renamed, and files with the old names rewritten.

Each rename is a path with `*` for any one name, and the new name of its last key. The text changes
only where such a key stands, so comments, order and spacing stay as they are. Accepted findings
quote places of the design; their text follows. The result is read again: it has to hold what was
there under the new names, and nothing else.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from obrin.core.design.positions import Locator
from obrin.core.design.reader import Location, dotted, read_values
from obrin.core.errors import DesignError, Problem

_DESIGN = (
    ("links.*.bgp.discriminators", "med"),
    ("links.*.bgp.hold", "hold-time"),
    ("links.*.tunnels.*.starts", "initiator"),
    ("circuits.*.hold", "hold-time"),
    ("clouds.*.gateway.gives", "assigns"),
    ("sites.*.gateways.*.routes", "maximum-prefixes"),
    ("profiles.*.translators", "nat-traversal"),
    ("profiles.*.keep-awake", "initiates"),
    ("profiles.*.key.letters", "characters"),
    ("profiles.*.ike.lifetime.usual", "default"),
    ("profiles.*.esp.lifetime.usual", "default"),
)
_SETTLED = (("values.*.told-by", "assigned-by"),)
RENAMED = {tuple(path.split(".")): new for path, new in (*_DESIGN, *_SETTLED)}
_QUOTING = ("accepted-findings", "*", "at")
"""Texts that are places themselves."""


@dataclass(frozen=True, slots=True)
class Renaming:
    """One text in a file that changes; `where` is `file:line:column`."""

    where: str
    old: str
    new: str


def new_name(location: Sequence[str | int]) -> str | None:
    """What the last key of a place is called now; None where it was not renamed."""
    return next((new for path, new in RENAMED.items() if _is_at(location, path)), None)


def migrated(text: str, source: str) -> tuple[str, list[Renaming]]:
    """The text with today's names, and what was changed, in the order of the file.

    Raises DesignError for a text that cannot be read, for a place that has a key under both its
    names, and for one that cannot be rewritten safely.
    """
    values = read_values(text, source)
    locator = Locator(text, source)
    wanted = _renamed(values, (), locator)
    found: dict[tuple[int, int], Renaming] = {}
    for location, old, new in _changes(values, ()):
        where = locator.where(location)
        line, column = (int(part) for part in where.rsplit(":", 2)[1:])
        found[line, column] = Renaming(where, old, new)
    lines = text.splitlines(keepends=True)
    for (line, column), one in sorted(found.items(), reverse=True):
        before, after = lines[line - 1][: column - 1], lines[line - 1][column - 1 :]
        lines[line - 1] = before + after.replace(one.old, one.new, 1)
    made = "".join(lines)
    if read_values(made, source) != wanted:
        fix = "; ".join(f"{one.where}: write '{one.new}' for '{one.old}'" for one in found.values())
        raise DesignError([Problem(source, "the keys cannot be renamed safely", fix)])
    return made, [found[place] for place in sorted(found)]


def _is_at(location: Sequence[str | int], path: Sequence[str]) -> bool:
    return len(location) == len(path) and all(
        step in ("*", str(there)) for step, there in zip(path, location, strict=True)
    )


def _changes(value: Any, location: Location) -> Iterator[tuple[Location, str, str]]:
    """Every place with an old name in it, outermost first, with the old text and the new."""
    if isinstance(value, str) and _is_at(location, _QUOTING):
        new = _quoted(value)
        if new != value:
            yield location, value, new
    for key, inside in _children(value):
        here = (*location, key)
        new_key = new_name(here)
        if new_key is not None:
            yield here, str(key), new_key
        yield from _changes(inside, here)


def _children(value: Any) -> Iterator[tuple[str | int, Any]]:
    if isinstance(value, dict):
        yield from value.items()
    elif isinstance(value, list):
        yield from enumerate(value)


def _renamed(value: Any, location: Location, locator: Locator) -> Any:
    """The same values under today's names. Raises DesignError for a key with both."""
    if isinstance(value, list):
        return [_renamed(one, (*location, number), locator) for number, one in enumerate(value)]
    if isinstance(value, dict):
        made: dict[Any, Any] = {}
        for key, inside in value.items():
            here = (*location, key)
            name = new_name(here) or key
            if name != key and name in value:
                what = f"'{key}' is called '{name}' now, and both are here"
                raise DesignError([Problem(locator.where(here), what, "Take one of them out")])
            made[name] = _renamed(inside, here, locator)
        return made
    return _quoted(value) if isinstance(value, str) and _is_at(location, _QUOTING) else value


def _quoted(text: str) -> str:
    """A place as findings write it, under today's names."""
    location = text.split(".")
    new = new_name(location)
    return text if new is None else dotted((*location[:-1], new))
