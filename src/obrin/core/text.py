"""Text from outside, made fit to be shown: nothing in it acts on a terminal, and it has an end."""

from __future__ import annotations

import unicodedata

MOST = 2000
"""Characters of one message; what is longer is cut in its middle."""
_ACTING = {"Cc", "Cf", "Cs", "Zl", "Zp"}


def acts(character: str) -> bool:
    """Whether a character moves the cursor, turns the direction of writing, or is half of one."""
    return unicodedata.category(character) in _ACTING


def clean(text: str, most: int | None = MOST, *, keep: str = "\n\t") -> str:
    """Characters that would act are written as escapes; a long text is cut, and says so."""
    if not text.isprintable():
        text = "".join(c if c in keep or not acts(c) else _escape(c) for c in text)
    if most is not None and len(text) > most:
        half = most // 2
        text = f"{text[:half]}[{len(text) - 2 * half} characters left out]{text[-half:]}"
    return text


def _escape(character: str) -> str:
    number = ord(character)
    if number < 0x100:
        return f"\\x{number:02x}"
    return f"\\u{number:04x}" if number < 0x10000 else f"\\U{number:08x}"
