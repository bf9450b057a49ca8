"""`reshape --drift`: what somebody changed by hand at an end, and how it is undone."""

from __future__ import annotations

import json
from typing import TYPE_CHECKING, Any

import click

from obrin.cli.shared.common import console, echo_json, print_table, say
from obrin.core.errors import ObrinError

if TYPE_CHECKING:
    from obrin.core.design.positions import Locator
    from obrin.core.handover.secrets import Secrets
    from obrin.live.drivers.protocol import Ends
    from obrin.live.project import Project
    from obrin.live.reshape.drift import Drifted, Look

NOTHING = "What stands at the ends is what was built."
SO_FAR = "What was seen is what was built."


def drift(project: Project, *, go: bool, take: bool, timeout: float, as_json: bool) -> int:
    """The exit code: 1 where something is not as the design has it, or was not met in the end."""
    from obrin.cli.shared.progress import ProgressLines
    from obrin.live.drivers.registry import open_ends
    from obrin.live.reshape.built import built
    from obrin.live.reshape.drift import drifted, undo

    _refuse_halfway(project)
    settled, locator = built(project), project.settled()[0].locator
    secrets = project.secrets_in_force(settled)
    with project.lock("reshape"), open_ends(project, settled) as ends:
        look = drifted(settled, ends, secrets)
        found = list(look.found)
        left = undo(project, settled, ends, found, ProgressLines(), timeout) if go else []
        if take:
            code = _take(project, look, ends, secrets, as_json=as_json)
            _tell_unseen(look)
            return code
    if as_json:
        echo_json([_json(one, locator, undone=go) for one in found])
    else:
        _tell(look, None if go else locator)
    for outcome in left:
        click.echo(f"not met: {outcome.expectation}: {outcome.seen}", err=True)
    if go and found and not as_json:
        click.echo(f"{len(found)} of {len(found)} undone; what worked before works.")
    _tell_unseen(look)
    return int(bool(left) or bool(look.unseen) or (bool(found) and not go))


def _tell_unseen(look: Look) -> None:
    """Name what was not seen: of that nothing is known."""
    for name, why in look.unseen.items():
        click.echo(f"not known: {name}: {why}", err=True)


def _refuse_halfway(project: Project) -> None:
    """Raises ObrinError while a change is under way: what stands is of neither design."""
    from obrin.live.reshape.change_file import read_record

    record = read_record(project)
    if record is not None:
        raise ObrinError(
            f"a change is under way, {record.words}, and what it has changed is not drift. Go on "
            "with --go, or back with --back, first"
        )


def _take(project: Project, look: Look, ends: Ends, secrets: Secrets, *, as_json: bool) -> int:
    """Take drift into the design, as far as a key of it can say it. Returns 1 where something is
    left."""
    from obrin.core.design.reader import dotted
    from obrin.live.files import write_whole
    from obrin.live.reshape.taking import taking

    found = list(look.found)
    taken = taking(project, found, ends, secrets)
    if taken.changes:
        write_whole(project.design_path, taken.text, 0o644, durable=True)
    values = [(dotted(change.place), change.now) for change in taken.changes]
    if as_json:
        echo_json(
            {
                "taken": [{"place": place, "value": value} for place, value in values],
                "left": [{"name": name, "part": part.part} for name, part in taken.left],
            }
        )
        return int(bool(taken.left or look.unseen))
    out = console()
    for place, value in values:
        say(out, f"{project.design_path.name} now says {place}: {json.dumps(value)}")
    for name, part in taken.left:
        say(out, f"No key of the design makes {name} so: {part.words}.", style="yellow")
    if values:
        click.echo("Next: 'obrin settle', then 'obrin reshape' for what else comes of it.")
    elif not found:
        _tell_nothing(look)
    return int(bool(taken.left or look.unseen))


def _tell_nothing(look: Look) -> None:
    if look.unseen:
        say(console(), f"{SO_FAR} Not seen: {len(look.unseen)}.", style="yellow")
    else:
        say(console(), NOTHING, style="green")


def _tell(look: Look, locator: Locator | None) -> None:
    out, found = console(), look.found
    if not found:
        _tell_nothing(look)
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
        say(out, f"{one.name} is made from {where}.")
    say(
        out,
        f"Not as built: {len(found)}. '--drift --go' undoes that, '--drift --take' brings it into "
        "the design.",
    )


def _json(one: Drifted, locator: Locator, *, undone: bool) -> dict[str, Any]:
    return {
        "name": one.name,
        "at": one.at,
        "differing": [
            {"part": part.part, "there": part.there, "wanted": part.wanted}
            for part in one.differing
        ],
        "where": locator.where(one.place),
        "undone": undone,
    }
