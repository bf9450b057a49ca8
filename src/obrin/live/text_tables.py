"""Text as rows, by a template of the user's own (TextFSM)."""

from __future__ import annotations

import io
from pathlib import Path

from obrin.core.errors import DesignError, OutsideError, Problem
from obrin.live.files import read_file

MOST_BYTES = 64 << 20


def rows_by(template: Path, text: str) -> tuple[list[str], list[list[str]]]:
    """The names of the template's values, and a row of texts for each record. Raises
    DesignError."""
    import textfsm

    try:
        table = textfsm.TextFSM(io.StringIO(text_of(template)))
        found = table.ParseText(text)
    except (textfsm.TextFSMTemplateError, textfsm.TextFSMError) as error:
        what = f"the template does not work: {error}"
        raise DesignError([Problem(str(template), what, "Correct the template")]) from None
    return list(table.header), [[str(cell) for cell in row] for row in found]


def text_of(path: Path) -> str:
    """Raises DesignError."""
    try:
        return read_file(path, MOST_BYTES).decode("utf-8-sig")
    except FileNotFoundError:
        raise DesignError([Problem(str(path), "there is no such file", "Check the path")]) from None
    except OutsideError as error:
        raise DesignError([Problem(str(path), str(error), "Check the path")]) from None
    except UnicodeDecodeError as error:
        what = f"not UTF-8 text (byte {error.start})"
        raise DesignError([Problem(str(path), what, "Save it as UTF-8")]) from None
