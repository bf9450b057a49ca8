"""Files that are either whole or not there."""

from __future__ import annotations

import contextlib
import os
from pathlib import Path

from obrin.core.errors import OutsideError


def private_folder(path: Path) -> None:
    """Make a folder that only its owner can enter and that version control leaves alone."""
    if path.exists():
        return
    try:
        path.mkdir(mode=0o700)
    except OSError as error:
        raise OutsideError(f"cannot make {path}: {error.strerror}. Check the folder") from error
    write_whole(path / ".gitignore", "*\n", 0o644)


def write_whole(path: Path, text: str, mode: int = 0o600) -> None:
    """Write to a temporary file beside, then rename. Raises OutsideError."""
    write_whole_bytes(path, text.encode(), mode)


def write_whole_bytes(path: Path, data: bytes, mode: int = 0o644) -> None:
    """The same for bytes."""
    temporary = path.with_name(f".{path.name}.{os.getpid()}.new")
    try:
        descriptor = os.open(temporary, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, mode)
        with os.fdopen(descriptor, "wb") as file:
            file.write(data)
        os.replace(temporary, path)
    except OSError as error:
        with contextlib.suppress(OSError):
            temporary.unlink(missing_ok=True)
        raise OutsideError(f"cannot write {path}: {error.strerror}. Check the folder") from error
