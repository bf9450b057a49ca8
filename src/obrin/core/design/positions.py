"""Positions in a design file: line and column, looked up only when a message needs them.

Reading keeps no positions, which is what makes it fast. The first question parses the text once
more, this time into a tree of places; all further questions walk that tree.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, NamedTuple

from obrin.core.design.reader import parsing


class Place(NamedTuple):
    """The position of a key or list item, counted from 0, and the places inside its value."""

    line: int
    column: int
    inside: Any


class Locator:
    """Answers `where` for one text."""

    def __init__(self, text: str, source: str) -> None:
        self.source = source
        self.text = text
        self._root: Place | None = None

    def where(self, location: Sequence[str | int]) -> str:
        """`file:line:column` of the key (or list item) that a path of keys and indices names.

        When the last steps do not exist, the deepest place that does is given.
        """
        if self._root is None:
            self._root = _tree(self.text)
        place = self._root
        for step in location:
            inside = place.inside
            if isinstance(inside, dict) and str(step) in inside:
                place = inside[str(step)]
            elif isinstance(inside, list) and isinstance(step, int) and step < len(inside):
                place = inside[step]
            else:
                break
        return f"{self.source}:{place.line + 1}:{place.column + 1}"


def _tree(text: str) -> Place:
    """The places of a whole text; of as much as can be parsed when it is not valid."""
    import yaml

    try:
        with parsing(text) as loader:
            return _walk(loader)
    except (yaml.YAMLError, UnicodeError, ValueError):
        return Place(0, 0, None)


def _walk(loader: Any) -> Place:
    import yaml

    get = loader.get_event
    scalar, alias = yaml.ScalarEvent, yaml.AliasEvent
    map_start, seq_start = yaml.MappingStartEvent, yaml.SequenceStartEvent
    map_end, seq_end = yaml.MappingEndEvent, yaml.SequenceEndEvent
    anchors: dict[str, Any] = {}
    # One entry for each open mapping or list: its places, the key that waits for its value with
    # its mark, and the mark where it began.
    stack: list[tuple[Any, list[Any], Any]] = []
    root = Place(0, 0, None)
    while True:
        event = get()
        kind = type(event)
        mark = event.start_mark
        if kind is map_start or kind is seq_start:
            made: Any = {} if kind is map_start else []
            if event.anchor is not None:
                anchors[event.anchor] = made
            stack.append((made, [], mark))
            continue
        if kind is scalar:
            inside = None
        elif kind is alias:
            inside = anchors.get(event.anchor)
        elif kind is map_end or kind is seq_end:
            inside, _, mark = stack.pop()
        elif kind is yaml.StreamEndEvent:
            return root
        else:
            continue
        if not stack:
            root = Place(mark.line, mark.column, inside)
            continue
        places, waiting, _ = stack[-1]
        if type(places) is list:
            places.append(Place(mark.line, mark.column, inside))
        elif waiting:
            key, key_mark = waiting
            places[key] = Place(key_mark.line, key_mark.column, inside)
            waiting.clear()
        else:
            waiting[:] = (event.value if kind is scalar else "", mark)
