"""Settled values that are not what `settle` would choose by now."""

from __future__ import annotations

from dataclasses import dataclass

from obrin.core.settle.choices import Choices, Value


@dataclass(frozen=True, slots=True)
class Drift:
    """A settled value beside what `settle` would choose now."""

    key: str
    value: Value
    anew: Value


def drifts(choices: Choices, anew: Choices) -> tuple[Drift, ...]:
    """Find where the file holds something else than `settle` would keep."""
    return tuple(
        Drift(key, choices[key].value, choice.value)
        for key, choice in anew.items()
        if key in choices and choices[key].value != choice.value
    )
