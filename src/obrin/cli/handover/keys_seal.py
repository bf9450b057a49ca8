"""`keys seal`, `unseal`, `export`, `import`: keys at rest and on the way."""

from __future__ import annotations

import json
import os
import secrets
import sys
from pathlib import Path

import click

from obrin.cli.handover.keys import judge, keys
from obrin.cli.shared.common import ask_secret, design_option, project_of, writes
from obrin.cli.shared.deeds import HAND_OVER, Change, Deed, acting
from obrin.core.check.tunnels.keys import design_words
from obrin.core.csv_text import csv_rows
from obrin.core.errors import ObrinError
from obrin.core.json_text import parse_json
from obrin.live.secrets.file import PASSPHRASE

__all__ = ["keys"]


@keys.command("seal")
@click.option(
    "--keyring",
    is_flag=True,
    help="Make a passphrase at random and keep it in the system's keyring.",
)
@design_option
@acting
@writes("dry_run")
def seal_keys(keyring: bool, design_file: str | None, dry_run: bool, as_json: bool) -> None:
    """Seal keys and certificates with a passphrase (scrypt, AES-256-GCM).

    From then on every command that needs them asks for the passphrase, or takes it from the
    environment variable OBRIN_PASSPHRASE, or, with --keyring, from the system's keyring (needs
    'pip install obrin[keyring]'). It cannot be recovered: keep it, or keep the packs.

    \b
    Example:
      obrin keys seal --design skerrow-ferries
    """
    project = project_of(design_file)
    files = [file for file in project.secret_files() if file.path.exists()]
    if files and all(file.sealed for file in files):
        raise ObrinError("the keys are sealed already. 'obrin keys unseal' takes the seal off")
    if not files:
        raise ObrinError("there are no keys yet. Run 'obrin settle'")
    changes = [Change(file.path.name, "sealed") for file in files]
    if keyring:
        changes.append(Change("passphrase", "made at random and kept in the system's keyring"))
    deed = Deed(changes=changes, files=[file.path for file in files])
    if not dry_run:
        if keyring:
            project.passphrase.give(project.keep_in_keyring(secrets.token_urlsafe(32)))
        elif not os.environ.get(PASSPHRASE) and sys.stdin.isatty():
            typed = click.prompt("Passphrase", hide_input=True, confirmation_prompt=True, err=True)
            project.passphrase.give(typed)
        for file in files:
            file.write(file.read(), sealed=True)
    deed.tell(dry_run=dry_run, as_json=as_json)


@keys.command("unseal")
@design_option
@acting
@writes("dry_run")
def unseal_keys(design_file: str | None, dry_run: bool, as_json: bool) -> None:
    """Take the seal off keys and certificates; only their mode (0600) protects them then.

    \b
    Example:
      obrin keys unseal --design skerrow-ferries
    """
    project = project_of(design_file)
    files = [file for file in project.secret_files() if file.sealed]
    if not files:
        raise ObrinError("the keys are not sealed")
    if not dry_run:
        for file in files:
            file.write(file.read(), sealed=False)
        project.leave_keyring()
    changes = [Change(file.path.name, "unsealed") for file in files]
    Deed(changes=changes, files=[file.path for file in files]).tell(
        dry_run=dry_run, as_json=as_json
    )


@keys.command("export")
@click.option(
    "--to",
    "target",
    required=True,
    type=click.Path(dir_okay=False),
    help="The file to write; it must not exist.",
)
@design_option
@acting
def export_keys(target: str, design_file: str | None, dry_run: bool, as_json: bool) -> None:
    """Write all keys to a file of their own, sealed with a passphrase that you give.

    The passphrase is typed without echo, or the first line of standard input. 'obrin keys import'
    reads the file, in another copy of the project, say.

    \b
    Example:
      obrin keys export --to skerrow.keys --design skerrow-ferries
    """
    from obrin.live.files import write_whole
    from obrin.live.secrets.sealed import seal

    project, path = project_of(design_file), Path(target)
    if path.exists():
        raise ObrinError(f"{path} exists. Name another file")
    found = project.keys.read()
    if not found:
        raise ObrinError("there are no keys yet. Run 'obrin settle'")
    if not dry_run:
        passphrase = ask_secret("Passphrase of the file", confirm=True)
        if not passphrase:
            raise ObrinError("an empty passphrase protects nothing. Nothing was written")
        sealed = seal(json.dumps({"keys": found}), passphrase, os.urandom)
        write_whole(path, json.dumps(sealed, indent=1) + "\n", 0o600)
    what = Change(str(path), f"written with {len(found)} keys, sealed")
    Deed(changes=(what,), files=(path,)).tell(dry_run=dry_run, as_json=as_json)


@keys.command("import")
@click.argument("file", type=click.Path())
@design_option
@acting
@writes("dry_run")
def import_keys(file: str, design_file: str | None, dry_run: bool, as_json: bool) -> None:
    """Take keys from a FILE: one of 'obrin keys export', or CSV with columns tunnel and key.

    All of them or none: a tunnel that does not exist, or a key that a device does not accept, is
    refused with its line. Weak ones are taken with a warning.

    \b
    Example:
      obrin keys import skerrow.keys --design skerrow-ferries
    """
    project = project_of(design_file)
    found = _imported(Path(file))
    _, settled = project.settled()
    known = {secret.label: secret for secret in settled.shared_secrets()}
    words = design_words(settled)
    for label, (key, where) in found.items():
        if label not in known:
            listed = ", ".join(known)
            raise ObrinError(f"{where}: there is no tunnel '{label}' with a key. Known: {listed}")
        judge(key, settled.secret_rules(known[label]), where, words)
    if not dry_run:
        project.keys.put({label: key for label, (key, _) in found.items()}, project.today)
    changes = [Change(known[label].words, f"taken from {file}") for label in found]
    Deed(changes=changes, following=HAND_OVER).tell(dry_run=dry_run, as_json=as_json)


def _imported(path: Path) -> dict[str, tuple[str, str]]:
    """Key and place in the file, by tunnel. Raises ObrinError."""
    from obrin.live.project import read_text
    from obrin.live.secrets.sealed import SealError, is_sealed, unseal

    text = read_text(path)
    try:
        data = parse_json(text)
    except ValueError:
        return _from_csv(text, path)
    try:
        if is_sealed(data):
            data = parse_json(unseal(data, ask_secret("Passphrase of the file")))
        return {str(label): (str(key), str(path)) for label, key in data["keys"].items()}
    except SealError as error:
        raise ObrinError(f"{path} cannot be opened: {error}. Nothing was changed") from None
    except (ValueError, KeyError, TypeError, AttributeError):
        raise ObrinError(
            f"{path} is not a file of 'obrin keys export'. Nothing was changed"
        ) from None


def _from_csv(text: str, path: Path) -> dict[str, tuple[str, str]]:
    rows = [(number, row) for number, row in csv_rows(text, str(path), ",", strict=False) if row]
    head = rows[0][1] if rows else []
    if not {"tunnel", "key"} <= set(head):
        raise ObrinError(f"{path}:1:1: columns 'tunnel' and 'key' are needed. Nothing was changed")
    found: dict[str, tuple[str, str]] = {}
    for number, cells in rows[1:]:
        row, where = dict(zip(head, cells, strict=False)), f"{path}:{number}:1"
        label = row.get("tunnel", "").strip()
        if label in found:
            raise ObrinError(f"{where}: '{label}' stands twice. Nothing was changed")
        found[label] = (row.get("key", ""), where)
    return found
