"""Where two trees of data differ, leaf by leaf, in words; secrets are named and never shown."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

_NAMES = ("name", "tunnel", "id", "remote-address", "ip", "destination-prefix", "index")
_MOST = 60


def differences(meant: Any, found: Any, *, secret: bool = False) -> Iterator[str]:
    """`place: what it says instead of what is meant`, for every leaf, also those on one side only.

    Lists are compared entry by entry, by the entries' names where they have any.
    """
    yield from _differences("", meant, found, secret)


def _differences(place: str, meant: Any, found: Any, secret: bool) -> Iterator[str]:
    if isinstance(meant, dict) and isinstance(found, dict):
        for name in dict.fromkeys([*meant, *found]):
            below = f"{place}/{name}" if place else str(name)
            yield from _one(
                below, name in meant, name in found, meant.get(name), found.get(name), secret
            )
    elif isinstance(meant, list) and isinstance(found, list):
        first, second = _named(meant), _named(found)
        for key in dict.fromkeys([*first, *second]):
            yield from _one(
                f"{place}[{key}]",
                key in first,
                key in second,
                first.get(key),
                second.get(key),
                secret,
            )
    elif meant != found:
        said = "another value" if secret else f"{_shown(found)} instead of {_shown(meant)}"
        yield f"{place}: {said}"


def _one(
    place: str, in_meant: bool, in_found: bool, meant: Any, found: Any, secret: bool
) -> Iterator[str]:
    if in_meant and in_found:
        yield from _differences(place, meant, found, secret)
    elif in_meant:
        yield f"{place}: it is missing"
    else:
        yield f"{place}: the design does not have it"


def _named(entries: list[Any]) -> dict[str, Any]:
    """By name, where all have different ones; else by number."""
    for name in _NAMES:
        keys = [str(e[name]) for e in entries if isinstance(e, dict) and name in e]
        if len(set(keys)) == len(entries):
            return dict(zip(keys, entries, strict=True))
    return {str(number): entry for number, entry in enumerate(entries, 1)}


def _shown(value: Any) -> str:
    text = str(value)
    return text if len(text) <= _MOST else text[: _MOST - 3] + "..."
