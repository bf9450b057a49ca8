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


class Gate:
    """Without anything to change, all passes."""

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


class _Changing(Gate):
    def __init__(self, text: Callable[[str], str], data: Callable[[Any], Any]) -> None:
        super().__init__()
        self._text, self._data = text, data

    def text(self, text: str) -> str:
        return self._text(text)

    def data(self, data: Any) -> Any:
        return self._data(data)


class _Stream:
    """A text stream whose lines are changed, each as a whole; the rest is the stream's own."""

    def __init__(self, inner: TextIO, gate: Gate) -> None:
        self._inner, self._gate, self._begun = inner, gate, ""

    def __getattr__(self, name: str) -> Any:
        if name == "buffer":  # nothing goes past the gate
            raise AttributeError(name)
        return getattr(self._inner, name)

    def write(self, text: str) -> int:
        if self._gate.passing:
            self._let_go()
            self._inner.write(text)
        else:
            *lines, self._begun = (self._begun + text).split("\n")
            self._inner.write("".join(f"{self._gate.text(line)}\n" for line in lines))
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
            self._inner.write(self._gate.text(begun))


_OPEN = Gate()
_gates: list[Gate] = []


def open_gate() -> Gate:
    """The one that everything goes through now."""
    return _gates[-1] if _gates else _OPEN


def close_gate(text: Callable[[str], str], data: Callable[[Any], Any]) -> None:
    """Send all texts and JSON through these functions until the program ends."""
    gate = _Changing(text, data)
    _gates[:] = [gate]
    sys.stdout = cast("TextIO", _Stream(sys.stdout, gate))
    sys.stderr = cast("TextIO", _Stream(sys.stderr, gate))
