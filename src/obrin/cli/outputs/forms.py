"""The parts of which shapes are made: fragments of JSON Schema, each with what it means."""

from __future__ import annotations

from typing import Any

Shape = dict[str, Any]


def text(about: str, *words: str) -> Shape:
    """A text; one of `words` where they are given."""
    made: Shape = {"type": "string", "description": about}
    return made | ({"enum": list(words)} if words else {})


def whole(about: str) -> Shape:
    return {"type": "integer", "description": about}


def number(about: str) -> Shape:
    return {"type": "number", "description": about}


def truth(about: str) -> Shape:
    return {"type": "boolean", "description": about}


def texts(about: str) -> Shape:
    return {"type": "array", "items": {"type": "string"}, "description": about}


def or_null(shape: Shape) -> Shape:
    """The same, or null."""
    kinds = shape["type"] if isinstance(shape["type"], list) else [shape["type"]]
    return shape | {"type": [*kinds, "null"]}


def record(about: str, keys: dict[str, Shape]) -> Shape:
    """An object that has all of these keys."""
    return {
        "type": "object",
        "description": about,
        "properties": keys,
        "required": list(keys),
    }


def listing(of: Shape, about: str = "") -> Shape:
    return {"type": "array", "items": of, "description": about or f"a list of {of['description']}"}


def by_name(of: Shape, about: str) -> Shape:
    """An object whose keys are names."""
    return {"type": "object", "additionalProperties": of, "description": about}


def anything(about: str) -> Shape:
    """An object that another page describes."""
    return {"type": "object", "description": about}


def any_value(about: str) -> Shape:
    """A value of any kind."""
    return {"description": about}


def with_more(shape: Shape, more: dict[str, Shape]) -> Shape:
    """The record with further keys."""
    return record(shape["description"], shape["properties"] | more)


DEED = record(
    "what was done, or would be",
    {
        "done": truth("`false` with `--dry-run`"),
        "changes": listing(
            record(
                "changes",
                {
                    "subject": text("what is another than before"),
                    "did": text("what was done to it, a participle such as `made anew`"),
                },
            )
        ),
        "files": texts("paths of the files that were written"),
        "next": texts("commands that come next"),
    },
)
