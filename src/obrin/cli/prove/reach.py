"""`reach`: what may talk to what, and whether anybody asked for it."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from obrin.cli.shared.common import (
    console,
    design_option,
    echo_csv,
    echo_json,
    json_option,
    print_table,
    project_of,
)
from obrin.cli.shared.failing import model_without, without_option
from obrin.cli.shared.working import crew_of, working
from obrin.core.naming import unknown

if TYPE_CHECKING:
    from obrin.core.reach.matrix import Cell

_STYLES = {"as wished": "green", "wider": "yellow", "BROKEN": "bold red"}
_HEAD = ("From", "To", "What passes", "Nobody asked for", "Broken wishes", "Verdict")


@click.command()
@click.argument("place", required=False)
@without_option
@click.option("--all", "whole", is_flag=True, help="Pairs between which nothing passes, too.")
@click.option("--csv", "as_csv", is_flag=True, help="Print CSV for spreadsheets.")
@working
@design_option
@json_option
@click.pass_context
def reach(
    ctx: click.Context,
    place: str | None,
    failed: tuple[str, ...],
    whole: bool,
    as_csv: bool,
    workers: int,
    cluster: str | None,
    trusted: bool,
    design_file: str | None,
    as_json: bool,
) -> None:
    """Everything to everything: which flows pass between networks of different places.

    Wider is what passes and no expectation asks for. With a PLACE: only pairs that it is part of.
    Exit code 1 when an expectation is broken.

    \b
    Examples:
      obrin reach --design skerrow-ferries
      obrin reach --without instance:timetable/1 --design skerrow-ferries
    """
    from obrin.core.reach.matrix import count_pairs, matrix

    settled = project_of(design_file).on_trial().settled
    places = [*settled.sites, *settled.clouds]
    if place is not None and place not in places:
        raise unknown("site or cloud", place, places)
    model = model_without(settled, failed)
    with crew_of(workers, cluster, trusted=trusted) as crew:
        found = list(matrix(model, place, closed=whole, crew=crew))
    shown = [cell for cell in found if whole or cell.verdict]
    if as_json:
        echo_json(
            [
                {
                    "from": str(c.source),
                    "to": str(c.destination),
                    "allowed": list(c.allowed),
                    "wider": list(c.wider),
                    "broken": list(c.broken),
                    "verdict": c.verdict or "closed",
                }
                for c in shown
            ]
        )
    elif as_csv:
        echo_csv(_HEAD, map(_cells, shown))
    else:
        print_table(console(), _HEAD, map(_cells, shown), styles=_STYLES)
        pairs = count_pairs(settled, place)
        closed = pairs - len([c for c in found if c.verdict])
        wider = sum(c.verdict == "wider" for c in found)
        click.echo(f"{pairs} pairs: nothing passes between {closed}, {wider} are wider than asked.")
    ctx.exit(1 if any(c.broken for c in found) else 0)


def _cells(cell: Cell) -> tuple[str, ...]:
    return (
        str(cell.source),
        str(cell.destination),
        ", ".join(cell.allowed),
        ", ".join(cell.wider),
        ", ".join(cell.broken),
        cell.verdict or "closed",
    )
