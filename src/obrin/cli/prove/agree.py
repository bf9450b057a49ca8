"""`agree`: both ends of a tunnel side by side, and what they will say to each other."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from obrin.cli.shared.common import (
    NO_TUNNEL,
    console,
    design_option,
    echo_json,
    json_option,
    print_table,
    project_of,
)
from obrin.core.naming import unknown
from obrin.core.quantity import plain

if TYPE_CHECKING:
    from obrin.core.handover.ends.agreed import Agreement
    from obrin.core.ipsec.ends import Step
    from obrin.core.settled.model import Settled


@click.command()
@click.argument("link", required=False)
@design_option
@json_option
@click.pass_context
def agree(ctx: click.Context, link: str | None, design_file: str | None, as_json: bool) -> None:
    """Whether both ends will agree: every exchange, what is agreed or fails, and when.

    With a LINK: both ends line by line, and the exchanges as a timeline. Exit code 1 when something
    fails, or when it is not known whether what is 'entered' is right. Blanks that are not settled
    yet are settled for it, and nothing is written.

    \b
    Examples:
      obrin agree harbour-timetable --design skerrow-ferries
      obrin agree --design skerrow-ferries/draft.yaml
    """
    from obrin.core.handover.ends.agreed import agreements

    project = project_of(design_file)
    settled = project.on_trial().settled
    if link is not None and link not in settled.links:
        raise unknown("link", link, settled.links)
    said = any(one.entered for one in settled.links.values())
    prints = project.keys.prints() if said else {}
    found = [a for a in agreements(settled, prints) if link in (None, a.tunnel.link)]
    if as_json:
        echo_json([_as_json(agreement) for agreement in found])
    elif link is None:
        rows = []
        for a in found:
            step = next((s for s in a.steps if not s.good), None)
            verdict = "not known" if a.verdict is None else "agreed"
            verdict = verdict if step is None else f"{step.exchange}: {step.notify}"
            rows.append(
                (
                    a.tunnel.label,
                    verdict,
                    _when(step) if step else "",
                    step.text if step else a.steps[0].text,
                )
            )
        print_table(console(), ("Tunnel", "Outcome", "At", "What"), rows, nothing=NO_TUNNEL)
    else:
        for a in found:
            _print_whole(settled, a)
    for a in found:
        for text in a.unknown:
            click.echo(f"{a.tunnel.label}: not known {text}", err=True)
    for cure in dict.fromkeys(_cure(settled, a) for a in found if not a.good):
        click.echo(cure, err=as_json)
    ctx.exit(0 if all(a.verdict for a in found) else 1)


def _cure(settled: Settled, agreement: Agreement) -> str:
    from obrin.core.handover.ends.agreed import edit_words

    link = agreement.tunnel.link
    if settled.links[link].entered:
        return f"Enter at both ends of {link} what the sheets say."
    return edit_words(agreement)


def _print_whole(settled: Settled, agreement: Agreement) -> None:
    from obrin.core.handover.ends.agreed import lines

    out, tunnel = console(), agreement.tunnel
    rows = [
        (line.what, line.site, line.cloud, line.follows or "fits")
        for line in lines(settled, agreement)
    ]
    head = ("Value", tunnel.gateway, tunnel.cloud, "What follows")
    print_table(out, head, rows, title=f"Tunnel {tunnel.label}")
    steps = [
        (_when(s), s.exchange, "good" if s.good else s.notify, s.text) for s in agreement.steps
    ]
    print_table(out, ("At", "Exchange", "Outcome", "What"), steps, styles={"good": "green"})


def _when(step: Step) -> str:
    if step.latest == 0:
        return "start"
    if step.earliest == step.latest:
        return f"{plain(step.latest)} s"
    return f"{step.earliest:.0f} to {step.latest:.0f} s"


def _as_json(agreement: Agreement) -> dict[str, object]:
    edit = agreement.edit
    return {
        "tunnel": agreement.tunnel.label,
        "agreed": agreement.verdict,
        "unknown": list(agreement.unknown),
        "steps": [
            {
                "exchange": s.exchange,
                "earliest": s.earliest,
                "latest": s.latest,
                "good": s.good,
                "notify": s.notify,
                "text": s.text,
            }
            for s in agreement.steps
        ],
        "edit": None if edit is None else {"suite": edit.suite, "ends": list(edit.ends)},
    }
