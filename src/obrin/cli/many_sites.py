"""`new --sites --template`: a design for many sites from one table."""

from __future__ import annotations

from pathlib import Path

import click

from obrin.core.errors import ObrinError


def write_many(
    table: str | None, template: str | None, target: Path, *, force: bool, keep_good: bool
) -> None:
    """Raises ObrinError or DesignError; then nothing is written."""
    if not table or not template:
        raise click.UsageError("--sites and --template belong together: give both")
    import yaml

    from obrin.core.design.document import load_design
    from obrin.core.gather.rows import read_csv_rows
    from obrin.core.gather.template import fill_template
    from obrin.live.files import write_whole
    from obrin.live.project import read_text

    rows = read_csv_rows(read_text(Path(table)), table)
    filled = fill_template(read_text(Path(template)), template, rows, table)
    for problem in filled.bad[:50]:
        click.echo(str(problem), err=True)
    if filled.bad and not keep_good:
        raise ObrinError(
            f"{len(filled.bad)} bad rows of {len(rows)} in {table}: nothing was written. "
            "Correct them, or give --keep-good"
        )
    if target.exists() and not force:
        raise ObrinError(f"{target} exists. Name another file with --to, or give --force")
    head = f"# Made by 'obrin new' from {Path(table).name} and {Path(template).name}.\n"
    dumper = getattr(yaml, "CSafeDumper", yaml.SafeDumper)
    text = head + yaml.dump(
        filled.values, Dumper=dumper, sort_keys=False, default_flow_style=False, width=100
    )
    load_design(text, str(target))
    write_whole(target, text, 0o644)
    count = len(rows) - len(filled.bad)
    click.echo(f"{target} written with {count} rows of {table}. Next: 'obrin settle'.")
