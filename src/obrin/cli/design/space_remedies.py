"""`space remedies` and `space renumber`: ways out when a range is used twice."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING, Any

import click

from obrin.cli.design.space import entry_json
from obrin.cli.design.space_room import space
from obrin.cli.shared.common import (
    console,
    design_option,
    echo_csv,
    echo_json,
    json_option,
    print_table,
    project_of,
)
from obrin.cli.shared.spaces import in_the_way, load_space
from obrin.core.errors import AddressError, ObrinError

__all__ = ["space"]

if TYPE_CHECKING:
    from obrin.core.space.remedies import Remedy


@space.command()
@design_option
@json_option
@click.pass_context
def remedies(ctx: click.Context, design_file: str | None, as_json: bool) -> None:
    """Show the remedies for each overlap side by side: what to write, what it costs, what breaks.

    \b
    Example:
      obrin space remedies --design skerrow-ferries/draft.yaml
    """
    from obrin.core.check.space.cures import trial
    from obrin.core.space.remedies import remedies as find
    from obrin.core.space.view import space_view

    project = project_of(design_file)
    document, choices, settled, _ = project.on_trial()
    offering = project.offering(document.design)
    view = space_view(settled, choices, offering)
    pairs = [
        (a, b, find(settled, view, a, b, trial(document.design, choices, offering, a, b)))
        for a, b in in_the_way(settled, view)
    ]
    if as_json:
        echo_json(
            [
                {
                    "outer": entry_json(a),
                    "inner": entry_json(b),
                    "remedies": [_remedy_json(r) for r in found],
                }
                for a, b, found in pairs
            ]
        )
        return
    if not pairs:
        click.echo("No two owners use the same range: nothing to cure.")
    for one, other, found in pairs:
        title = f"{other.prefix} of {other.label} and {one.prefix} of {one.label}"
        _print_remedies(title, found)


def _print_remedies(title: str, found: Iterable[Remedy]) -> None:
    from rich import box
    from rich.table import Table

    table = Table(
        box=box.SIMPLE_HEAD, title=title, title_justify="left", pad_edge=False, show_lines=True
    )
    found = list(found)
    # What is to be written is copied from here, so it is never folded.
    longest = max((len(line) for remedy in found for line in remedy.lines), default=10)
    words = max((len(word) for remedy in found for word in remedy.title.split()), default=10)
    table.add_column("Way out", ratio=20, min_width=words, overflow="fold")
    table.add_column("Write", width=longest, no_wrap=True)
    table.add_column("It costs", ratio=34, overflow="fold")
    table.add_column("It breaks", ratio=24, overflow="fold")
    for remedy in found:
        if remedy.impossible:
            table.add_row(remedy.title, "not possible", remedy.impossible)
            continue
        table.add_row(
            remedy.title,
            "\n".join(remedy.lines),
            "\n".join(f"- {cost}" for cost in remedy.costs),
            "\n".join(f"- {broken}" for broken in remedy.breaks),
        )
    console().print(table)


def _remedy_json(remedy: Remedy) -> dict[str, Any]:
    return {
        "name": remedy.name,
        "title": remedy.title,
        "write": list(remedy.lines),
        "change": remedy.change,
        "costs": list(remedy.costs),
        "breaks": list(remedy.breaks),
        "translation": [
            {"place": r.place, "real": str(r.real), "seen": str(r.seen)} for r in remedy.rules
        ],
        "impossible": remedy.impossible,
    }


@space.command()
@click.argument("network")
@click.option("--to", "target", help="The new range. Left out: a free one is found.")
@click.option("--csv", "as_csv", is_flag=True, help="The mapping of every address, old to new.")
@design_option
@json_option
def renumber(
    network: str, target: str | None, as_csv: bool, design_file: str | None, as_json: bool
) -> None:
    """A plan that moves a site's NETWORK (SITE/NAME) to a new range and keeps what is up up.

    \b
    Example:
      obrin space renumber harbour-house/offices --design skerrow-ferries
    """
    from obrin.core.address.prefix import parse_prefix
    from obrin.core.design.places import NetworkRef
    from obrin.core.space.renumber import renumber_plan

    try:
        new = parse_prefix(target) if target else None
    except AddressError as error:
        raise ObrinError(f"--to: {error}") from None
    settled, view = load_space(design_file)
    plan = renumber_plan(settled, view, NetworkRef.of(network), new)
    if as_csv:
        echo_csv(("old", "new"), plan.addresses())
        return
    if as_json:
        echo_json(
            {
                "network": plan.reference,
                "old": str(plan.old),
                "new": str(plan.new),
                "steps": [{"do": s.what, "check": s.check, "up": s.up} for s in plan.steps],
            }
        )
        return
    click.echo(
        f"{plan.reference}: {plan.old} becomes {plan.new}; the last part of every address "
        "stays. --csv lists them all."
    )
    rows = [(str(n), s.what, s.check, s.up) for n, s in enumerate(plan.steps, 1)]
    print_table(console(), ("", "Do", "Check", "Up then"), rows)
