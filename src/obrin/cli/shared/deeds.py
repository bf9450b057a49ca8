"""What a command that acts has done, or with --dry-run would do: in words, or as JSON."""

from __future__ import annotations

import functools
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, TypeVar

import click

from obrin.cli.shared.common import echo_json, json_option
from obrin.core.text import clean

F = TypeVar("F", bound=Callable[..., Any])
MOST_LISTED = 20
"""Changes that are listed one by one; JSON has all."""


@dataclass(frozen=True, slots=True)
class Change:
    """`did` is a participle, so that it reads after 'is' and after 'would be'."""

    subject: str
    did: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Deed:
    """`files` are those written; `following` are commands that come next."""

    changes: Sequence[Change]
    files: Sequence[Path] = ()
    following: Sequence[str] = ()

    @staticmethod
    def wrote(path: Path, *following: str) -> Deed:
        """One file and nothing else."""
        return Deed(changes=(Change(str(path), "written"),), files=(path,), following=following)

    def tell(self, *, dry_run: bool, as_json: bool) -> None:
        if as_json:
            echo_json(self.as_json(done=not dry_run))
            return
        verb = "would be " if dry_run else ""
        for change in self.changes[:MOST_LISTED]:
            click.echo(clean(f"{change.subject}: {verb}{change.did}"))
        if len(self.changes) > MOST_LISTED:
            click.echo(f"and {len(self.changes) - MOST_LISTED} more")
        if self.following and not dry_run:
            click.echo(f"Next: {', then '.join(repr(command) for command in self.following)}.")

    def as_json(self, *, done: bool) -> dict[str, Any]:
        return {
            "done": done,
            "changes": [{"subject": c.subject, "did": c.did} for c in self.changes],
            "files": [str(path) for path in self.files],
            "next": list(self.following),
        }


HAND_OVER = ("obrin handover", "obrin connect")
"""What follows where a secret is another one."""


def dry_run_option(function: F, option: str = "") -> F:
    """`option` is the one that makes the command write, where it does not do so by itself."""
    with_it = f"With {option}: only" if option else "Only"
    return click.option(
        "--dry-run", is_flag=True, help=f"{with_it} say what would be done; nothing is changed."
    )(function)


def dry_run_of(option: str) -> Callable[[F], F]:
    return functools.partial(dry_run_option, option=option)


def acting(function: F) -> F:
    """The options of a command that acts: --dry-run and --json."""
    return dry_run_option(json_option(function))
