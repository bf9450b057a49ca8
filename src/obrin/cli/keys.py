"""`keys`: pre-shared keys are shown only on request."""

from __future__ import annotations

import os
import sys

import click

from obrin.cli.common import console, design_option, print_table, project_of
from obrin.cli.completion import tunnel_names
from obrin.core.errors import ObrinError
from obrin.core.ipsec.shared_keys import estimate_bits, make_key, weaknesses
from obrin.live.secrets.store import PASSPHRASE, KeyStore


@click.group()
def keys() -> None:
    """Pre-shared keys: list, show, set, renew. A key has the name of its tunnel: LINK/TUNNEL."""


def _label(design_file: str | None, tunnel: str) -> str:
    _, settled = project_of(design_file).settled()
    labels = [t.label for t in settled.tunnels()]
    if tunnel not in labels:
        raise ObrinError(f"there is no tunnel '{tunnel}'. There are: {', '.join(labels)}")
    return tunnel


@keys.command("list")
@design_option
def list_keys(design_file: str | None) -> None:
    """Every tunnel with what its key is worth; no key is shown.

    \b
    Example:
      obrin keys list --design skerrow-ferries
    """
    project = project_of(design_file)
    _, settled = project.settled()
    stored = project.keys.read()
    rows = []
    for tunnel in settled.tunnels():
        key = stored.get(tunnel.label)
        if key is None:
            rows.append((tunnel.label, "none yet", "", ""))
            continue
        weak = weaknesses(key)
        rows.append(
            (tunnel.label, f"{len(key)} characters", f"at most {estimate_bits(key):.0f} bits",
             "; ".join(weak) or "good")
        )  # fmt: skip
    print_table(console(), ("Tunnel", "Length", "Worth", "Verdict"), rows)


@keys.command()
@click.argument("tunnel", shell_complete=tunnel_names)
@design_option
def show(tunnel: str, design_file: str | None) -> None:
    """Print one key, and nothing else.

    \b
    Example:
      obrin keys show harbour-timetable/north --design skerrow-ferries
    """
    key = project_of(design_file).keys.read().get(_label(design_file, tunnel))
    if key is None:
        raise ObrinError(f"tunnel {tunnel} has no key yet. Run 'obrin settle'")
    click.echo(key)


@keys.command("set")
@click.argument("tunnel", shell_complete=tunnel_names)
@design_option
def set_key(tunnel: str, design_file: str | None) -> None:
    """Take a key that you bring: typed without echo, or the first line of standard input.

    \b
    Example:
      obrin keys set harbour-timetable/north < key.txt
    """
    label = _label(design_file, tunnel)
    if sys.stdin.isatty():
        key = click.prompt(f"Key of {label}", hide_input=True, confirmation_prompt=True, err=True)
    else:
        key = sys.stdin.readline().rstrip("\r\n")
    if not key or len(key) > 128 or not key.isascii() or not key.isprintable():
        raise ObrinError("a key is 1 to 128 printable ASCII characters. Nothing was changed")
    store = project_of(design_file).keys
    store.write(store.read() | {label: key})
    for weak in weaknesses(key):
        click.echo(f"warning: {weak}", err=True)
    click.echo(f"Key of {label} set.")


@keys.command()
@click.argument("tunnel", shell_complete=tunnel_names)
@design_option
def renew(tunnel: str, design_file: str | None) -> None:
    """Make a new random key. Both ends need it: hand over and connect again.

    \b
    Example:
      obrin keys renew harbour-timetable/north --design skerrow-ferries
    """
    label = _label(design_file, tunnel)
    store = project_of(design_file).keys
    store.write(store.read() | {label: make_key(os.urandom)})
    click.echo(f"New key of {label} made. Next: 'obrin handover', then 'obrin connect'.")


@keys.command("seal")
@design_option
def seal_keys(design_file: str | None) -> None:
    """Seal the key file with a passphrase (scrypt, AES-256-GCM).

    From then on every command that needs keys asks for the passphrase, or takes it from the
    environment variable OBRIN_PASSPHRASE. It cannot be recovered: keep it, or keep the packs.

    \b
    Example:
      obrin keys seal --design skerrow-ferries
    """
    store = project_of(design_file).keys
    if store.sealed:
        raise ObrinError("the keys are sealed already. 'obrin keys unseal' takes the seal off")
    if not store.path.exists():
        raise ObrinError("there are no keys yet. Run 'obrin settle'")
    if not os.environ.get(PASSPHRASE) and sys.stdin.isatty():
        typed = click.prompt("Passphrase", hide_input=True, confirmation_prompt=True, err=True)
        store = KeyStore(store.path, lambda: typed)
    store.seal()
    click.echo("The keys are sealed.")


@keys.command("unseal")
@design_option
def unseal_keys(design_file: str | None) -> None:
    """Take the seal off the key file; only its mode (0600) protects it then.

    \b
    Example:
      obrin keys unseal --design skerrow-ferries
    """
    store = project_of(design_file).keys
    if not store.sealed:
        raise ObrinError("the keys are not sealed")
    store.unseal()
    click.echo("The keys are no longer sealed.")
