"""The settled file: every value that was chosen for a blank, with where it came from.

It stands beside the design, both in version control, and is written by the tool alone. Keys are the
places of the blanks, joined by dots. Secrets never stand in it.

Behind every value stands a mark made of its place and of itself. Whoever changes a value with an
editor leaves a mark that does not fit, and is reported by every command that reads the file;
without marks nothing is said.
"""

from __future__ import annotations

import hashlib
import json
import re
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from obrin.core.design.positions import Locator
from obrin.core.design.reader import read_values
from obrin.core.errors import DesignError, Problem

Value = str | int | list[str]
HEADER = (
    "# Chosen by 'obrin settle' for the blanks of the design. Keep it in version control;\n"
    "# to change a value, write it into the design.\n"
)


@dataclass(frozen=True, slots=True)
class Choice:
    """`why` says where the value came from, in one sentence; `by_hand`: the file's value is not
    the one that was written there; `told_by` is the end whose own value it is, which is not ours
    to choose."""

    value: Value
    why: str
    by_hand: bool = False
    assigned_by: str = ""


Choices = Mapping[str, Choice]


def format_choices(choices: Choices) -> str:
    """The file's text: sorted, one value a block, so that differences read well."""
    lines = [HEADER, "settled: 1\n", "values:\n" if choices else "values: {}\n"]
    for key in sorted(choices):
        choice = choices[key]
        lines.append(f"  {key}:\n")
        value = json.dumps(choice.value)
        lines.append(f"    value: {value}  # {_mark(key, value)}\n")
        lines.append(f"    why: {json.dumps(choice.why)}\n")
        if choice.assigned_by:
            lines.append(f"    assigned-by: {json.dumps(choice.assigned_by)}\n")
    return "".join(lines)


def _mark(key: str, value: str) -> str:
    """A short digest of the place and value. It is a check against editing by mistake, not a
    protection."""
    return hashlib.sha256(f"{key} {value}".encode()).hexdigest()[:6]


_MARKED = re.compile(
    r"^  (?P<key>[^\s:]+):\n    value: (?P<value>.*?)[ \t]+# (?P<mark>[0-9a-f]{6})[ \t]*$",
    re.MULTILINE,
)


def _changed_by_hand(text: str) -> set[str]:
    """Places whose mark does not fit their value."""
    return {
        found["key"]
        for found in _MARKED.finditer(text.replace("\r\n", "\n"))
        if _mark(found["key"], found["value"].strip()) != found["mark"]
    }


def parse_choices(text: str, source: str) -> dict[str, Choice]:
    """Raises DesignError with file:line:column."""
    values = read_values(text, source)
    locator = Locator(text, source)
    fix = "Restore the file from version control, or delete it and settle again"
    if not isinstance(values, dict) or values.get("settled") != 1:
        raise DesignError([Problem(source, "this is not a settled file", fix)])
    entries: Any = values.get("values") or {}
    choices: dict[str, Choice] = {}
    problems: list[Problem] = []
    changed = _changed_by_hand(text)
    for key, entry in entries.items() if isinstance(entries, dict) else ():
        value: Any = entry.get("value") if isinstance(entry, dict) else None
        usable = (isinstance(value, str | int) and not isinstance(value, bool)) or (
            isinstance(value, list) and all(isinstance(item, str) for item in value)
        )
        if not usable:
            where = locator.where(("values", key, "value"))
            problems.append(Problem(where, f"'{key}' has no usable value", fix))
            continue
        by_hand = str(key) in changed
        why, assigned_by = (str(entry.get(n) or "") for n in ("why", "assigned-by"))
        choices[str(key)] = Choice(value, why, by_hand, assigned_by)
    if problems:
        raise DesignError(problems)
    return choices
