"""`check`."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING

import click

from obrin.cli.shared.common import (
    STYLES,
    console,
    design_option,
    echo_json,
    json_option,
    project_of,
    say,
)
from obrin.core.check.finding import Finding, Severity
from obrin.core.check.upkeep.accepting import seen_as
from obrin.core.design.positions import Locator
from obrin.core.design.reader import dotted

if TYPE_CHECKING:
    from obrin.core.catalogue.offering import Offered
    from obrin.core.settled.model import Settled
    from obrin.live.project import Project

MOST_BLOCKS = 60
MOST_PLACES = 8
"""What a screen is given; --json has all."""
_LEVELS = {severity.label: severity for severity in Severity}


@click.command()
@design_option
@click.option(
    "--level",
    type=click.Choice(list(_LEVELS)),
    default="error",
    show_default=True,
    help="From which severity on the exit code is 1.",
)
@click.option(
    "--accept",
    metavar="CODE",
    help="Print the lines that accept all findings of a code, for 'accepted-findings'.",
)
@click.option(
    "--change",
    is_flag=True,
    help="Also on the way there: from what the last 'connect' ended with, in the best order.",
)
@json_option
@click.pass_context
def check(
    ctx: click.Context,
    design_file: str | None,
    level: str,
    accept: str | None,
    change: bool,
    as_json: bool,
) -> None:
    """Find what would go wrong, before anything exists. Exit code 1 if there is an error.

    Blanks that are not settled yet are settled for the check, and nothing is written. What the
    design accepts, with reason, name and last day, is shown last and counts no more.

    \b
    Examples:
      obrin check --design skerrow-ferries/draft.yaml
      obrin check --accept one-gateway --design skerrow-ferries
      obrin check --change --level warning --design skerrow-ferries
    """
    from obrin.core.check.whole import check as run_checks

    project = project_of(design_file)
    document, choices, settled, moved = project.on_trial()
    offering = project.offering(document.design)
    findings = run_checks(
        settled,
        offering,
        project.secrets_to_judge(settled),
        project.now,
        choices,
        moved,
        _of_change(project, settled, offering) if change else None,
    )
    if accept is not None:
        _print_acceptance([f for f in findings if f.code == accept and f.accepted is None])
        return
    if as_json:
        echo_json([finding_json(f, document.locator) for f in findings])
    else:
        print_findings(findings, document.locator)
    ctx.exit(1 if any(f.counts(_LEVELS[level]) for f in findings) else 0)


def _of_change(project: Project, settled: Settled, offering: Offered) -> list[Finding]:
    """Raises ObrinError where nothing is known to be built."""
    from obrin.core.change.plan import make_plan
    from obrin.core.check.upkeep.changing import changing
    from obrin.live.reshape.built import built

    before = built(project)
    return list(changing(make_plan(before, settled, offering), before, settled))


def _print_acceptance(findings: Sequence[Finding]) -> None:
    if not findings:
        raise click.UsageError("nothing of that code is found, or all of it is accepted")
    click.echo("accepted-findings:")
    for finding in findings:
        click.echo(
            f"  - finding: {finding.code}\n"
            f"    at: {dotted(finding.place)}\n"
            f"    seen: '{seen_as(finding)}'             # of: {finding.cause}\n"
            "    because: <insert why it may stay>\n"
            "    by: <insert who answers for it>\n"
            "    until:                       # a last day, such as 2027-06-30"
        )


def finding_json(finding: Finding, locator: Locator) -> dict[str, object]:
    accepted = finding.accepted
    return {
        "severity": finding.severity.label,
        "code": finding.code,
        "where": locator.where(finding.place),
        "place": dotted(finding.place),
        "cause": finding.cause,
        "consequence": finding.consequence,
        "fix": finding.fix,
        "accepted": None
        if accepted is None
        else {
            "because": accepted.because,
            "by": accepted.by,
            "until": None if accepted.until is None else accepted.until.isoformat(),
        },
    }


def print_findings(findings: Sequence[Finding], locator: Locator) -> None:
    """Each finding as a short block: what, so what, and the cure; equal ones together."""
    from rich.text import Text

    out = console()
    blocks = _alike(f for f in findings if f.accepted is None)
    for block in blocks[:MOST_BLOCKS]:
        _print_block(block, locator)
    if len(blocks) > MOST_BLOCKS:
        left = sum(map(len, blocks[MOST_BLOCKS:]))
        say(out, f"... and {left} more, none of them more severe; --json has all.\n")
    accepted = [f for f in findings if f.accepted is not None]
    for finding in accepted:
        _print_accepted(finding, locator)
    if accepted:
        out.print()
    open_ones = [f for f in findings if f.accepted is None]
    counts = [sum(f.severity is s for f in open_ones) for s in Severity]
    words = [f"{n} {s.label}{'s' if n != 1 else ''}" for n, s in zip(counts, Severity, strict=True)]
    words += [f"{len(accepted)} accepted"] if accepted else []
    out.print(Text(", ".join(words) + "." if findings else "Nothing found: all good."))


def _alike(findings: Iterable[Finding]) -> list[list[Finding]]:
    """Group findings that differ in place and cause only, at the place of the first."""
    found: dict[tuple[object, ...], list[Finding]] = {}
    for finding in findings:
        key = finding.severity, finding.code, finding.consequence, finding.fix
        found.setdefault(key, []).append(finding)
    return list(found.values())


def _print_block(block: Sequence[Finding], locator: Locator) -> None:
    from rich.table import Table
    from rich.text import Text

    out, first = console(), block[0]
    label = first.severity.label
    where = locator.where(first.place) if len(block) == 1 else f"at {len(block)} places"
    head = Text.assemble(
        (label.upper(), STYLES[label]), "  ", (first.code, "bold"), "  ", (where, "dim")
    )
    out.print(head, soft_wrap=True)
    grid = Table.grid(padding=(0, 2))
    if len(block) == 1:
        grid.add_row("  what", Text(first.cause))
    for finding in block[:MOST_PLACES] if len(block) > 1 else ():
        grid.add_row("  what", Text(f"{locator.where(finding.place)}: {finding.cause}"))
    if len(block) > MOST_PLACES:
        grid.add_row("", Text(f"... and {len(block) - MOST_PLACES} more; --json has all"))
    grid.add_row("  then", Text(first.consequence))
    grid.add_row("  cure", Text(first.fix))
    out.print(grid)
    out.print()


def _print_accepted(finding: Finding, locator: Locator) -> None:
    accepted = finding.accepted
    if accepted is not None:
        until = "" if accepted.until is None else f" until {accepted.until.isoformat()}"
        say(
            console(),
            f"accepted{until} by {accepted.by}: {finding.severity.label} {finding.code} "
            f"{locator.where(finding.place)}: {accepted.because}",
        )
