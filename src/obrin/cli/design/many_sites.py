"""`new --sites --template`: a design for many sites from one table."""

from __future__ import annotations

import copy
from dataclasses import replace
from pathlib import Path

import click

from obrin.core.errors import DesignError, ObrinError, Problem

MOST_ALIKE = 10
"""Mistakes at one place of the template that are listed one by one."""


def many_sites(table: str | None, template: str | None, *, keep_good: bool) -> str:
    """The text of the design. Raises ObrinError or DesignError."""
    if not table or not template:
        raise click.UsageError("--sites and --template belong together: give both")
    import yaml

    from obrin.core.design.document import judge_values
    from obrin.core.gather.rows import read_csv_rows
    from obrin.core.gather.template import fill_template
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
    _, problems = judge_values(copy.deepcopy(filled.values), filled.where)
    if problems:
        raise DesignError(_together(problems))
    head = f"# Made by 'obrin new' from {Path(table).name} and {Path(template).name}.\n"
    dumper = getattr(yaml, "CSafeDumper", yaml.SafeDumper)
    text: str = head + yaml.dump(
        filled.values, Dumper=dumper, sort_keys=False, default_flow_style=False, width=100
    )
    click.echo(f"{len(rows) - len(filled.bad)} rows of {table} taken.", err=True)
    return text


def _together(problems: list[Problem]) -> list[Problem]:
    """A mistake of the template shows in every row; a few are listed."""
    found: dict[str, list[Problem]] = {}
    for problem in problems:
        found.setdefault(problem.where.rpartition(" ")[2], []).append(problem)
    shown: list[Problem] = []
    for alike in found.values():
        *few, last = alike[:MOST_ALIKE]
        more = len(alike) - len(few) - 1
        shown += few
        shown.append(
            replace(last, what=f"{last.what}, and so in {more} more rows") if more else last
        )
    return shown
