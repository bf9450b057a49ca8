"""One bounds-checked cursor over bytes, with one error."""

from __future__ import annotations

from obrin.wire.errors import ReadError


class Cursor:
    """Reads forward through `data[start:end]`; every read that does not fit raises ReadError."""

    __slots__ = ("data", "end", "position")

    def __init__(self, data: bytes, start: int = 0, end: int | None = None) -> None:
        self.data = data
        self.position = start
        self.end = len(data) if end is None else end

    def remaining(self) -> int:
        return self.end - self.position

    def take(self, count: int, field: str = "field") -> bytes:
        stop = self.position + count
        if count < 0 or stop > self.end:
            raise ReadError(
                f"{field} needs {count} bytes at offset {self.position}, {self.remaining()} left"
            )
        found = self.data[self.position : stop]
        self.position = stop
        return found

    def u8(self, field: str = "field") -> int:
        return self.take(1, field)[0]

    def u16(self, field: str = "field") -> int:
        return int.from_bytes(self.take(2, field), "big")

    def rest(self) -> bytes:
        return self.take(self.remaining())

    def done(self, field: str = "field") -> None:
        """Raise ReadError if bytes are left over."""
        if self.position != self.end:
            raise ReadError(f"{self.remaining()} bytes left over after {field}")
