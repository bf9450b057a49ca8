"""`keys rotate`: new keys on a running link, tunnel by tunnel."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from obrin.cli.handover.keys_seal import keys
from obrin.cli.handover.rotating import ready_for, rotating, tell_turns
from obrin.cli.shared.common import project_of
from obrin.cli.shared.completion import tunnel_names
from obrin.cli.shared.deeds import Change, Deed
from obrin.core.errors import ObrinError
from obrin.core.naming import those_near, unknown

if TYPE_CHECKING:
    from obrin.core.settled.model import Settled

__all__ = ["keys"]


@keys.command()
@click.argument("tunnels", nargs=-1, shell_complete=tunnel_names)
@click.option("--link", "links", multiple=True, help="All tunnels of this link.")
@rotating
def rotate(
    tunnels: tuple[str, ...],
    links: tuple[str, ...],
    dry_run: bool,
    timeout: float,
    at_once: int,
    design_file: str | None,
    as_json: bool,
) -> None:
    """Replace keys at both ends, one tunnel at a time; all of them when no TUNNELS are named.

    The least preferred tunnel comes first. Each has to be up with its new key before the next one's
    turn, and none is touched while the tunnel that would carry meanwhile is down. A key that was
    made or brought already is taken, another is made for the rest. Stopped in the middle, it is
    taken up by the same command. Sheets and packs of devices that have no endpoint:
    'obrin keys renew', then 'obrin handover', in the order shown by --dry-run.

    \b
    Examples:
      obrin keys rotate --dry-run --design skerrow-ferries
      obrin keys rotate --link harbour-timetable --design skerrow-ferries
    """
    from obrin.core.handover.rotation import rotation

    project = project_of(design_file)
    _, settled = project.settled()
    known = [t.label for t in settled.keyed_tunnels()]
    _named(settled, known, tunnels, links)
    wanted = {*tunnels, *(t.label for t in settled.keyed_tunnels() if t.link in links)}
    left = [label for label in project.keys.turns_left() if label in known]
    if not wanted and left:
        click.echo(f"Taken up from an interrupted run: {', '.join(left)}.", err=True)
    # A tunnel that a killed run left in the middle comes first: it may be the one that carries.
    waiting = project.keys.waiting()
    turns = list(rotation(settled, wanted or left or known))
    turns.sort(key=lambda turn: turn.tunnel.label not in waiting)
    deed = Deed(
        changes=[
            Change(f"key of {t.tunnel.label}", f"replaced (meanwhile: {t.meanwhile})")
            for t in turns
        ],
        following=["obrin handover"],
    )
    if dry_run and as_json:
        deed.tell(dry_run=True, as_json=True)
        return
    if dry_run:
        tell_turns(turns)
        return
    from obrin.live.connect.rotate import Rotation

    with ready_for(Rotation, project, settled, timeout, at_once) as run:
        run.need_both_ends(
            {turn.tunnel.label for turn in turns},
            "Make another key with 'obrin keys renew', and have it entered at both ends",
        )
        project.keys.begin_turns([turn.tunnel.label for turn in turns])
        run.go_on(turns)
    if as_json:
        deed.tell(dry_run=False, as_json=True)
        return
    click.echo(f"{len(turns)} keys replaced. Next: 'obrin handover', for the packs at rest.")


def _named(
    settled: Settled, known: list[str], tunnels: tuple[str, ...], links: tuple[str, ...]
) -> None:
    """Raises ObrinError for a link that there is not, or a tunnel without a key."""
    for link in links:
        if link not in settled.links:
            raise unknown("link", link, settled.links)
    for label in tunnels:
        if label not in known:
            raise ObrinError(f"'{label}' has no key. Those that have: {those_near(label, known)}")
