"""What may be said at a place of a design: its keys, with what is said there now."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from pydantic import BaseModel, ValidationError

from obrin.core.design.model import Design
from obrin.core.design.reader import Location


def settings(design: Design, place: Location) -> Iterator[Location]:
    """All keys of plain values at a place and below it, whether they are said or not; the nearest
    first."""
    yield from _below(_at(design, place), place)


def can_be(design: Design, place: Location, value: object) -> bool:
    """Whether that value may stand there, as far as it can be seen without all the rest."""
    here, last = _at(design, place[:-1]), place[-1]
    if not isinstance(here, BaseModel):
        return False
    said = {key: held for key, held in _by_key(here).items() if key != last}
    said = {key: held for key, held in said.items() if _name(here, key) in here.model_fields_set}
    try:
        made = type(here).model_validate({**said, str(last): value})
    except (ValidationError, TypeError, AttributeError):
        return False
    return bool(made != here)


def _at(design: Design, place: Location) -> Any:
    """Return None where there is nothing."""
    here: Any = design
    for step in place:
        here = here.get(step) if isinstance(here, dict) else _by_key(here).get(str(step))
    return here


def _below(here: Any, place: Location) -> Iterator[Location]:
    if isinstance(here, dict):
        for name, entry in here.items():
            if isinstance(entry, BaseModel):
                yield from _below(entry, (*place, name))
    elif isinstance(here, BaseModel):
        fields = _by_key(here)
        for key, held in fields.items():
            if not _holds_more(held):
                yield (*place, key)
        for key, held in fields.items():
            if _holds_more(held):
                yield from _below(held, (*place, key))


def _holds_more(held: Any) -> bool:
    if isinstance(held, dict):
        return any(isinstance(entry, BaseModel) for entry in held.values())
    return isinstance(held, BaseModel)


def _by_key(here: Any) -> dict[str, Any]:
    """Values of a model by the keys that are written in the file."""
    if not isinstance(here, BaseModel):
        return {}
    known = type(here).model_fields
    return {entry.alias or name: getattr(here, name) for name, entry in known.items()}


def _name(here: BaseModel, key: str) -> str:
    known = type(here).model_fields
    return next((name for name, entry in known.items() if (entry.alias or name) == key), key)
