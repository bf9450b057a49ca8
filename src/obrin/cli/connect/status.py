"""`status`: both ends of every tunnel side by side, now or as it goes."""

from __future__ import annotations

import functools
from collections.abc import Iterator, Mapping, Sequence
from typing import TYPE_CHECKING

import click

from obrin.cli.shared.common import (
    STYLES,
    Between,
    console,
    design_option,
    echo_json,
    json_option,
    print_table,
    project_of,
    say,
)
from obrin.cli.shared.redacting import redactable
from obrin.core.known import NotKnown
from obrin.live.drivers.observations import NO_IKE

if TYPE_CHECKING:
    from rich.console import Console

    from obrin.live.connect.ended import Ended
    from obrin.live.drivers.observations import EndStatus
    from obrin.live.observe.tunnel import TunnelStatus

MOST_NAMED = 5


@click.command()
@click.option("--watch", "watched", is_flag=True, help="Go on asking, and say what changes.")
@click.option(
    "--every",
    type=Between(0.2, 3600),
    default=2.0,
    show_default=True,
    help="With '--watch': seconds between two rounds.",
)
@click.option("--for", "lasting", help="With '--watch': stop after that, such as '10 min'.")
@click.option(
    "--partial",
    is_flag=True,
    help="Exit code 0 also where it is not known of some whether they are up.",
)
@click.option("--metrics", is_flag=True, help="Instead: metrics in the OpenMetrics text format.")
@design_option
@json_option
@redactable
@click.pass_context
def status(
    ctx: click.Context,
    watched: bool,
    every: float,
    lasting: str | None,
    partial: bool,
    metrics: bool,
    design_file: str | None,
    as_json: bool,
) -> None:
    """Show both ends of every tunnel side by side, and where they disagree. Exit code 1 if one is
    down, and if it is not known of one whether it is up.

    With '--watch' a line for each, again and again, and what changed since it was first asked; with
    '--json' as well, a line of JSON for each change. The changes are kept beside the journal.

    \b
    Examples:
      obrin status --design skerrow-ferries
      obrin status --watch --for '10 min' --json
    """
    if watched:
        ctx.exit(_watch(design_file, every, lasting, partial=partial, as_json=as_json))
    from datetime import UTC, datetime

    from obrin.core.known import NotKnown
    from obrin.live.connect.whole import ended_of
    from obrin.live.drivers.registry import open_ends
    from obrin.live.observe.status import (
        clock_words,
        read_clocks,
        read_status,
        read_strangers,
        read_waiting,
    )
    from obrin.live.observe.tunnel import DOWN
    from obrin.live.reshape.drift import drifted

    project = project_of(design_file)
    _, settled = project.settled()
    with open_ends(project, settled) as ends:
        found = read_status(settled, ends)
        ended = ended_of(project, settled, ends)
        waiting = read_waiting(ends)
        seen = read_clocks(ends, lambda: datetime.now(UTC))
        clocks = {name: wrong for name, wrong in seen.items() if not isinstance(wrong, NotKnown)}
        labels = {tunnel.label for tunnel in settled.tunnels()}
        down = [t for t in found if t.state == DOWN and t.tunnel in labels]
        strangers = read_strangers(settled, ends, down) if down else []
        secrets = project.secrets(settled)
        whole = not secrets.missing(settled)
        look = drifted(settled, ends, secrets, but_silent=True) if whole else None
    if metrics:
        from obrin.live.observe.metrics import metrics_text

        click.echo(metrics_text(found, clocks), nl=False)
        ctx.exit(0 if _good(found, partial=partial) else 1)
    for gateway, wrong in clocks.items():
        click.echo(f"{clock_words(gateway, wrong)}.", err=True)
    if unseen := {n: w.why for n, w in seen.items() if isinstance(w, NotKnown)}:
        click.echo(f"not known whether the clock of {_reasons(unseen)} is right.", err=True)
    for text in strangers:
        click.echo(text, err=True)
    other = () if look is None else look.found
    for drift in other:
        parts = "; ".join(part.words for part in drift.differing[:MOST_NAMED])
        more = f", and {left} more" if (left := len(drift.differing) - MOST_NAMED) > 0 else ""
        click.echo(f"{drift.name} is not as the design has it: {parts}{more}.", err=True)
    if look is not None and look.unseen:
        text = _reasons(look.unseen)
        click.echo(f"not known whether {text} is as the design has it.", err=True)
    for name, who in waiting.items():
        click.echo(f"{name} waits for {who}, who has to accept it.", err=True)
    if as_json:
        echo_json([tunnel.as_json() for tunnel in found])
        if ended:
            click.echo(f"still there: {ended.words()}", err=True)
    else:
        print_status(console(), found, ended)
    good = _good(found, partial=partial) and not (ended or waiting or other)
    ctx.exit(0 if good else 1)


def _reasons(unseen: Mapping[str, str]) -> str:
    """Names of what could not be looked at, by the reason."""
    reasons: dict[str, list[str]] = {}
    for name, why in unseen.items():
        reasons.setdefault(why, []).append(name)
    parts = (f"{_named(names)} ({why})" for why, names in reasons.items())
    return "; ".join(parts)


def _good(found: Sequence[TunnelStatus], *, partial: bool) -> bool:
    """Whether all are right, or with `partial` none is wrong."""
    return all(t.right is True or (partial and t.right is not False) for t in found)


