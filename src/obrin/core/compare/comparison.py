"""What a comparison saw: differences, how many values were compared, and which were not, and why.

A value that was not compared is neither right nor wrong. So a comparison is good only where nothing
differs and nothing was left out.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from obrin.core.compare.differences import Difference


@dataclass(frozen=True, slots=True)
class Left:
    """A value that was not compared; `place` is where it stands for who reads."""

    name: str
    place: str
    why: str


@dataclass(frozen=True, slots=True)
class Comparison:
    differences: tuple[Difference, ...]
    compared: int
    left: tuple[Left, ...] = ()

    @property
    def total(self) -> int:
        """All values that should be compared."""
        return self.compared + len(self.left)

    @property
    def good(self) -> bool | None:
        """False where something differs; None, not known, where something was not compared."""
        if self.differences:
            return False
        return None if self.left or not self.compared else True

    @property
    def words(self) -> str:
        count = len(self.differences)
        found = f"{count} difference{'' if count == 1 else 's'}"
        if not count and self.left:
            found = "No difference found"
        if not self.left:
            return f"{found} in {self.compared} values."
        return f"{found}; {self.compared} of {self.total} values were compared."


def reasons(left: Iterable[Left], most: int = 3) -> Iterator[str]:
    """Values that were not compared, by why, with the first few of their places."""
    by_why: dict[str, list[str]] = {}
    for one in left:
        by_why.setdefault(one.why, []).append(one.place)
    for why, places in by_why.items():
        more = f" and {len(places) - most} more" if len(places) > most else ""
        yield f"{why}: {', '.join(places[:most])}{more}"
