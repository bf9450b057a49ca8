"""Holds what a command printed against its shape; a key that the shape does not name is a fault."""

from __future__ import annotations

import functools
from typing import Any

import jsonschema

from obrin.cli.outputs.page import output_schema


def _closed(schema: Any) -> Any:
    if isinstance(schema, list):
        return [_closed(part) for part in schema]
    if not isinstance(schema, dict):
        return schema
    made = {key: _closed(value) for key, value in schema.items()}
    if isinstance(schema.get("properties"), dict) and "type" in schema:
        made["additionalProperties"] = False
    return made


@functools.cache
def _validator(command: str) -> jsonschema.Draft202012Validator:
    return jsonschema.Draft202012Validator(_closed(output_schema(command)))


def valid(command: str, data: Any) -> Any:
    """The data. Raises AssertionError."""
    faults = [f"{e.json_path}: {e.message}" for e in _validator(command).iter_errors(data)]
    assert not faults, f"{command}: {faults[:5]}"
    return data
