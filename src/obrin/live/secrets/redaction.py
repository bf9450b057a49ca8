"""The key by which addresses stand for others in what is handed on: one for each project."""

from __future__ import annotations

import secrets
from pathlib import Path

from obrin.live.files import private_folder, read_file, write_whole

NAME, SIZE = "redaction.key", 32


def redaction_key(folder: Path | None) -> bytes:
    """Made once, and kept, so that reports of different days can be held against each other.
    Without a folder it serves one run."""
    if folder is None:
        return secrets.token_bytes(SIZE)
    path = folder / NAME
    try:
        return bytes.fromhex(read_file(path, 4096).decode("ascii").strip())
    except (FileNotFoundError, ValueError):
        private_folder(folder)
        made = secrets.token_bytes(SIZE)
        write_whole(path, made.hex() + "\n", 0o600)
        return made
