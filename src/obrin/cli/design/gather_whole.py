"""`gather --mapping`: a whole design of exports, and what changed in them since."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from obrin.cli.shared.answers import read_answers
from obrin.cli.shared.common import console, echo_json, print_table
from obrin.cli.shared.deeds import Deed
from obrin.core.design.reader import dotted
from obrin.core.errors import ObrinError

if TYPE_CHECKING:
    from obrin.core.gather.compose import Composed
    from obrin.core.gather.since import Change
    from obrin.live.gathering import Since
    from obrin.live.project import Project

MOST_ROWS, MOST_LISTED = 100, 50
STYLES = {"new": "green", "gone": "bold red", "edited by hand": "yellow"}


def gather_whole(
    project: Project,
    mapping: Path,
    answers: str | None,
    *,
    keep_good: bool,
    dry_run: bool,
    take: bool,
    as_json: bool,
) -> int:
    """The exit code: 1 where something changed and was not taken. Raises ObrinError."""
    from obrin.core.gather.written import as_yaml
    from obrin.live.exports import gathered
    from obrin.live.files import write_whole
    from obrin.live.gathering import completed, kept_path, read_kept, since

    path = project.shown(project.design_path)
    before = read_kept(kept_path(project))
    such_as = "'sites.pier.region: north'"
    given = dict(before.answers)
    if answers is not None:
        given |= read_answers(answers, such_as)
    made = gathered(mapping)
    _judge_rows(made, keep_good=keep_good)
    now = completed(made, given, _ask)
    if path.exists():
        found = since(project, before, now)
        if take and not dry_run:
            write_whole(path, found.text, 0o644)
            now.write(kept_path(project))
        _tell(found, path, took=take and not dry_run, as_json=as_json)
        return 0 if take or not found.changes else 1
    text = as_yaml(now.values, f"Gathered by 'obrin gather' as {mapping.name} says.")
    if dry_run and not as_json:
        click.echo(text, nl=False)
        return 0
    if not dry_run:
        write_whole(path, text, 0o644)
        now.write(kept_path(project))
    following = "obrin settle" + ("" if path.name == "design.yaml" else f" --design {path}")
    Deed.wrote(path, following).tell(dry_run=dry_run, as_json=as_json)
    return 0


def _judge_rows(made: Composed, *, keep_good: bool) -> None:
    for problem in made.bad[:MOST_LISTED]:
        click.echo(str(problem), err=True)
    if len(made.bad) > MOST_LISTED:
        click.echo(f"and {len(made.bad) - MOST_LISTED} more bad rows", err=True)
    for problem in made.left[:MOST_LISTED]:
        click.echo(f"left out: {problem}", err=True)
    if len(made.left) > MOST_LISTED:
        click.echo(f"and {len(made.left) - MOST_LISTED} more rows left out", err=True)
    for name, (count, taken, bad, left) in made.counts.items():
        if bad or left:
            click.echo(f"{name}: {count} rows: {taken} taken, {bad} bad, {left} left out", err=True)
    if (made.bad or made.left) and not keep_good:
        raise ObrinError(
            f"{len(made.bad)} bad rows and {len(made.left)} left out: nothing was taken in. "
            "Correct them, or give --keep-good"
        )


def _ask(place: str, why: str) -> str | None:
    """Return None where nobody sits here."""
    if not sys.stdin.isatty():
        return None
    click.echo(f"{place} is missing ({why}).", err=True)
    found: str = click.prompt("  Value", err=True)
    return found


def _tell(found: Since, path: Path, *, took: bool, as_json: bool) -> None:
    if as_json:
        echo_json(
            {"written": took and bool(found.open), "changes": list(map(_json, found.changes))}
        )
        return
    rows = [
        (dotted(c.place), c.what, _short(c.was), _short(c.now), _standing(c, took=took))
        for c in found.changes[:MOST_ROWS]
    ]
    if rows:
        print_table(
            console(), ("Place", "What", "Was", "Is now", "In the design"), rows, styles=STYLES
        )
    if len(found.changes) > MOST_ROWS:
        click.echo(f"{len(found.changes) - MOST_ROWS} more are in --json.")
    if not found.changes:
        click.echo("Nothing changed since it was last gathered.")
        return
    left = [c for c in found.changes if c.standing == "edited by hand"]
    verb = "were taken" if took else "can be taken with --take"
    click.echo(f"{len(found.open)} of {len(found.changes)} changes {verb} into {path}.")
    if left:
        click.echo(f"{len(left)} were edited by hand in the design, and stay as they are there.")


def _standing(change: Change, *, took: bool) -> str:
    return "taken" if took and change.standing == "to be taken" else change.standing


def _short(value: Any) -> str:
    from obrin.core.gather.since import ABSENT

    if value is ABSENT:
        return ""
    if isinstance(value, dict):
        return ", ".join(map(str, value))
    if isinstance(value, list) and any(isinstance(part, dict) for part in value):
        return f"{len(value)} entries"
    return ", ".join(map(str, value)) if isinstance(value, list) else str(value)


def _json(change: Change) -> dict[str, Any]:
    from obrin.core.gather.since import ABSENT

    return {
        "place": list(change.place),
        "what": change.what,
        "was": None if change.was is ABSENT else change.was,
        "now": None if change.now is ABSENT else change.now,
        "standing": change.standing,
    }
