"""What stands between a command and its two streams: with `--redact`, nothing gets out unchanged.

Both streams are replaced, so that whatever prints, an error at the very end as well, goes through.
Texts that are laid out in columns, and JSON, are changed before that, where their parts are known;
they say so (`passed`), since nothing may be changed twice.
"""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any, TextIO, cast


class Outlet:
    """A stream that passes everything unchanged."""

    def __init__(self) -> None:
        self._passing = 0

    def text(self, text: str) -> str:
        return text

    def data(self, data: Any) -> Any:
        return data

    @contextmanager
    def passed(self) -> Iterator[None]:
        """What is printed meanwhile was changed already."""
        self._passing += 1
        try:
            yield
        finally:
            self._passing -= 1

    @property
    def passing(self) -> bool:
        return self._passing > 0


class _Changing(Outlet):
    def __init__(self, text: Callable[[str], str], data: Callable[[Any], Any]) -> None:
        super().__init__()
        self._text, self._data = text, data

    def text(self, text: str) -> str:
        return self._text(text)

    def data(self, data: Any) -> Any:
        return self._data(data)


class _Stream:
    """A text stream whose lines are changed, each as a whole; the rest is the stream's own."""

    def __init__(self, inner: TextIO, outlet: Outlet) -> None:
        self._inner, self._outlet, self._begun = inner, outlet, ""

    def __getattr__(self, name: str) -> Any:
        if name == "buffer":  # nothing goes past the outlet
            raise AttributeError(name)
        return getattr(self._inner, name)

    def write(self, text: str) -> int:
        if self._outlet.passing:
            self._let_go()
            self._inner.write(text)
        else:
            *lines, self._begun = (self._begun + text).split("\n")
            self._inner.write("".join(f"{self._outlet.text(line)}\n" for line in lines))
        return len(text)

    def writelines(self, lines: list[str]) -> None:
        for line in lines:
            self.write(line)

    def flush(self) -> None:
        self._let_go()
        self._inner.flush()

    def _let_go(self) -> None:
        begun, self._begun = self._begun, ""
        if begun:
            self._inner.write(self._outlet.text(begun))


_OPEN = Outlet()
_outlets: list[Outlet] = []


def open_outlet() -> Outlet:
    """The one that everything goes through now."""
    return _outlets[-1] if _outlets else _OPEN


def redact_with(text: Callable[[str], str], data: Callable[[Any], Any]) -> None:
    """Send all texts and JSON through these functions until the program ends."""
    outlet = _Changing(text, data)
    _outlets[:] = [outlet]
    sys.stdout = cast("TextIO", _Stream(sys.stdout, outlet))
    sys.stderr = cast("TextIO", _Stream(sys.stderr, outlet))
