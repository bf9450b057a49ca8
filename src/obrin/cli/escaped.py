"""What no command caught: one line for whoever sits there, and a report without secrets.

A report has where the program was, never what it worked on: no values, no messages of errors, no
arguments, since any of these may hold a key.
"""

from __future__ import annotations

import contextlib
import os
import platform
import sys
import tempfile
import traceback
from datetime import UTC, datetime

EXIT_CODE = 70
"""EX_SOFTWARE, as the system's own header of exit codes has it."""


def report_of(error: BaseException, command: str) -> str:
    """The text of a report."""
    from obrin import __version__

    lines = [
        f"obrin {__version__}, Python {platform.python_version()}, {platform.system()}",
        f"at {datetime.now(UTC).isoformat(timespec='seconds')}, in 'obrin {command}'",
    ]
    chain: BaseException | None = error
    while chain is not None:
        lines.append(f"{type(chain).__module__}.{type(chain).__qualname__}")
        for frame in traceback.extract_tb(chain.__traceback__)[-40:]:
            place = frame.filename.rpartition("site-packages")[2].rpartition("/src/")[2]
            lines.append(f"  {place.lstrip('/')}:{frame.lineno} in {frame.name}")
        chain = chain.__cause__ or chain.__context__
    return "\n".join(lines) + "\n"


def tell(error: BaseException, command: str) -> int:
    """Write the report and say where it is; the exit code."""
    where = ""
    try:
        descriptor, where = tempfile.mkstemp(prefix="obrin-report-", suffix=".txt")
        with os.fdopen(descriptor, "w", encoding="utf-8") as file:
            file.write(report_of(error, command))
        report = f"A report without any of your values is in {where}; please pass it on"
    except OSError:
        report = "There is no room for a report"
    line = f"obrin: a mistake of Obrin's own ({type(error).__name__}), not of yours. {report}."
    with contextlib.suppress(OSError, ValueError):
        print(line, file=sys.stderr)
    return EXIT_CODE
