"""`status --watch`: the live link as it goes, with what changed; as lines of JSON for programs."""

from __future__ import annotations

import json
import sys
import time
from collections.abc import Callable, Sequence
from datetime import datetime
from typing import TYPE_CHECKING

import click

from obrin.cli.shared.common import console, print_table
from obrin.core.known import NotKnown

if TYPE_CHECKING:
    from obrin.live.observe.history import Change, History
    from obrin.live.observe.tunnel import TunnelStatus

MOST_SHOWN, MOST_ROWS = 12, 30
STYLES = {"up": "green", "DOWN": "bold red", "up, ends disagree": "yellow"}


def watch(
    ask: Callable[[], Sequence[TunnelStatus]],
    history: History,
    every: float,
    lasting: float,
    *,
    as_json: bool,
) -> Sequence[TunnelStatus]:
    """Ask again and again, until interrupted or so many seconds are over; the last answer."""
    until = time.monotonic() + lasting
    found = ask()
    try:
        while True:
            changes = history.note(found)
            if as_json:
                for change in changes:
                    click.echo(json.dumps(_as_json(change)))
            else:
                _show(found, history)
            left = until - time.monotonic()
            if left <= 0:
                return found
            time.sleep(min(every, left))
            found = ask()
    except KeyboardInterrupt:
        return found


def _show(found: Sequence[TunnelStatus], history: History) -> None:
    if sys.stdout.isatty():
        click.echo("\033[H\033[2J", nl=False)
    print_states(found, history.last())
    print_changes(history.changes(MOST_SHOWN))


def print_states(found: Sequence[TunnelStatus], last: dict[str, Change]) -> None:
    """One line for each, those that are not as wished first."""
    out, now = console(), time.time()
    rows = []
    for tunnel in sorted(found, key=lambda t: (t.right is True, t.right is not False)):
        state, since = tunnel.state, last.get(tunnel.tunnel)
        rows.append(
            (
                tunnel.tunnel,
                state,
                "" if since is None else _span(now - since.at),
                next(iter((*tunnel.disagreements, *tunnel.notes)), ""),
            )
        )
    shown = rows[:MOST_ROWS]
    print_table(out, ("Tunnel", "State", "For", "What is said of it"), shown, styles=STYLES)
    if len(rows) > len(shown):
        click.echo(f"and {len(rows) - len(shown)} more")
    up = sum(tunnel.up is True for tunnel in found)
    unknown = sum(isinstance(tunnel.as_wished, NotKnown) for tunnel in found)
    at = datetime.now().astimezone().strftime("%H:%M:%S")
    more = f", {unknown} not known" if unknown else ""
    click.echo(f"{at}: {up} of {len(found)} up{more}.")


def print_changes(changes: Sequence[Change]) -> None:
    """The newest last."""
    if not changes:
        return
    click.echo("\nWhat changed:")
    for change in changes:
        at = datetime.fromtimestamp(change.at).astimezone().strftime("%Y-%m-%d %H:%M:%S")
        why = f": {change.why}" if change.why and change.state not in ("up", "at rest") else ""
        click.echo(f"  {at}  {change.tunnel} {change.state}{why}")


def _span(seconds: float) -> str:
    if seconds < 120:
        return f"{seconds:.0f} s"
    return f"{seconds / 60:.0f} min" if seconds < 7200 else f"{seconds / 3600:.1f} h"


def _as_json(change: Change) -> dict[str, object]:
    at = datetime.fromtimestamp(change.at).astimezone().isoformat(timespec="seconds")
    return {"at": at, "tunnel": change.tunnel, "state": change.state, "why": change.why}
