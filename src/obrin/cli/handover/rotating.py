"""What `keys rotate` and `certificates rotate` have in common."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator, Sequence
from typing import TYPE_CHECKING, Any, TypeVar

import click

from obrin.cli.shared.common import (
    Between,
    console,
    design_option,
    json_option,
    print_table,
    writes,
)

if TYPE_CHECKING:
    from obrin.core.handover.rotation import Turn
    from obrin.core.settled.model import Settled
    from obrin.live.connect.turns import Turns
    from obrin.live.project import Project

    T = TypeVar("T", bound=Turns)

F = TypeVar("F", bound=Callable[..., Any])


def rotating(function: F) -> F:
    """The options of a command that replaces secrets on a running link, tunnel by tunnel."""
    function = design_option(json_option(writes("dry_run")(function)))
    function = click.option(
        "--timeout",
        type=Between(1, 3600),
        default=60.0,
        show_default=True,
        help="Seconds for a tunnel to come up with what is new.",
    )(function)
    function = click.option(
        "--at-once",
        type=click.IntRange(1, 64),
        default=1,
        show_default=True,
        help="Sites whose tunnels have their turn at the same time; the first site goes alone.",
    )(function)
    return click.option(
        "--dry-run", is_flag=True, help="Only show the order, and what carries meanwhile."
    )(function)


def tell_turns(turns: Sequence[Turn]) -> None:
    """Print the turns as a table."""
    rows = [(str(n), t.tunnel.label, t.meanwhile) for n, t in enumerate(turns, 1)]
    print_table(console(), ("Turn", "Tunnel", "Meanwhile"), rows)


@contextlib.contextmanager
def ready_for(
    kind: type[T], project: Project, settled: Settled, timeout: float, at_once: int
) -> Iterator[T]:
    """A rotation of a kind, with all drivers opened and the packs as they were handed over."""
    from obrin.cli.shared.progress import ProgressLines
    from obrin.live.drivers.registry import open_ends
    from obrin.live.packs import handed_over

    with open_ends(project, settled) as ends:
        handed = handed_over(project, settled)
        for text in handed.notes:
            click.echo(f"note: {text}.", err=True)
        yield kind(
            project=project,
            settled=settled,
            packs=handed.packs,
            ends=ends,
            report=ProgressLines(),
            timeout=timeout,
            at_once=at_once,
        )
