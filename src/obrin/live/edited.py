"""The text of a design with a few of its values changed; its comments and order are kept."""

from __future__ import annotations

import io
import re
from collections.abc import Sequence
from typing import Any

from obrin.core.design.reader import read_values
from obrin.core.errors import DesignError, Problem
from obrin.core.gather.since import Change, apply, with_changes

_INDENTED = re.compile(r"^\S[^\n]*:[ \t]*(#[^\n]*)?\n([ \t]*#[^\n]*\n)*  - ", re.MULTILINE)
"""A list whose entries stand further in than its key."""


def edited(text: str, wanted: Sequence[Change], source: str, otherwise: str) -> str:
    """It must then say just what it should. Raises DesignError where it would not, with what one
    does `otherwise`."""
    from ruamel.yaml import YAML

    editor = YAML()
    editor.preserve_quotes = True
    editor.width = 100
    if _INDENTED.search(text):
        editor.indent(mapping=2, sequence=4, offset=2)
    document = editor.load(text)
    apply(document, wanted)
    written = io.StringIO()
    editor.dump(document, written)
    made = written.getvalue()
    design: Any = read_values(text, source)
    if read_values(made, source) != with_changes(design, wanted):
        raise DesignError([Problem(source, "the changes cannot be placed safely", otherwise)])
    return made
