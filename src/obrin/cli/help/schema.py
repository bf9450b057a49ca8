"""`schema`: the JSON Schemas of the design file, and of what commands print."""

from __future__ import annotations

import json

import click

from obrin.core.errors import ObrinError


@click.command()
@click.option("--reference", is_flag=True, help="As a Markdown reference instead.")
@click.option(
    "--of", "command", help="The output of this command with --json, such as 'space free'."
)
@click.option("--outputs", is_flag=True, help="A Markdown reference of what all commands print.")
def schema(reference: bool, command: str | None, outputs: bool) -> None:
    """The JSON Schema (draft 2020-12) of the design file, or of a command's output.

    \b
    Examples:
      obrin schema > design.schema.json
      obrin schema --of status
    """
    from obrin.cli.outputs.page import OUTPUTS, as_text, output_page
    from obrin.core.design.reference import design_schema, reference_text

    if command is not None:
        if command not in OUTPUTS:
            raise ObrinError(f"'{command}' prints no JSON. Those that do: {', '.join(OUTPUTS)}")
        click.echo(as_text(command))
    elif outputs:
        click.echo(output_page(), nl=False)
    elif reference:
        click.echo(reference_text(), nl=False)
    else:
        click.echo(json.dumps(design_schema(), indent=2))
