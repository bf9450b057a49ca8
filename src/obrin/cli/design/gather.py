"""`gather`: ranges that are in use, from tables, into the design."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, NoReturn

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
    from obrin.core.gather.against import Compared
    from obrin.core.gather.ranges import Gathered, KnownRange
    from obrin.core.gather.rows import Table

MOST_LISTED = 50
"""Bad rows that are listed one by one."""


@click.command()
@click.argument("table", type=click.Path(), required=False)
@click.option(
    "--mapping",
    type=click.Path(dir_okay=False),
    help="Make a whole design of exports, by this file; once more, show what changed since.",
)
@click.option("--take", is_flag=True, help="With --mapping: bring what changed into the design.")
@click.option(
    "--answers",
    type=click.Path(dir_okay=False),
    help="With --mapping: a file of places and values for what the exports lack.",
)
@click.option(
    "--column",
    "columns",
    multiple=True,
    metavar="NAME=HEADER",
    help="Which column holds prefix, mask, last, name, owner, place or note. Otherwise guessed.",
)
@click.option(
    "--header-row", type=click.IntRange(1, 1000), help="The line of the names, under titles."
)
@click.option("--keep-good", is_flag=True, help="Take the good rows in when others are bad.")
@click.option("--dry-run", is_flag=True, help="Show what would be added and write nothing.")
@design_option
@json_option
@writes("dry_run")
@click.pass_context
def gather(
    ctx: click.Context,
    table: str | None,
    mapping: str | None,
    take: bool,
    answers: str | None,
    columns: tuple[str, ...],
    header_row: int | None,
    keep_good: bool,
    dry_run: bool,
    design_file: str | None,
    as_json: bool,
) -> None:
    """Take what exists into a design: ranges that others use, or the whole of it.

    TABLE (CSV or JSON) holds ranges for the design's 'elsewhere'.

    A row holds a prefix, or an address and a mask, or a first and a last address; and, if there
    are any, a name, owner, place and note. What the design knows already is corrected where the
    table says more. Every bad row is reported with its number, and then nothing
    is taken in, unless --keep-good is given.

    With --mapping, exports of any kind (CSV, XLSX, JSON) become a design: sites, networks,
    gateways, uplinks, clouds, links. What they lack is asked. See docs/gathering.md.

    \b
    Examples:
      obrin gather skerrow-ferries/partners.csv --design skerrow-ferries --dry-run
      obrin gather --mapping skerrow-ferries/exports.yaml --design gathered.yaml --dry-run
    """
    if (table is None) == (mapping is None):
        raise click.UsageError("give a TABLE of ranges, or --mapping FILE")
    if mapping is not None:
        from obrin.cli.design.gather_whole import gather_whole

        if columns or header_row is not None:
            raise click.UsageError(
                "--column and --header-row go with TABLE; a mapping names its own columns and rows"
            )
        code = gather_whole(
            project_of(design_file),
            Path(mapping),
            answers,
            keep_good=keep_good,
            dry_run=dry_run,
            take=take,
            as_json=as_json,
        )
        ctx.exit(code)
    if take or answers is not None:
        raise click.UsageError("--take and --answers go with --mapping")
    _ranges(
        str(table),
        columns,
        header_row,
        design_file,
        keep_good=keep_good,
        dry_run=dry_run,
        as_json=as_json,
    )


def _ranges(
    table: str,
    columns: tuple[str, ...],
    header_row: int | None,
    design_file: str | None,
    *,
    keep_good: bool,
    dry_run: bool,
    as_json: bool,
) -> None:
    from obrin.core.gather.against import compare
    from obrin.core.gather.insert import entry_lines, with_ranges
    from obrin.core.gather.ranges import gather_ranges
    from obrin.core.gather.rows import read_table
    from obrin.live.files import write_whole
    from obrin.live.project import read_text

    chosen = _chosen(columns)
    project = project_of(design_file)
    text = read_text(project.design_path)
    design = project.read().design
    read = read_table(read_text(Path(table)), table, chosen, header_row)
    found = gather_ranges(read, frozenset(design.elsewhere))
    if found.bad and not keep_good:
        _refuse(found, table)
    news = compare(found.ranges, design.elsewhere, named="name" in read.columns)
    fresh = [*news.added, *(change.now for change in news.corrected)]
    if fresh:
        made = with_ranges(text, str(project.design_path), news.added, news.corrected)
        if not dry_run:
            write_whole(project.design_path, made, 0o644)
    if as_json:
        echo_json(_as_json(read, found, news, written=bool(fresh) and not dry_run))
        return
    for problem in found.bad:
        click.echo(str(problem), err=True)
    columns_read = ", ".join(f"{name} from '{header}'" for name, header in read.columns.items())
    left = f" Not used: {', '.join(read.left)}." if read.left else ""
    click.echo(f"Columns: {columns_read}.{left}")
    rows = [(k.name, str(k.prefix), k.owner, k.place, k.note) for k in fresh]
    if dry_run:
        click.echo("elsewhere:")
        for line in entry_lines(fresh):
            click.echo(f"  {line}")
    elif rows:
        print_table(console(), ("Name", "Range", "Owner", "Place", "Note"), rows[:200])
    would = "would be " if dry_run else ""
    click.echo(
        f"{len(news.added)} ranges {would}added, {len(news.corrected)} {would}corrected, "
        f"{news.same} were there already, {len(found.bad)} bad rows; the table has "
        f"{len(read.rows)}."
    )


def _chosen(columns: tuple[str, ...]) -> dict[str, str]:
    """Which column holds what, as given."""
    from obrin.core.gather.rows import WORDS

    chosen: dict[str, str] = {}
    for text in columns:
        name, equals, header = text.partition("=")
        if not equals or name not in WORDS:
            raise click.UsageError(f"--column '{text}': write NAME=HEADER with {', '.join(WORDS)}")
        chosen[name] = header
    return chosen


def _refuse(found: Gathered, table: str) -> NoReturn:
    for problem in found.bad[:MOST_LISTED]:
        click.echo(str(problem), err=True)
    if len(found.bad) > MOST_LISTED:
        click.echo(f"and {len(found.bad) - MOST_LISTED} more bad rows", err=True)
    raise ObrinError(
        f"{len(found.bad)} bad rows and {len(found.ranges)} good ones in {table}: nothing was "
        "taken in. Correct them, or give --keep-good"
    )


def _as_json(read: Table, found: Gathered, news: Compared, *, written: bool) -> dict[str, object]:
    return {
        "columns": read.columns,
        "left": list(read.left),
        "written": written,
        "added": list(map(_range_json, news.added)),
        "corrected": [{"was": c.was} | _range_json(c.now) for c in news.corrected],
        "bad": [{"where": p.where, "what": p.what, "fix": p.fix} for p in found.bad],
    }


def _range_json(known: KnownRange) -> dict[str, object]:
    return {
        "name": known.name,
        "prefix": str(known.prefix),
        "owner": known.owner,
        "place": known.place,
        "note": known.note,
    }
