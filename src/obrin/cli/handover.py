"""`handover`."""

from __future__ import annotations

import click

from obrin.cli.common import console, design_option, print_table, project_of


@click.command()
@design_option
def handover(design_file: str | None) -> None:
    """Write one pack for each gateway, below packs/.

    config.json: standard data for machines (YANG data as JSON). sheet.md: every value for people.
    steps.md: the order of steps with their checks. keys.json: the secrets, apart, for you alone.

    \b
    Example:
      obrin handover --design skerrow-ferries
    """
    from obrin.core.handover.pack import gateways_of
    from obrin.live.packs import write_packs

    project = project_of(design_file)
    _, settled = project.settled()
    written = write_packs(project, settled)
    rows = [
        (name, "cloud gateway" if name in settled.clouds else "site gateway",
         ", ".join(path.name for path in written[name]))
        for name in gateways_of(settled)
    ]  # fmt: skip
    print_table(console(), ("Gateway", "Kind", "Files"), rows)
    click.echo(f"Packs are in {project.packs.name}/. Both ends of every tunnel mirror each other.")
    click.echo("Send keys.json apart from the rest. Next: 'obrin practice start', 'obrin connect'.")