def _watch(
    design_file: str | None, every: float, lasting: str | None, *, partial: bool, as_json: bool
) -> int:
    """The exit code: of what was seen last."""
    from contextlib import closing

    from obrin.cli.connect.watch import watch
    from obrin.core.design.values import parse_duration
    from obrin.live.drivers.registry import open_ends
    from obrin.live.files import private_folder
    from obrin.live.observe.history import History
    from obrin.live.observe.status import read_status

    try:
        seconds = float("inf") if lasting is None else parse_duration(lasting)
    except ValueError as error:
        raise click.UsageError(f"--for: {error}") from None
    project = project_of(design_file)
    _, settled = project.settled()
    private_folder(project.own_folder)
    path = project.own_folder / f"history-{project.design_path.stem}.sqlite"
    with open_ends(project, settled) as ends, closing(History(path)) as history:
        ask = functools.partial(read_status, settled, ends)
        found = watch(ask, history, every, seconds, as_json=as_json)
    return 0 if _good(found, partial=partial) else 1


def print_status(out: Console, tunnels: Sequence[TunnelStatus], ended: Ended) -> None:
    """What each end says of itself, side by side; the last line leads with what is wrong."""
    rows: list[tuple[str, ...]] = []
    for tunnel in tunnels:
        name = tunnel.tunnel
        for what, site, cloud in _pairs(tunnel.site, tunnel.cloud):
            rows.append((name, what, site, cloud))
            name = ""
    print_table(out, ("Tunnel", "", "Site says", "Cloud says"), rows, styles=STYLES)
    for tunnel in tunnels:
        for text in tunnel.disagreements:
            say(out, f"{tunnel.tunnel}: {text}", style="yellow")
        if tunnel.revoked:
            say(out, f"{tunnel.tunnel}: {tunnel.revoked}, so it stays down")
        silent = tunnel.site.problem or tunnel.cloud.problem  # the table has it
        for text in () if tunnel.revoked or silent else tunnel.notes:
            say(out, f"{tunnel.tunnel}: {text}")
        for end in (tunnel.site, tunnel.cloud):
            for text in end.rejected:
                say(out, f"{tunnel.tunnel}: not accepted: {text}", style="yellow")
    if ended.others:
        say(out, f"The cloud also holds, beside this design: {', '.join(ended.others)}.")
    good = not ended and _good(tunnels, partial=False)
    say(out, summary(tunnels, ended), style="green" if good else "bold red")


def summary(tunnels: Sequence[TunnelStatus], ended: Ended) -> str:
    """One line: first what is wrong, then what is not known, then the rest."""
    parts, count = [], len(tunnels)
    lines = any(NO_IKE in (t.site.ike, t.cloud.ike) for t in tunnels)
    kind = "tunnels and circuits" if lines else "tunnels"
    down = [t.tunnel for t in tunnels if t.as_wished is False]
    if down:
        parts.append(f"{len(down)} of {count} {kind} DOWN: {_named(down)}")
    odd = [t.tunnel for t in tunnels if t.as_wished is True and t.disagreements]
    if odd:
        parts.append(f"{len(odd)} of {count} {kind} NOT RIGHT, the ends disagree: {_named(odd)}")
    unknown = [t for t in tunnels if isinstance(t.as_wished, NotKnown)]
    if unknown:
        parts.append(f"{len(unknown)} of {count} {kind} NOT KNOWN: {_why(unknown)}")
    if ended:
        parts.append(f"STILL THERE though it has ended: {ended.words()}")
    up, rest = sum(t.up is True for t in tunnels), sum(t.rests for t in tunnels)
    barred = sum(bool(t.revoked) for t in tunnels)
    spare = f", {rest} at rest as {'a spare' if rest == 1 else 'spares'}" if rest else ""
    spare += f", {barred} down because a certificate is revoked" if barred else ""
    counted = f"{up} of {count} {kind} up{spare}"
    if up or down or not unknown:
        agree = "both ends agree"
        half = [t for t in tunnels if t.up is True and isinstance(t.right, NotKnown)]
        if half:
            agree = f"of {len(half)} one end alone says so: {_why(half)}"
        parts.append(counted if down or odd or unknown else f"{counted}; {agree}")
    return "; ".join(parts) + "."


def _named(names: Sequence[str]) -> str:
    return ", ".join(names[:MOST_NAMED]) + (", ..." if len(names) > MOST_NAMED else "")


def _why(tunnels: Sequence[TunnelStatus]) -> str:
    """What is not known, by its reasons: those that share one are named together."""
    reasons: dict[str, list[str]] = {}
    for tunnel in tunnels:
        if isinstance(tunnel.right, NotKnown):
            reasons.setdefault(tunnel.right.why, []).append(tunnel.tunnel)
    shown = [f"{_named(names)} ({why})" for why, names in reasons.items()]
    return "; ".join(shown[:MOST_NAMED]) + ("; ..." if len(shown) > MOST_NAMED else "")


def _pairs(site: EndStatus, cloud: EndStatus) -> Iterator[tuple[str, str, str]]:
    """Rows of both ends; of one that cannot be asked, why."""
    if site.problem or cloud.problem:
        yield "", site.problem or "answers", cloud.problem or "answers"
    if site.problem and cloud.problem:
        return

    def row(what: str, field: str) -> tuple[str, str, str]:
        values = (getattr(end, field) for end in (site, cloud))
        one, other = (
            "" if end.problem else _shown(value)
            for end, value in zip((site, cloud), values, strict=True)
        )
        return what, one, other

    if NO_IKE in (site.ike, cloud.ike):
        yield row("line", "child")
    else:
        yield row("IKE SA", "ike")
        yield row("child SA", "child")
    yield row("packets in", "packets_in")
    yield row("packets out", "packets_out")
    if site.bgp != "none" or cloud.bgp != "none":
        yield row("BGP", "bgp")
        yield row("received", "received")
        yield row("announced", "announced")


def _shown(value: object) -> str:
    if isinstance(value, NotKnown):
        return "not known"
    return " ".join(value) if isinstance(value, tuple) else str(value)
