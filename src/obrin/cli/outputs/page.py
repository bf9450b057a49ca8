"""All shapes together: as JSON Schema, and as the page that describes them."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from typing import Any

from obrin.cli.outputs.acting import ACTING
from obrin.cli.outputs.changing import CHANGING
from obrin.cli.outputs.forms import DEED, Shape
from obrin.cli.outputs.planning import PLANNING
from obrin.cli.outputs.proving import PROVING

OUTPUTS: dict[str, Shape] = PLANNING | PROVING | ACTING | CHANGING
"""Shapes of JSON outputs, by command as it is typed, with the option that changes the shape."""

_HEAD = """\
# JSON for programs

Every command that answers a question or does something prints JSON on stdout with `--json`; exit
codes are the same as without it, and notes and warnings go to stderr. Keys are not taken away or
given another meaning within a major version; new ones may come. Times are in seconds, prefixes and
addresses are texts. `obrin schema --of 'space free'` prints the JSON Schema of one of these. This
page is made by `obrin schema --outputs`, from the shapes that the tests hold all output against.

Commands that do something take `--dry-run`, which says what would be done and changes nothing, and
share one shape:

"""


def output_schema(command: str) -> dict[str, Any]:
    """JSON Schema (draft 2020-12) of what a command prints. Raises KeyError."""
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": f"obrin {command} --json",
        **OUTPUTS[command],
    }


def output_page() -> str:
    """docs/json.md."""
    deeds = [name for name, shape in OUTPUTS.items() if shape is DEED]
    parts = [_HEAD, *_record(DEED), f"These do: {', '.join(f'`{name}`' for name in deeds)}.\n"]
    for name, shape in OUTPUTS.items():
        if shape is not DEED:
            asked = name if name.endswith("--dry-run") else f"{name} --json"
            parts += ["", f"## `obrin {asked}`", "", *_whole(shape)]
    return re.sub(r"\n{3,}", "\n\n", "\n".join(parts)).rstrip() + "\n"


def _whole(shape: Shape) -> Iterator[str]:
    about = shape["description"]
    yield f"{about[:1].upper()}{about[1:]}:\n"
    inside = _inside(shape)
    if inside is not None:
        yield from _record(inside)


def _record(shape: Shape) -> Iterator[str]:
    """Lines for its keys, then for those of the records inside it."""
    yield "| Key | Value |"
    yield "| --- | --- |"
    for key, value in shape["properties"].items():
        yield f"| `{key}` | {_said(value)} |"
    yield ""
    for key, value in shape["properties"].items():
        inside = _inside(value)
        if inside is not None and not value["description"].startswith(("as `", "the cloud's end")):
            many = value is not inside and inside["description"]
            yield f"Each of `{key}`:\n" if many else f"`{key}`:\n"
            yield from _record(inside)


def _said(shape: Shape) -> str:
    words = "; ".join(filter(None, (shape["description"], _choice(shape))))
    kind = shape.get("type", "any")
    kinds = kind if isinstance(kind, list) else [kind]
    return f"{words}, or `null`" if "null" in kinds and "null" not in words else words


def _choice(shape: Shape) -> str:
    return ", ".join(f"`{word}`" for word in shape.get("enum", ()))


def _inside(shape: Shape) -> Shape | None:
    """The record that it is, or consists of."""
    while "properties" not in shape:
        following = shape.get("items") or shape.get("additionalProperties")
        if not isinstance(following, dict):
            return None
        shape = following
    return shape


def as_text(command: str) -> str:
    return json.dumps(output_schema(command), indent=2)
