"""`keys`: pre-shared keys are shown only on request."""

from __future__ import annotations

import os
from typing import TYPE_CHECKING

import click

from obrin.cli.shared.common import (
    ask_secret,
    console,
    design_option,
    echo_json,
    json_option,
    print_table,
    project_of,
    writes,
)
from obrin.cli.shared.completion import secret_names
from obrin.cli.shared.deeds import HAND_OVER, Change, Deed, acting
from obrin.core.check.tunnels.keys import design_words, shared_keys
from obrin.core.errors import ObrinError
from obrin.core.ipsec.guessing import estimate_bits
from obrin.core.ipsec.shared_keys import difference, key_print, make_key, weaknesses
from obrin.core.naming import those_near

if TYPE_CHECKING:
    from collections.abc import Sequence

    from obrin.core.ipsec.profile import KeyRules
    from obrin.core.settled.model import Settled
    from obrin.core.settled.shared_secrets import SharedSecret


@click.group()
def keys() -> None:
    """Pre-shared keys and passwords of BGP sessions.

    A key has the name of its tunnel, LINK/TUNNEL; the password of the session in it is called
    LINK/TUNNEL:bgp.
    """


def _secret(design_file: str | None, label: str) -> tuple[Settled, SharedSecret]:
    """The design, and what is called so. Raises ObrinError."""
    _, settled = project_of(design_file).settled()
    known = {secret.label: secret for secret in settled.shared_secrets()}
    if label not in known:
        listed = those_near(label, known) or "none: its links use certificates"
        raise ObrinError(f"no key or password is called '{label}'. There are: {listed}")
    return settled, known[label]


def _held(design_file: str | None, label: str) -> tuple[SharedSecret, dict[str, str]]:
    """What is called so, and all that is stored, with it. Raises ObrinError."""
    _, found = _secret(design_file, label)
    stored = project_of(design_file).keys.read()
    if found.label not in stored:
        raise ObrinError(f"there is no {found.words} yet. Run 'obrin settle'")
    return found, stored


@keys.command("list")
@design_option
@json_option
def list_keys(design_file: str | None, as_json: bool) -> None:
    """Every tunnel with what its key is worth; no key is shown.

    \b
    Example:
      obrin keys list --design skerrow-ferries
    """
    project = project_of(design_file)
    _, settled = project.settled()
    stored = project.keys.read()
    words = design_words(settled)
    made = project.keys.made()
    rows: list[tuple[str, str, str, str]] = []
    found: list[dict[str, object]] = []
    for label in (secret.label for secret in settled.shared_secrets()):
        key = stored.get(label)
        if key is None:
            rows.append((label, "none yet", "", ""))
            found.append(_key_json(label, None, None, [], None))
            continue
        weak, bits = weaknesses(key, words), round(estimate_bits(key, words))
        found.append(_key_json(label, len(key), bits, weak, made.get(label)))
        verdict = "; ".join(weak) or "good"
        rows.append((label, f"{len(key)} characters", f"at most {bits} bits", verdict))
    if as_json:
        echo_json(found)
        return
    print_table(
        console(),
        ("Tunnel", "Length", "Worth", "Verdict"),
        rows,
        nothing="The design needs none: no link of it has pre-shared keys or passwords.",
    )


def _key_json(
    tunnel: str, characters: int | None, bits: int | None, weak: list[str], made: str | None
) -> dict[str, object]:
    """The key itself is in no output; without one, its numbers are null."""
    return {"tunnel": tunnel, "characters": characters, "bits": bits, "weak": weak, "made": made}


@keys.command()
@click.argument("tunnel", shell_complete=secret_names)
@design_option
@json_option
def show(tunnel: str, design_file: str | None, as_json: bool) -> None:
    """Print one key, and nothing else.

    \b
    Example:
      obrin keys show harbour-timetable/north --design skerrow-ferries
    """
    found, stored = _held(design_file, tunnel)
    key = stored[found.label]
    if as_json:
        echo_json({"tunnel": found.label, "key": key})
    else:
        click.echo(key)


