"""`settle`: choose a value for every blank, and say why."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from obrin.cli.shared.common import (
    console,
    design_option,
    echo_json,
    json_option,
    print_table,
    project_of,
    writes,
)
from obrin.core.errors import ObrinError

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator, Sequence

    from obrin.core.design.model import Design
    from obrin.core.settle.choices import Choices
    from obrin.core.settled.model import Settled
    from obrin.live.project import Project

MOST_ROWS = 400


@click.command()
@design_option
@json_option
@click.option("--dry-run", is_flag=True, help="Show what would be chosen and write nothing.")
@click.option(
    "--explain",
    "explained",
    metavar="PLACE",
    help="Why this value: candidates, what excluded them, what decided. Writes nothing.",
)
@click.option(
    "--anew",
    multiple=True,
    metavar="PLACE",
    help="Choose anew what was settled at or below this place ('all' for everything).",
)
@writes("dry_run", "explained")
def settle(
    design_file: str | None,
    as_json: bool,
    dry_run: bool,
    explained: str | None,
    anew: tuple[str, ...],
) -> None:
    """Choose a value for every blank of the design, and say for each why.

    Values go to DESIGN.settled.yaml beside the design; what was chosen before stays as it is.
    Keys are made at random, certificates issued, and both kept apart, in files that only you can
    read.

    \b
    Examples:
      obrin settle --design skerrow-ferries
      obrin settle --design skerrow-ferries --explain clouds.timetable.space
    """
    project = project_of(design_file)
    document = project.read()
    before = project.read_choices(document.design, anew)
    for place in anew:
        if not project.was_settled(place):
            raise ObrinError(f"nothing was settled at '{place}'. See {project.settled_path.name}")
    choices = project.settle(document.design, before)
    settled = project.build(document, choices)
    if explained is not None:
        _explain(project, document.design, settled, choices, explained, as_json)
        return
    if dry_run:
        made = project.secrets(settled).missing(settled)
    else:
        made = project.fill_secrets(settled)
        project.write_choices(choices)
    if as_json:
        echo_json(_values_json(choices, before, made))
        return
    _print_choices(project, choices, before, _secret_rows(settled, made))
    verb = "would be written to" if dry_run else "are in"
    click.echo(f"{len(choices)} values {verb} {project.settled_path.name}. Next: 'obrin check'.")


def _values_json(choices: Choices, before: Choices, made: Sequence[str]) -> dict[str, object]:
    return {
        "values": {
            key: {"value": c.value, "why": c.why, "new": before.get(key) != c}
            for key, c in sorted(choices.items())
        },
        "secrets_made": list(made),
    }


SettleRow = tuple[str, str, str, str]


def _secret_rows(settled: Settled, made: Sequence[str]) -> Iterator[SettleRow]:
    """Secrets are named, with whether they are new."""

    def row(name: str, why: str) -> SettleRow:
        return name, "(not shown)", "new" if name in made else "kept", why

    for secret in settled.shared_secrets():
        yield row(secret.words, "made at random, as both ends accept it")
    for name in settled.certified():
        yield row(f"certificate of {name}", "issued by the design's own authority")


def _print_choices(
    project: Project, choices: Choices, before: Choices, secrets: Iterable[SettleRow]
) -> None:
    """All of them, or only what is new where that is too much; then what became of old ones."""
    rows = [
        (key, _text(choice.value), "kept" if before.get(key) == choice else "new", choice.why)
        for key, choice in choices.items()
    ]
    rows += secrets
    more = len(rows) > MOST_ROWS
    if more:
        # What changed is worth the lines; what stayed is in the file.
        rows = [row for row in rows if row[2] == "new"][:MOST_ROWS]
    print_table(console(), ("Blank", "Value", "", "Why"), rows)
    if more:
        click.echo(f"Only the first {len(rows)} that are new; {project.settled_path.name} has all.")
    for key, choice in before.items():
        if choice.by_hand and key in choices:
            kept = choices[key].value == choice.value
            what = "kept" if kept else f"does not fit, so it is {_text(choices[key].value)} now"
            click.echo(f"{key} was changed by hand to {_text(choice.value)}: {what}.")
    gone = sorted(before.keys() - choices.keys())
    if gone:
        click.echo(f"No longer blank, so dropped: {', '.join(gone)}")


def _explain(
    project: Project, design: Design, settled: Settled, choices: Choices, key: str, as_json: bool
) -> None:
    import difflib

    from obrin.core.settle.explain import explain
    from obrin.core.space.view import space_view
    from obrin.core.space.why import chosen_from, excluded_by

    if key not in choices:
        near = difflib.get_close_matches(key, choices, n=3) or [k for k in choices if key in k][:3]
        hint = f"Did you mean {', '.join(near)}?" if near else "'obrin settle' lists them"
        raise ObrinError(f"'{key}' is not a settled blank. {hint}")
    offering = project.offering(design)
    view = space_view(settled, choices, offering)
    found = explain(
        design,
        offering,
        choices,
        key,
        chosen_from(settled, choices, key),
        lambda prefix: excluded_by(view, key, prefix),
    )
    if as_json:
        echo_json(
            {
                "key": found.key,
                "value": found.value,
                "why": found.why,
                "decided": found.decided,
                "candidates": [
                    {"value": c.value, "excluded": c.excluded} for c in found.candidates
                ],
            }
        )
        return
    click.echo(f"{found.key}: {found.value}")
    click.echo(f"why: {found.why}")
    taken = choices[key].value
    rows = [
        (c.value, c.excluded or ("taken" if c.value == str(taken) else "would do as well"))
        for c in found.candidates
    ]
    if rows:
        print_table(console(), ("Candidate", "Verdict"), rows)
    click.echo(f"decided by: {found.decided}")


def _text(value: str | int | list[str]) -> str:
    return ", ".join(value) if isinstance(value, list) else str(value)
