"""`handover`."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from obrin.cli.shared.common import (
    console,
    design_option,
    echo_json,
    json_option,
    print_table,
    project_of,
    tell_changed_by_hand,
    writes,
)
from obrin.cli.shared.deeds import Change, Deed
from obrin.cli.shared.working import crew_of, workers_option
from obrin.core.errors import ObrinError
from obrin.core.naming import some, unknown

if TYPE_CHECKING:
    from collections.abc import Sequence

    from obrin.core.crew import Crew
    from obrin.core.settled.model import Settled
    from obrin.live.project import Project


@click.command()
@click.option(
    "--template",
    type=click.Path(),
    help="Render this Jinja2 template for each gateway instead of writing packs.",
)
@click.option("--gateway", "only", help="With --template: one gateway, to standard output.")
@click.option("--reveal-keys", is_flag=True, help="With --template: let it use the keys.")
@click.option("--dry-run", is_flag=True, help="Make and prove the packs, and write nothing.")
@click.option(
    "--stand-ins",
    is_flag=True,
    help="Write packs with placeholders for what a cloud has not assigned yet, each marked.",
)
@workers_option
@design_option
@json_option
@writes("dry_run")
def handover(
    template: str | None,
    only: str | None,
    reveal_keys: bool,
    dry_run: bool,
    stand_ins: bool,
    workers: int,
    design_file: str | None,
    as_json: bool,
) -> None:
    """Write one pack for each gateway, below packs/DESIGN/.

    config.json: standard data for machines (YANG data as JSON). sheet.md: every value for people;
    sheet.html the same as a page, values.csv as a table. steps.md: the order of steps with their
    checks. mirror.md: both ends field by field. keys.json: the secrets, apart, for you alone.
    services.md and .csv, of a site: what those who look after names, directory, DHCP, monitoring
    and time have to know, and what changes for them.

    With --template, a template of your own is rendered for each gateway, to
    packs/DESIGN/GATEWAY/NAME; a name in it that means nothing is an error with its line, never an
    empty hole.

    \b
    Examples:
      obrin handover --design skerrow-ferries
      obrin handover --template my-device.j2 --gateway hh-east --design skerrow-ferries
    """
    from obrin.live.packs import shown

    project = project_of(design_file)
    _, settled = project.settled()
    tell_changed_by_hand(project)
    if template is not None:
        if only is not None and (dry_run or as_json):
            raise click.UsageError("--gateway goes to standard output: no --dry-run, no --json")
        made = _render(project, settled, Path(template), only, reveal_keys=reveal_keys)
        if only is not None:
            click.echo(made[only], nl=False)
            return
        file = rendered_name(Path(template))
        if not dry_run:
            _write_rendered(project, file, made, secret=reveal_keys)
        changes = [Change(shown(project, project.packs / n / file), "written") for n in made]
        files = [project.packs / name / file for name in made]
        Deed(changes=changes, files=files).tell(dry_run=dry_run, as_json=as_json)
        return
    if only is not None or reveal_keys:
        raise click.UsageError("--gateway and --reveal-keys belong to --template")
    _need_final(settled, stand_ins=stand_ins)
    with crew_of(workers) as crew:
        if dry_run:
            _prove(project, settled, crew, as_json=as_json)
        else:
            _write(project, settled, crew, as_json=as_json)


def _need_final(settled: Settled, *, stand_ins: bool) -> None:
    """Raises ObrinError where a pack would have a placeholder, unless that was asked for."""
    from obrin.core.handover.sheet import stand_ins as placeholders

    clouds = sorted(set(placeholders.stand_ins(settled).values()))
    if clouds and not stand_ins:
        raise ObrinError(
            f"packs would have placeholders: {' and '.join(clouds)} has not assigned its addresses "
            "yet. 'obrin connect' builds the cloud first and writes the right packs; or hand over "
            "with --stand-ins, which marks each placeholder"
        )


def _prove(project: Project, settled: Settled, crew: Crew, *, as_json: bool) -> None:
    """All packs made, and none written."""
    from obrin.live.packs import make_packs

    made = make_packs(project, settled, crew)
    if as_json:
        echo_json([_pack_json(settled, name, ()) for name in made])
    else:
        click.echo(f"{len(made):,} packs can be made: {some(made)}. Nothing was written.")


def _pack_json(settled: Settled, name: str, files: Sequence[Path]) -> dict[str, object]:
    return {"gateway": name, "kind": _kind(settled, name), "files": [str(path) for path in files]}


def _write(project: Project, settled: Settled, crew: Crew, *, as_json: bool) -> None:
    from obrin.core.handover.pack import gateways_of
    from obrin.live.packs import shown, write_packs

    written = write_packs(project, settled, crew)
    rows = [
        (
            name,
            _kind(settled, name),
            ", ".join(p.name for p in written.files.get(name, ()))
            or "none: its certificate is revoked",
        )
        for name in gateways_of(settled)
    ]
    if as_json:
        names = gateways_of(settled)
        echo_json([_pack_json(settled, name, written.files.get(name, ())) for name in names])
    else:
        print_table(console(), ("Gateway", "Kind", "Files"), rows)
    for text in written.notes:
        click.echo(f"note: {text}.", err=True)
    if as_json:
        return
    if not rows:
        click.echo("Nothing is handed over: no link or circuit of the design leads anywhere yet.")
        return
    where = shown(project, project.packs)
    click.echo(f"Packs are in {where}/. Both ends of every tunnel mirror each other.")
    click.echo("Send keys.json apart from the rest. Next: 'obrin practice start', 'obrin connect'.")


def _kind(settled: Settled, name: str) -> str:
    cloud = settled.clouds.get(name)
    if cloud is None:
        return "site gateway"
    if cloud.is_hub:
        return "hub"
    return "cloud gateway" if settled.legs_at(name) else "cloud network"


def _render(
    project: Project, settled: Settled, path: Path, only: str | None, *, reveal_keys: bool
) -> dict[str, str]:
    """Texts filled from the template, by gateway. Raises ObrinError."""
    from obrin.core.check.upkeep.texts import unfilled
    from obrin.core.handover.pack import gateways_of
    from obrin.core.handover.sheet.context import template_context
    from obrin.live.project import read_text
    from obrin.live.templates import render_template

    text, names = read_text(path), gateways_of(settled)
    for line, column, words in unfilled(text):
        click.echo(
            f"warning: {path}:{line}:{column}: '{words}' is a placeholder that nobody filled in. "
            "Write what belongs there",
            err=True,
        )
    if only is not None and only not in names:
        raise unknown("gateway", only, names)
    secrets = project.secrets(settled) if reveal_keys else None
    missing = secrets.missing(settled) if secrets is not None else []
    if missing:
        raise ObrinError(f"not there yet: {', '.join(missing)}. Run 'obrin settle'")
    return {
        name: render_template(text, path, template_context(settled, name, secrets))
        for name in ([only] if only else names)
    }


def rendered_name(template: Path) -> str:
    """What the text is called in a pack. Raises ObrinError for a name that a pack's own file has,
    or one that is hidden."""
    from obrin.live.packs import OWN_FILES

    file = template.name.removesuffix(".j2")
    taken = file.lower() in OWN_FILES or file.lower().removesuffix(".edited") in OWN_FILES
    if taken or not file or file.startswith("."):
        raise ObrinError(
            f"{template} would be written as '{file}', which is a file of the pack itself. Give "
            "the template another name"
        )
    return file


def _write_rendered(project: Project, file: str, made: dict[str, str], *, secret: bool) -> None:
    from obrin.live.files import folder_of_ours, keep_out, write_whole

    folder_of_ours(project.packs.parent)
    if secret:
        keep_out(project.packs.parent, file)
    folder_of_ours(project.packs)
    for name, rendered in made.items():
        folder = project.packs / name
        folder_of_ours(folder)
        write_whole(folder / file, rendered, 0o600 if secret else 0o644)
