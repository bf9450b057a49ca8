"""`reshape --drift`: what somebody changed by hand at a cloud, and how it is undone."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click

from obrin.cli.common import console, echo_json, print_table, say

if TYPE_CHECKING:
    from obrin.core.design.positions import Locator
    from obrin.live.project import Project
    from obrin.live.reshape.drift import Drifted


def drift(project: Project, *, go: bool, timeout: float, as_json: bool) -> int:
    """The exit code: 1 where something is not as the design has it, or was not met in the end."""
    from obrin.cli.connect import ProgressLines
    from obrin.live.drivers.registry import open_ends
    from obrin.live.reshape.built import built
    from obrin.live.reshape.drift import drifted, undo

    settled, locator = built(project), project.settled()[0].locator
    secrets = project.secrets(settled)
    with project.lock("reshape"), open_ends(project, settled) as ends:
        found = drifted(settled, ends, secrets)
        left = undo(project, settled, ends, found, ProgressLines(), timeout) if go else []
    if as_json:
        echo_json([_json(one, locator, undone=go) for one in found])
    else:
        _tell(found, None if go else locator)
    for outcome in left:
        click.echo(f"not met: {outcome.expectation}: {outcome.seen}", err=True)
    if go and found and not as_json:
        click.echo(f"{len(found)} of {len(found)} undone; what worked before works.")
    return int(bool(left) if go else bool(found))


def _tell(found: list[Drifted], locator: Locator | None) -> None:
    out = console()
    if not found:
        say(out, "What stands at the clouds is what was built.", style="green")
        return
    rows = [
        (one.name if not number else "", part.part, part.there, part.wanted)
        for one in found
        for number, part in enumerate(one.differing)
    ]
    print_table(out, ("Where", "What", "There", "As built"), rows)
    if locator is None:
        return
    for one in found:
        where = locator.where(one.place)
        say(out, f"{one.name} is made from {where}: to keep what is there, say it in the design.")
    say(out, f"{len(found)} things are not as they were built. '--drift --go' undoes them.")


def _json(one: Drifted, locator: Locator, *, undone: bool) -> dict[str, Any]:
    return {
        "name": one.name,
        "cloud": one.task.step.cloud,
        "differing": [
            {"part": part.part, "there": part.there, "wanted": part.wanted}
            for part in one.differing
        ],
        "where": locator.where(one.place),
        "undone": undone,
    }
