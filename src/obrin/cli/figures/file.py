"""The file that a figure is drawn into."""

from __future__ import annotations

from pathlib import Path

from obrin.core.errors import ObrinError


def figure_file(target: str) -> tuple[Path, str]:
    """A file to draw into, and its kind. Raises ObrinError for another ending."""
    path = Path(target)
    if path.suffix.lower() not in (".svg", ".png"):
        raise ObrinError(f"{path}: the ending must be .svg or .png")
    return path, path.suffix[1:].lower()
