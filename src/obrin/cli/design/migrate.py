"""`migrate`: rewrite files that have keys under the names of before."""

from __future__ import annotations

from pathlib import Path

import click

from obrin.cli.shared.deeds import Change, Deed, acting


@click.command()
@click.argument("files", nargs=-1, required=True, type=click.Path(dir_okay=False))
@acting
def migrate(files: tuple[str, ...], *, dry_run: bool, as_json: bool) -> None:
    """Rename keys that were called something else before, in design files and settled files.

    Each file is changed in place. Comments, order and spacing stay as they are. Nothing is written
    unless every file can be rewritten.

    \b
    Examples:
      obrin migrate design.yaml design.settled.yaml
      obrin migrate design.yaml --dry-run
    """
    from obrin.core.design.migrating import migrated
    from obrin.live.files import write_whole
    from obrin.live.project import read_text

    made = [(Path(file), *migrated(read_text(Path(file)), file)) for file in files]
    written = [(path, text) for path, text, renamed in made if renamed]
    for path, text in written if not dry_run else ():
        write_whole(path, text, path.stat().st_mode & 0o777, durable=True)
    changes = [
        Change(one.where, f"changed from '{one.old}' to '{one.new}'")
        for _, _, renamed in made
        for one in renamed
    ]
    changes += [Change(str(path), "left as it is") for path, _, renamed in made if not renamed]
    deed = Deed(
        changes=changes,
        files=[path for path, _ in written],
        following=["obrin check"] if written else [],
    )
    deed.tell(dry_run=dry_run, as_json=as_json)
