"""Validation of much standard data that is alike: what differs only in names and addresses fits its
modules alike, too.

Data is taken apart into its shape, in which every text and AS number is the number of its first
place, and these values. That one of a shape fits says so of all, but for the types of the values,
each of which is held against its leaf: what the modules say beyond types are keys, references and
conditions, and these compare values for being the same, which the shape keeps, or with words and
numbers that stand in the shape as they are.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from typing import Any

from obrin.core.json_text import Json
from obrin.live.standard_modules import data_model, validate


class _OddError(Exception):
    """It has no shape: the whole has to be looked at."""


class Alike:
    """Remembers the shapes of what was found to fit."""

    def __init__(self, whole: Callable[[Json], None] = validate) -> None:
        self._whole = whole
        self._fit: set[bytes] = set()
        self._children: dict[tuple[int, str], Any] = {}
        self._types: dict[int, Any] = {}
        self._good: dict[tuple[int, type, object], bool] = {}

    def validate(self, data: Json) -> None:
        """Raises StandardDataError, as for each by itself."""
        try:
            shape = self._shape(data)
        except (_OddError, AttributeError, LookupError, TypeError, ValueError):
            self._whole(data)
            return
        if shape not in self._fit:
            self._whole(data)
            self._fit.add(shape)

    def _shape(self, data: Json) -> bytes:
        tokens: list[object] = []
        self._members(data_model().schema, data, tokens, {})
        return hashlib.blake2b(repr(tokens).encode(), digest_size=20).digest()

    def _members(
        self, node: Any, data: Json, tokens: list[object], seen: dict[object, int]
    ) -> None:
        tokens.append("{")
        for name, value in data.items():
            child = self._child(node, name)
            tokens.append(name)
            if isinstance(value, list):
                tokens.append("[")
                for part in value:
                    self._value(child, part, tokens, seen)
                tokens.append("]")
            else:
                self._value(child, value, tokens, seen)
        tokens.append("}")

    def _value(
        self, node: Any, value: object, tokens: list[object], seen: dict[object, int]
    ) -> None:
        if isinstance(value, dict):
            self._members(node, value, tokens, seen)
            return
        kind = self._renamed(node)
        if kind is None or not isinstance(value, str | int):
            tokens.append((value,))
            return
        if not self._fits(kind, value):
            raise _OddError
        number = seen.setdefault((type(value), value), len(seen))
        family, _, length = str(value).partition("/")
        tokens.append((number, ":" in family, length))

    def _child(self, node: Any, name: str) -> Any:
        """Raises _OddError for what the modules do not have there."""
        key = id(node), name
        if key not in self._children:
            module, _, alone = name.rpartition(":")
            self._children[key] = node.get_data_child(alone, module or node.ns)
        if self._children[key] is None:
            raise _OddError
        return self._children[key]

    def _renamed(self, node: Any) -> Any:
        """The type of a leaf whose values are texts or AS numbers; None for another."""
        key = id(node)
        if key not in self._types:
            from yangson.datatype import LinkType

            found = node.type
            while isinstance(found, LinkType):
                found = found.ref_type
            self._types[key] = found if _is_text(found) or found.name == "as-number" else None
        return self._types[key]

    def _fits(self, kind: Any, value: object) -> bool:
        key = id(kind), type(value), value  # true is not a number, though it is equal to one
        if key not in self._good:
            read = kind.from_raw(value)
            self._good[key] = read is not None and read in kind
        return self._good[key]


def _is_text(kind: Any) -> bool:
    from yangson.datatype import StringType, UnionType

    if isinstance(kind, UnionType):
        return all(map(_is_text, kind.types))
    return isinstance(kind, StringType)
