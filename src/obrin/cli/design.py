"""`new`, `settle` and `schema`."""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from obrin.cli.common import (
    console,
    design_option,
    echo_json,
    json_option,
    print_table,
    project_of,
    writes,
)
from obrin.core.errors import ObrinError
from obrin.core.text import clean

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Iterator, Sequence

    from obrin.core.design.model import Design
    from obrin.core.settle.choices import Choices
    from obrin.core.settled.model import Settled
    from obrin.live.project import Project

MOST_ROWS = 400


@click.command()
@click.argument("name", required=False)
@click.option("--site", help="Name of the site.")
@click.option(
    "--network",
    "networks",
    multiple=True,
    metavar="NAME=PREFIX",
    help="A network of the site; give it once for each.",
)
@click.option(
    "--uplink",
    "uplinks",
    multiple=True,
    metavar="NAME=ADDRESS",
    help="A public address of the site's gateway; two for redundancy.",
)
@click.option("--cloud", help="Name of the cloud network.")
@click.option(
    "--hosts",
    type=click.IntRange(1, 60000),
    default=200,
    show_default=True,
    help="How many hosts the cloud's first subnet must hold.",
)
@click.option(
    "--to",
    "target",
    type=click.Path(),
    default="design.yaml",
    show_default=True,
    help="The file to write.",
)
@click.option("--force", is_flag=True, help="Write over a file that exists.")
@click.option("--sites", "table", type=click.Path(), help="Many sites: a CSV with a row for each.")
@click.option(
    "--template",
    type=click.Path(),
    help="A design with {column} holes, filled from each row of --sites.",
)
@click.option("--keep-good", is_flag=True, help="With --sites: leave bad rows out and go on.")
def new(
    name: str | None,
    site: str | None,
    networks: tuple[str, ...],
    uplinks: tuple[str, ...],
    cloud: str | None,
    hosts: int,
    target: str,
    force: bool,
    table: str | None,
    template: str | None,
    keep_good: bool,
) -> None:
    """Write a starting design for one site and one cloud. What is not given is asked.

    \b
    Example:
      obrin new island-clinic --site clinic --network wards=10.30.0.0/22 \\
        --uplink cable=192.0.2.20 --uplink mobile=198.51.100.30 --cloud records
      obrin new --sites skerrow-ferries/kiosks.csv --template skerrow-ferries/kiosk.yaml \\
        --to kiosks.yaml
    """
    if table or template:
        from obrin.cli.many_sites import write_many

        write_many(table, template, Path(target), force=force, keep_good=keep_good)
        return
    from obrin.core.design.document import load_design
    from obrin.core.design.starting import USUAL, StartingFacts, starting_design
    from obrin.live.files import write_whole

    path = Path(target)
    given_networks = _pairs(networks, "network", "NAME=PREFIX")
    given_uplinks = _pairs(uplinks, "uplink", "NAME=ADDRESS")
    # What was given is judged, and a file that is in the way is found, before anything is asked.
    _judge_name("name", "NAME", name)
    _judge_name("site", "--site", site)
    _judge_name("cloud", "--cloud", cloud)
    _judge_pairs("networks", "--network", given_networks)
    _judge_pairs("uplinks", "--uplink", given_uplinks)
    if path.exists() and not force:
        raise ObrinError(f"{path} exists. Name another file with --to, or give --force")
    facts = StartingFacts(
        name=_fact("name", name, "Name of the whole", "NAME", USUAL.name),
        site=_fact("site", site, "Name of the site", "--site", USUAL.site),
        networks=_facts("networks", given_networks, "Network 'lan'", "--network", USUAL.networks),
        uplinks=_facts(
            "uplinks", given_uplinks, "Public address 'main'", "--uplink", USUAL.uplinks
        ),
        cloud=_fact("cloud", cloud, "Name of the cloud network", "--cloud", USUAL.cloud),
        hosts=hosts,
    )
    text = starting_design(facts)
    load_design(text, str(path))
    write_whole(path, text, 0o644)
    click.echo(f"{path} written. Next: 'obrin settle' fills its blanks.")


Pairs = tuple[tuple[str, str], ...]


def _fact(fact: str, given: str | None, question: str, option: str, usual: str) -> str:
    """What was given; or what is answered, judged, and asked again while it is wrong."""
    if given is not None:
        return given

    def right(answer: str) -> str:
        _judge(fact, answer, question, answer)
        return answer

    return _ask(question, option, usual, right)


def _facts(fact: str, given: Pairs, question: str, option: str, usual: Pairs) -> Pairs:
    if given:
        return given
    ((key, value),) = usual

    def right(answer: str) -> str:
        _judge(fact, ((key, answer),), question, answer)
        return answer

    return ((key, _ask(question, option, value, right)),)


def _judge(fact: str, value: Any, where: str, shown: str) -> None:
    """Raises UsageError with the reason, which a prompt shows before it asks again."""
    from obrin.core.design.starting import fault_of

    fault = fault_of(fact, value)
    if fault:
        raise click.UsageError(f"{where}: '{clean(shown, 80)}' will not do: {fault}")


def _judge_name(fact: str, option: str, value: str | None) -> None:
    if value is not None:
        _judge(fact, value, option, value)


def _judge_pairs(fact: str, option: str, pairs: tuple[tuple[str, str], ...]) -> None:
    """Each by itself, then all together."""
    for pair in pairs:
        _judge(fact, (pair,), option, "=".join(pair))
    if pairs:
        _judge(fact, pairs, option, " ".join("=".join(pair) for pair in pairs))


def _ask(question: str, option: str, default: str, right: Callable[[str], str]) -> str:
    """Ask; without anybody to answer, say what to give instead."""
    try:
        return str(click.prompt(question, default=default, err=True, value_proc=right))
    except click.Abort:
        if sys.stdin.isatty():
            raise
        click.echo(err=True)
        raise click.UsageError(f"{question}: nobody answers, so give {option}") from None


def _pairs(given: tuple[str, ...], what: str, form: str) -> tuple[tuple[str, str], ...]:
    found = []
    for text in given:
        key, equals, value = text.partition("=")
        if not equals or not key or not value:
            raise click.UsageError(f"--{what} '{text}' is not of the form {form}")
        found.append((key, value))
    return tuple(found)


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

    for tunnel in settled.keyed_tunnels():
        yield row(f"key of {tunnel.label}", "made at random, as both ends accept it")
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
        raise ObrinError(f"'{key}' is no settled blank. {hint}")
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


@click.command()
@click.option("--reference", is_flag=True, help="As a Markdown reference instead.")
def schema(reference: bool) -> None:
    """The JSON Schema (draft 2020-12) of the design file.

    \b
    Example:
      obrin schema > design.schema.json
    """
    from obrin.core.design.reference import design_schema, reference_text

    if reference:
        click.echo(reference_text(), nl=False)
    else:
        click.echo(json.dumps(design_schema(), indent=2))
