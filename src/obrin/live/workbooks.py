"""Sheets of workbooks as rows of text, with bounds on all that a workbook can claim.

A workbook is a ZIP archive of XML: a small file can hold gigabytes of zeros, millions of strings,
one endless cell, or claim that a sheet reaches to its last row and column. So what its parts unpack
to is bounded before the library sees it, cells are read row by row, and a sheet is as large as its
rows are and not as it says.
"""

from __future__ import annotations

import io
import math
import zipfile
from collections.abc import Iterable, Sequence
from pathlib import Path

from obrin.core.errors import DesignError, Problem
from obrin.live.waiting import awaited

MOST_ROWS = 200_000
MOST_COLUMNS = 1_000
MOST_CELLS = 4_000_000
MOST_CELL = 1 << 16
"""Characters of one cell; the format itself allows half of that."""
MOST_PARTS = 5_000
MOST_UNPACKED = 256 << 20
"""Bytes of all parts together, and of the strings that cells share."""
MOST_STRINGS = 32 << 20
FIX = "Save it as .xlsx or as .csv"


def read_workbook(path: Path, raw: bytes, sheet: str | None = None) -> list[Sequence[str]]:
    """The named sheet, or the first. Raises DesignError for what is not a workbook, is larger
    than is read, or has no such sheet."""
    import openpyxl

    try:
        with awaited(f"reading {path}, a workbook of {len(raw):,} bytes"):
            _judge_parts(path, raw)
            book = openpyxl.load_workbook(io.BytesIO(raw), read_only=True, data_only=True)
            if sheet is not None and sheet not in book.sheetnames:
                fix = f"Sheets are: {', '.join(book.sheetnames)}"
                raise DesignError([Problem(str(path), f"there is no sheet '{sheet}'", fix)])
            rows = book.worksheets[0] if sheet is None else book[sheet]
            rows.reset_dimensions()
            return _texts(path, rows.iter_rows(values_only=True))
    except DesignError:
        raise
    except Exception as error:  # whatever the library makes of a file that is damaged on purpose
        what = f"not a workbook that can be read: {type(error).__name__}: {error}"
        raise DesignError([Problem(str(path), what[:300], FIX)]) from None


def _judge_parts(path: Path, raw: bytes) -> None:
    """Raises DesignError, BadZipFile. What a part says of its size is what is unpacked of it."""
    with zipfile.ZipFile(io.BytesIO(raw)) as archive:
        parts = archive.infolist()
        if len(parts) > MOST_PARTS:
            raise _too_large(path, f"{len(parts):,} parts", MOST_PARTS)
        whole = sum(part.file_size for part in parts)
        if whole > MOST_UNPACKED:
            raise _too_large(path, f"{whole:,} bytes when it is unpacked", MOST_UNPACKED)
        for part in parts:
            name = part.filename.lower()
            if name.endswith("sharedstrings.xml") and part.file_size > MOST_STRINGS:
                raise _too_large(path, f"{part.file_size:,} bytes of strings", MOST_STRINGS)
            if name.endswith((".xml", ".rels")):
                with archive.open(part) as file:
                    if b"<!DOCTYPE" in file.read(4096):
                        what = f"its part {part.filename} declares entities"
                        raise DesignError([Problem(str(path), what, FIX)])


def _texts(path: Path, rows: Iterable[Sequence[object]]) -> list[Sequence[str]]:
    found: list[Sequence[str]] = []
    cells = 0
    for row in rows:
        cells += len(row)
        if len(found) == MOST_ROWS or len(row) > MOST_COLUMNS or cells > MOST_CELLS:
            what = f"a sheet of more than {MOST_ROWS:,} rows or {MOST_COLUMNS:,} columns"
            fix = "Take out what is empty and formatted, or save the part that is needed as .csv"
            raise DesignError([Problem(f"{path}:{len(found) + 1}:1", what, fix)])
        texts = ["" if cell is None else cell_text(cell) for cell in row]
        if any(len(text) > MOST_CELL for text in texts):
            what = f"a cell of more than {MOST_CELL:,} characters"
            raise DesignError([Problem(f"{path}:{len(found) + 1}:1", what, "Shorten it")])
        found.append(texts)
    return found


def _too_large(path: Path, what: str, most: int) -> DesignError:
    fix = f"At most {most:,} are read. Save the part that is needed as .csv"
    return DesignError([Problem(str(path), f"a workbook with {what}", fix)])


def cell_text(value: object) -> str:
    """Write a cell's value as a person would type it."""
    if isinstance(value, bool):
        return "on" if value else "off"
    if isinstance(value, float) and math.isfinite(value) and value == int(value):
        return str(int(value))
    return str(value)