@keys.command("set")
@click.argument("tunnel", shell_complete=secret_names)
@design_option
@acting
@writes("dry_run")
def set_key(tunnel: str, design_file: str | None, dry_run: bool, as_json: bool) -> None:
    """Take a key that you bring: typed without echo, or the first line of standard input.

    \b
    Example:
      obrin keys set harbour-timetable/north < key.txt
    """
    settled, found = _secret(design_file, tunnel)
    label = found.label
    key = ask_secret(f"The {found.words}", confirm=True)
    judge(key, settled.secret_rules(found), label, design_words(settled))
    project = project_of(design_file)
    held = project.keys.read() | {label: key}
    for finding in shared_keys(settled, held, project.keys_beside()):
        if label in finding.cause:
            click.echo(f"warning: {finding.cause}", err=True)
    if not dry_run:
        project.keys.put({label: key}, project.today)
    Deed(changes=(Change(found.words, "set"),), following=HAND_OVER).tell(
        dry_run=dry_run, as_json=as_json
    )


@keys.command()
@click.argument("tunnel", shell_complete=secret_names)
@design_option
@json_option
@writes()
@click.pass_context
def compare(ctx: click.Context, tunnel: str, design_file: str | None, as_json: bool) -> None:
    """Hold a key as it is entered somewhere against the right one; neither is shown.

    Typed without echo, or the first line of standard input. It also prints a fingerprint, for
    'entered' in the design. Exit code 1 when the two differ.

    \b
    Example:
      obrin keys compare harbour-timetable/north < entered.txt
    """
    found, stored = _held(design_file, tunnel)
    label, project = found.label, project_of(design_file)
    typed = ask_secret(f"The {found.words}, as it is entered")
    others = {name: key for name, key in stored.items() if name != label}
    others |= {str(owner): key for owner, key in project.keys_beside().items()}
    differs = difference(stored[label], typed, others)
    project.keys.make_print_secret(os.urandom)
    shown = key_print(typed, bytes.fromhex(project.keys.print_secret()))
    if as_json:
        echo_json(
            {"tunnel": label, "same": not differs, "difference": differs, "fingerprint": shown}
        )
    else:
        what = f"the {found.words}"
        click.echo(f"Not {what}: {differs}." if differs else f"It is {what}.")
        click.echo(f"Fingerprint of what was typed: {shown}")
    ctx.exit(1 if differs else 0)


@keys.command()
@click.argument("tunnel", shell_complete=secret_names)
@design_option
@acting
@writes("dry_run")
def renew(tunnel: str, design_file: str | None, dry_run: bool, as_json: bool) -> None:
    """Make a new random key. Both ends need it: hand over and connect again, or 'obrin keys rotate'
    for one tunnel at a time on the running link. Until then they have the old one.

    \b
    Example:
      obrin keys renew harbour-timetable/north --design skerrow-ferries
    """
    settled, found = _secret(design_file, tunnel)
    label = found.label
    project = project_of(design_file)
    if not dry_run:
        project.keys.put({label: make_key(os.urandom, settled.secret_rules(found))}, project.today)
    Deed(changes=(Change(found.words, "made anew"),), following=HAND_OVER).tell(
        dry_run=dry_run, as_json=as_json
    )


def judge(key: str, rules: Sequence[KeyRules], where: str, words: frozenset[str]) -> None:
    """Warn of a weak key on stderr; `words` are names that a guesser knows.

    Raises ObrinError for one that cannot be used at all.
    """
    if not key or len(key) > 128 or not key.isascii() or not key.isprintable():
        raise ObrinError(
            f"{where}: a key is 1 to 128 printable ASCII characters. Nothing was changed"
        )
    faults = [fault for rule in rules for fault in rule.faults(key)]
    if faults:
        raise ObrinError(f"{where}: a device does not accept it: {faults[0]}. Nothing was changed")
    for weak in weaknesses(key, words):
        click.echo(f"warning: {where}: {weak}", err=True)
