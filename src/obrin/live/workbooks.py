"""Sheets of workbooks as rows of text."""

from __future__ import annotations

import io
import zipfile
from collections.abc import Sequence
from pathlib import Path

from obrin.core.errors import DesignError, Problem

MOST_ROWS = 200_000


def read_workbook(path: Path, raw: bytes, sheet: str | None = None) -> list[Sequence[str]]:
    """The named sheet, or the first. Raises DesignError for what is no workbook, or has no such
    sheet."""
    import openpyxl
    from openpyxl.utils.exceptions import InvalidFileException

    try:
        book = openpyxl.load_workbook(io.BytesIO(raw), read_only=True, data_only=True)
        if sheet is not None and sheet not in book.sheetnames:
            fix = f"Sheets are: {', '.join(book.sheetnames)}"
            raise DesignError([Problem(str(path), f"there is no sheet '{sheet}'", fix)])
        rows = book.worksheets[0] if sheet is None else book[sheet]
        read = rows.iter_rows(values_only=True, max_row=MOST_ROWS)
        return [["" if cell is None else cell_text(cell) for cell in row] for row in read]
    except (InvalidFileException, zipfile.BadZipFile, KeyError, ValueError, IndexError) as error:
        what = f"not a workbook: {error}"
        raise DesignError([Problem(str(path), what, "Save it as .xlsx or as .csv")]) from None


def cell_text(value: object) -> str:
    """As a person would type it."""
    if isinstance(value, bool):
        return "on" if value else "off"
    return f"{value:g}" if isinstance(value, float) and value == int(value) else str(value)
