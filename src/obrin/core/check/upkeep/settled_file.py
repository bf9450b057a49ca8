"""Values in the settled file that somebody changed, or that do not fit the design any more."""

from __future__ import annotations

from collections.abc import Iterator

from obrin.core.check.finding import Finding, Severity
from obrin.core.settle.blank import Blank
from obrin.core.settle.choices import Choices, Value
from obrin.core.settle.drift import Drift


def settled_file(choices: Choices, moved: tuple[Drift, ...]) -> Iterator[Finding]:
    """What every command that reads the file goes by, all the same."""
    for key, choice in choices.items():
        if choice.by_hand:
            yield Finding(
                Severity.NOTE,
                "settled-by-hand",
                _place(key),
                f"{key} was changed by hand in the settled file: {_text(choice.value)}",
                "every command goes by it; 'obrin settle' keeps it only while it fits",
                "write the value into the design, where it says what you want, or run "
                f"'obrin settle --anew {key}'",
            )
    for drift in moved:
        yield Finding(
            Severity.WARNING,
            "settled-stale",
            _place(drift.key),
            f"{drift.key} is settled as {_text(drift.value)}, which no longer fits the design",
            f"packs and connect go by it until 'obrin settle' is run, which would choose "
            f"{_text(drift.anew)}",
            "run 'obrin settle', then check again; or write the value into the design",
        )


def _place(key: str) -> tuple[str, ...]:
    return Blank.of(key).path


def _text(value: Value) -> str:
    return ", ".join(value) if isinstance(value, list) else str(value)
