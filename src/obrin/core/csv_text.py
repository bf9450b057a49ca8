"""CSV from outside (RFC 4180, with any of the usual delimiters): rows of cells, or one error."""

from __future__ import annotations

import csv
import io

from obrin.core.errors import DesignError, Problem

MOST_ROWS = 1_000_000
MOST_CELL = 1 << 20
"""Characters of one cell."""


def csv_rows(
    text: str, source: str, delimiters: str = ",;\t|", *, strict: bool = True
) -> list[tuple[int, list[str]]]:
    """Every line with its number. The delimiter is the one of `delimiters` that stands most often
    in the first line that is not empty; a `strict` reader does not take misplaced quotes.

    Raises DesignError for more rows or longer cells than are read, and for what is not CSV.
    """
    first = next((line for line in text.splitlines() if line.strip()), "")
    csv.field_size_limit(MOST_CELL)
    reader = csv.reader(
        io.StringIO(text), delimiter=max(delimiters, key=first.count), strict=strict
    )
    rows: list[tuple[int, list[str]]] = []
    try:
        for cells in reader:
            if len(rows) == MOST_ROWS:
                what = f"more than {MOST_ROWS:,} rows"
                raise DesignError([Problem(source, what, "Split the file")])
            rows.append((reader.line_num, cells))
    except csv.Error as error:
        where = f"{source}:{max(1, reader.line_num)}:1"
        raise DesignError([Problem(where, f"not CSV: {error}", "Correct the row")]) from None
    return rows
