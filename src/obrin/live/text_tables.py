"""Text as rows, by a template of the user's own (TextFSM)."""

from __future__ import annotations

import io
from pathlib import Path

from obrin.core.errors import DesignError, Problem
from obrin.live.project import read_text

MOST_BYTES = 32 << 20
"""Largest size of a template, and of a text that is read by one."""


def rows_by(template: Path, text: str) -> tuple[list[str], list[list[str]]]:
    """The names of the template's values, and a row of texts for each record. Raises
    DesignError."""
    import textfsm

    try:
        table = textfsm.TextFSM(io.StringIO(read_text(template, most=MOST_BYTES)))
        found = table.ParseText(text)
    except (textfsm.TextFSMTemplateError, textfsm.TextFSMError) as error:
        what = f"the template does not work: {error}"
        raise DesignError([Problem(str(template), what, "Correct the template")]) from None
    return list(table.header), [[str(cell) for cell in row] for row in found]
