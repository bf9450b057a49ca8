"""The root of every error that is Obrin's to report.

ObrinError                     exit code 2 unless a subclass says otherwise
  DesignError                  the design file: one or many located problems
  SettleError                  no value can be found for a blank
    Misfit                     values that do not fit each other, with their place
  AddressError                 a prefix or address that cannot be read
  OutsideError                 something outside failed (exit code 3)
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass


class ObrinError(Exception):
    """A mistake with one clear message; `exit_code` is what a command returns for it."""

    exit_code = 2


class AddressError(ObrinError, ValueError):
    """A text that should be an address or a prefix and is not."""


class SettleError(ObrinError):
    """A blank for which no value exists; the message names the bottleneck and the cure."""

    exit_code = 1


class Misfit(SettleError):
    """Two values of a design that cannot hold together, which shows once all blanks are filled.

    `place` are the keys that lead to the one that is to change.
    """

    exit_code = 2

    def __init__(self, place: tuple[str | int, ...], what: str, fix: str) -> None:
        self.place, self.what, self.fix = place, what, fix
        super().__init__(f"{'.'.join(map(str, place))}: {what}. {fix}")


class OutsideError(ObrinError):
    """An endpoint, a process or a timeout outside Obrin failed."""

    exit_code = 3


@dataclass(frozen=True, slots=True)
class Problem:
    """One mistake in a text: where it is, what is wrong and how to put it right."""

    where: str
    what: str
    fix: str

    def __str__(self) -> str:
        return f"{self.where}: {self.what}. {self.fix}"


class DesignError(ObrinError):
    """One or many mistakes in a design file, all of those that one reading can find."""

    def __init__(self, problems: Sequence[Problem]) -> None:
        self.problems = tuple(problems)
        super().__init__("\n".join(str(problem) for problem in problems))
