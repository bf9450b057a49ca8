"""`routes`: any table of the network, before it exists."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from obrin.cli.shared.common import (
    console,
    design_option,
    echo_csv,
    echo_json,
    json_option,
    other_project,
    print_table,
    project_of,
)
from obrin.cli.shared.deeds import dry_run_of
from obrin.cli.shared.failing import without_option
from obrin.core.naming import some, unknown

if TYPE_CHECKING:
    from obrin.core.routing.difference import Change
    from obrin.core.routing.path import AsPath
    from obrin.core.routing.stable import Stable
    from obrin.core.routing.tables import Advertised, Row
    from obrin.core.settled.model import Settled

MOST_ROWS = 300
"""Rows of one table on a screen."""
HEAD = ("Table", "Prefix", "From", "Via", "Next hop", "AS path", "Preference", "State", "Why")


@click.command()
@click.argument("table", required=False)
@without_option
@click.option(
    "--against",
    "other",
    type=click.Path(),
    help="Show what differs from this other design instead.",
)
@click.option(
    "--changes",
    "only_changes",
    is_flag=True,
    help="With --without: only what differs from when all is up.",
)
@click.option(
    "--sessions",
    "only_sessions",
    is_flag=True,
    help="Show what each BGP session advertises, in both directions.",
)
@click.option("--csv", "as_csv", is_flag=True, help="Print CSV for spreadsheets.")
@click.option(
    "--seen",
    type=click.Path(),
    help="Compare with a dump of TABLE's router, in MRT format (RFC 6396).",
)
@click.option(
    "--template",
    type=click.Path(dir_okay=False),
    help="With --seen: the file is a routing table as text, read by this TextFSM template.",
)
@click.option(
    "--now",
    "in_use",
    is_flag=True,
    help="Compare with what TABLE's gateway uses now, as far as it reports them.",
)
@click.option(
    "--to-mrt",
    "target",
    type=click.Path(dir_okay=False),
    help="Write what TABLE learns by BGP as a dump in that format.",
)
@dry_run_of("--to-mrt")
@design_option
@json_option
@click.pass_context
def routes(
    ctx: click.Context,
    table: str | None,
    failed: tuple[str, ...],
    other: str | None,
    only_changes: bool,
    only_sessions: bool,
    as_csv: bool,
    seen: str | None,
    template: str | None,
    in_use: bool,
    target: str | None,
    dry_run: bool,
    design_file: str | None,
    as_json: bool,
) -> None:
    """Every route in every table: why it won, or by which rule it lost.

    TABLE is a site gateway, a cloud gateway, a hub's route table (HUB/TABLE) or a cloud subnet
    (CLOUD/SUBNET). A hub's name alone shows all of its tables; nothing, all there are.

    \b
    Examples:
      obrin routes hh-east --design skerrow-ferries
      obrin routes --without uplink:hh-east/fibre --changes --design skerrow-ferries
      obrin routes --sessions --design skerrow-ferries
      obrin routes hh-east --seen table.mrt --design skerrow-ferries
      obrin routes hh-east --now --design skerrow-ferries
    """
    from obrin.cli.shared.failing import model_without
    from obrin.core.drill.detection import watchers
    from obrin.core.routing.difference import changes
    from obrin.core.routing.model import state_of
    from obrin.core.routing.tables import sessions

    project = project_of(design_file)
    settled = project.on_trial().settled
    if template is not None:
        from obrin.cli.prove.routes_seen import compare_written

        if seen is None:
            raise click.UsageError("--template goes with --seen")
        ctx.exit(0 if compare_written(settled, table, seen, template, as_json=as_json) else 1)
    if in_use:
        from obrin.cli.prove.routes_seen import compare_now

        ctx.exit(0 if compare_now(project, settled, table, as_json=as_json) else 1)
    if seen is not None or target is not None:
        from obrin.cli.prove.routes_seen import compare, export

        if target is not None and seen is not None:
            raise click.UsageError("--seen reads a dump and --to-mrt writes one: give one of them")
        if target is not None:
            made = export(settled, table, target, int(project.now.timestamp()), dry_run=dry_run)
            made.tell(dry_run=dry_run, as_json=as_json)
        same = seen is None or compare(settled, table, seen, as_json=as_json)
        ctx.exit(0 if same else 1)
    stable = model_without(settled, failed).stable
    if only_sessions:
        _sessions(list(sessions(stable)), as_json=as_json)
        return
    found = _rows(settled, table, stable)
    if other is not None:
        theirs = other_project(other).on_trial().settled
        after = _rows(theirs, table, state_of(theirs))
        _changes(changes(found, after, watchers(settled), watchers(theirs)), as_json=as_json)
    elif only_changes:
        whole, noticed = _rows(settled, table, state_of(settled)), watchers(settled)
        _changes(changes(whole, found, noticed, noticed), as_json=as_json)
    elif as_json:
        echo_json(list(map(_as_json, found)))
    elif as_csv:
        echo_csv(HEAD, map(_cells, found))
    else:
        _print(found)


def _as_json(row: Row) -> dict[str, object]:
    return {
        "table": row.table,
        "prefix": str(row.prefix),
        "from": row.kind,
        "via": row.via,
        "next_hop": row.next_hop,
        "as_path": _hops(row.as_path),
        "local_pref": row.local_pref,
        "state": row.state,
        "why": row.why,
    }


def _rows(settled: Settled, table: str | None, stable: Stable) -> list[Row]:
    from obrin.core.routing.tables import table_names, table_rows

    names = table_names(settled)
    asked = [name for name in names if table in (None, name)]
    asked = asked or [name for name in names if name.startswith(f"{table}/")]  # all of a hub's
    if not asked:
        raise unknown("table", table or "", names)
    return [row for name in asked for row in table_rows(settled, name, stable)]


def _cells(row: Row) -> tuple[str, ...]:
    preference = "" if row.local_pref is None else str(row.local_pref)
    return (
        row.table,
        str(row.prefix),
        row.kind,
        row.via,
        row.next_hop,
        " ".join(map(str, row.as_path)),
        preference,
        row.state,
        row.why,
    )


def _print(found: list[Row]) -> None:
    """A table for each table; addresses of next hops are for CSV and JSON."""
    styles = {"in use": "green", "shares": "green", "refused": "bold red"}
    head, out = (HEAD[1], *HEAD[2:4], *HEAD[5:]), console()
    for name in dict.fromkeys(row.table for row in found):
        mine = [row for row in found if row.table == name]
        rows = [(c[1], *c[2:4], *c[5:]) for c in map(_cells, mine[:MOST_ROWS])]
        print_table(out, head, rows, title=name, styles=styles)
        if len(mine) > MOST_ROWS:
            click.echo(f"{len(mine) - MOST_ROWS:,} more rows are in --csv and --json.")


def _changes(found: list[Change], *, as_json: bool) -> None:
    if as_json:
        echo_json(
            [
                {
                    "table": c.table,
                    "prefix": c.prefix,
                    "what": c.what,
                    "before": list(c.before),
                    "after": list(c.after),
                    "how": list(c.how),
                }
                for c in found
            ]
        )
        return
    rows = [
        (c.table, c.prefix, c.what, ", ".join(c.before), ", ".join(c.after), "; ".join(c.how))
        for c in found
    ]
    print_table(
        console(),
        ("Table", "Prefix", "What", "Before", "After", "How"),
        rows,
        styles={"lost": "bold red", "moves": "yellow", "differs": "yellow"},
    )
    if not found:
        click.echo("Nothing changes.")


def _sessions(found: list[Advertised], *, as_json: bool) -> None:
    if as_json:
        echo_json(
            [
                {
                    "tunnel": t.tunnel,
                    "by": t.by,
                    "to": t.to,
                    "prefixes": [str(p) for p in t.prefixes],
                    "refused": list(t.refused),
                }
                for t in found
            ]
        )
        return
    rows = [
        (t.tunnel, t.by, t.to, some(t.prefixes, 8), some(t.refused, 8) or "nothing")
        for t in found[:MOST_ROWS]
    ]
    print_table(
        console(),
        ("Over", "From", "To", "Advertised", "Not accepted"),
        rows,
        nothing="The design has no BGP session: no routes are advertised.",
    )
    if len(found) > MOST_ROWS:
        click.echo(f"{len(found) - MOST_ROWS:,} more sessions are in --json.")


def _hops(as_path: AsPath) -> list[int | list[int]]:
    """Numbers; a set as a list of its members."""
    return [hop if isinstance(hop, int) else sorted(hop) for hop in as_path]
