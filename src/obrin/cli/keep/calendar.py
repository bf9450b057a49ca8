"""`calendar`: everything that ends, as a list and as an iCalendar file."""

from __future__ import annotations

from datetime import timedelta
from pathlib import Path

import click

from obrin.cli.shared.common import (
    console,
    design_option,
    echo_json,
    json_option,
    print_table,
    project_of,
)
from obrin.cli.shared.deeds import Change, Deed, dry_run_of
from obrin.core.days import day_after

NOTHING = "Nothing ends. 'policy: key-life' and 'until' give days to things."


@click.command()
@click.option(
    "--to",
    "target",
    type=click.Path(dir_okay=False),
    help="Write an iCalendar file, with reminders ahead of each day.",
)
@dry_run_of("--to")
@click.option("--within", type=click.IntRange(min=0), help="Only the next so many days.")
@design_option
@json_option
@click.pass_context
def calendar(
    ctx: click.Context,
    target: str | None,
    within: int | None,
    dry_run: bool,
    design_file: str | None,
    as_json: bool,
) -> None:
    """What ends on which day: keys, certificates, granted access. Exit code 1 if something has.

    Keys end by 'policy: key-life', access by 'until' of an expectation or a link.

    \b
    Examples:
      obrin calendar --design skerrow-ferries/ledger.yaml
      obrin calendar --to skerrow.ics --design skerrow-ferries/ledger.yaml
    """
    from obrin.core.calendar.endings import endings
    from obrin.live.files import write_whole_bytes
    from obrin.live.ical import as_icalendar

    project = project_of(design_file)
    _, settled = project.settled()
    today = project.today
    found = endings(settled, project.keys.made(), project.dated(settled))
    shown = [
        e for e in found if within is None or e.day <= day_after(today, timedelta(days=within))
    ]
    if target is not None:
        if not dry_run:
            write_whole_bytes(Path(target), as_icalendar(settled.name, shown, project.now))
        change = Change(target, f"written with {len(shown)} days")
        Deed(changes=(change,), files=(Path(target),)).tell(dry_run=dry_run, as_json=as_json)
    elif as_json:
        echo_json(
            [
                {
                    "day": e.day.isoformat(),
                    "state": e.state(today),
                    "kind": e.kind,
                    "subject": e.subject,
                    "what": e.what,
                    "then": e.then,
                    "cure": e.cure,
                    "lead_days": e.lead,
                }
                for e in shown
            ]
        )
    else:
        rows = [
            (e.day.isoformat(), f"{(e.day - today).days} d", e.state(today), e.what, e.cure)
            for e in shown
        ]
        styles = {"ended": "bold red", "act now": "yellow"}
        print_table(
            console(), ("Day", "In", "", "What", "Cure"), rows, styles=styles, nothing=NOTHING
        )
    ctx.exit(1 if any(e.day < today for e in shown) else 0)
