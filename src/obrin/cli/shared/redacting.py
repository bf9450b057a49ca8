"""`--redact`: what a command prints, so that it may be handed to others."""

from __future__ import annotations

import functools
from collections.abc import Callable
from typing import TYPE_CHECKING, Any, TypeVar

import click

from obrin.cli.shared.common import project_of
from obrin.cli.shared.outlet import redact_with

if TYPE_CHECKING:
    from obrin.core.handover.redacted import Redactor

F = TypeVar("F", bound=Callable[..., Any])


def redactable(function: F) -> F:
    """A command with the option; it needs the design for the names that are to go."""

    @functools.wraps(function)
    def shown(*args: Any, **given: Any) -> Any:
        if not given.pop("redact"):
            return function(*args, **given)
        redactor = _redactor(given.get("design_file"))
        redact_with(redactor.text, redactor.data)
        return function(*args, **given)

    option = click.option(
        "--redact",
        is_flag=True,
        help="Put other addresses and names for those of the design, the same each time.",
    )
    return option(shown)  # type: ignore[return-value]


def _redactor(design_file: str | None) -> Redactor:
    """Read the names of the design; without one there are none."""
    from obrin.core.handover.redacted import Redactor, names_of
    from obrin.live.secrets.redaction import redaction_key

    project = project_of(design_file)
    if not project.design_path.exists():
        return Redactor(redaction_key(None), {})
    return Redactor(redaction_key(project.own_folder), names_of(project.settled()[1]))
