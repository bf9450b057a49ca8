"""`check`."""

from __future__ import annotations

from collections.abc import Sequence

import click

from obrin.cli.common import STYLES, console, design_option, echo_json, json_option, project_of
from obrin.core.check.finding import Finding, Severity
from obrin.core.design.positions import Locator


@click.command()
@design_option
@json_option
@click.pass_context
def check(ctx: click.Context, design_file: str | None, as_json: bool) -> None:
    """Find what would go wrong, before anything exists. Exit code 1 if there is an error.

    Blanks that are not settled yet are settled for the check, and nothing is written.

    \b
    Example:
      obrin check --design skerrow-ferries/draft.yaml
    """
    from obrin.core.check import check as run_checks

    project = project_of(design_file)
    document, choices, settled, moved = project.on_trial()
    findings = run_checks(
        settled,
        project.offering(document.design),
        project.secrets_to_judge(settled),
        project.now,
        choices,
        moved,
    )
    if as_json:
        echo_json([finding_json(f, document.locator) for f in findings])
    else:
        print_findings(findings, document.locator)
    ctx.exit(1 if any(f.severity is Severity.ERROR for f in findings) else 0)


def finding_json(finding: Finding, locator: Locator) -> dict[str, str]:
    return {
        "severity": finding.severity.label,
        "code": finding.code,
        "where": locator.where(finding.place),
        "place": ".".join(map(str, finding.place)),
        "cause": finding.cause,
        "consequence": finding.consequence,
        "fix": finding.fix,
    }


def print_findings(findings: Sequence[Finding], locator: Locator) -> None:
    """Each finding as a short block: what, so what, and the cure."""
    from rich.table import Table
    from rich.text import Text

    out = console()
    for finding in findings:
        label = finding.severity.label
        head = Text.assemble(
            (label.upper(), STYLES[label]),
            "  ",
            (finding.code, "bold"),
            "  ",
            (locator.where(finding.place), "dim"),
        )
        out.print(head, soft_wrap=True)
        grid = Table.grid(padding=(0, 2))
        grid.add_row("  what", Text(finding.cause))
        grid.add_row("  then", Text(finding.consequence))
        grid.add_row("  cure", Text(finding.fix))
        out.print(grid)
        out.print()
    counts = [sum(f.severity is s for f in findings) for s in Severity]
    words = [f"{n} {s.label}{'s' if n != 1 else ''}" for n, s in zip(counts, Severity, strict=True)]
    out.print(Text(", ".join(words) + "." if findings else "Nothing found: all good."))
