"""What was seen, or why it was not; and verdicts: yes, no, or not known.

An observation is a value or `NotKnown`, which says why there is none. A verdict is True, False or
`NotKnown`. Nothing that was not seen is taken for good or for bad: a `NotKnown` is neither, and to
ask it for its truth raises an error. Held by tests/live/test_withheld.py, which withholds every
fact that a device can report, in turn.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import TypeVar

T = TypeVar("T")


@dataclass(frozen=True, slots=True)
class NotKnown:
    """There is no value; `why` says for what reason, in words that follow a name and a colon."""

    why: str

    def __bool__(self) -> bool:
        """Raises TypeError: it is neither true nor false."""
        raise TypeError(f"what is not known ({self.why}) is neither yes nor no")


Verdict = bool | NotKnown


def all_of(verdicts: Iterable[Verdict]) -> Verdict:
    """No where one is no; else not known where one is, with every reason; else yes."""
    found = list(verdicts)
    if any(one is False for one in found):
        return False
    reasons = dict.fromkeys(one.why for one in found if isinstance(one, NotKnown))
    return NotKnown("; ".join(reasons)) if reasons else True


def known(value: T | NotKnown, default: T) -> T:
    """The value, or `default` where there is none."""
    return default if isinstance(value, NotKnown) else value
