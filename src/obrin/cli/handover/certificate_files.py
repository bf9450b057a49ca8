"""`certificates sign`, `bring`, `export`, `check`: what comes in and goes out as files."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from obrin.cli.handover.certificates import certificates, need_gateway, opened
from obrin.cli.shared.common import ask_secret, design_option, echo_json, json_option, writes
from obrin.cli.shared.deeds import HAND_OVER, Change, Deed, acting
from obrin.core.errors import ObrinError, OutsideError
from obrin.live.files import read_file

if TYPE_CHECKING:
    from obrin.live.secrets.authority import Authority

__all__ = ["certificates"]


def _read(path: str) -> bytes:
    try:
        return read_file(Path(path), 16 << 20)
    except FileNotFoundError:
        raise ObrinError(f"{path} cannot be read: there is no such file. Check the path") from None
    except OutsideError as error:
        raise ObrinError(f"{path} {error}. Check the path") from None


_SEALED = click.option(
    "--sealed",
    is_flag=True,
    help="The private key or PKCS #12 has a passphrase: typed, or a line on standard input.",
)


@certificates.command()
@click.argument("request")
@click.option("--gateway", required=True, help="For which gateway of the design.")
@click.option("--to", "target", type=click.Path(dir_okay=False), help="Where the chain goes.")
@design_option
@acting
@writes("dry_run")
def sign(
    request: str,
    gateway: str,
    target: str | None,
    design_file: str | None,
    dry_run: bool,
    as_json: bool,
) -> None:
    """Issue a certificate for a REQUEST (PKCS #10) that the device made with its own key.

    The names come from the design, whatever the request asks for. The chain is written as PEM, to
    standard output or a file; the private key never leaves the device, so the practice world cannot
    play it.

    \b
    Example:
      obrin certificates sign hh-east.csr --gateway hh-east --to hh-east.pem
    """
    from obrin.core.pki.chain import kind_of_key
    from obrin.core.pki.issue import PublicKey, identities_of
    from obrin.core.pki.read import as_pem, read_request
    from obrin.live.files import write_whole

    project, settled, authority, lives = opened(design_file)
    identities = need_gateway(settled, gateway)
    asked = read_request(_read(request), request)
    key = asked.public_key()
    if not isinstance(key, PublicKey):
        raise ObrinError(f"{request} has a key of kind {kind_of_key(key)}. Use RSA, ECDSA, Ed25519")
    authority.prepare(lives, project.now)
    issued = authority.issue(gateway, identities, lives, project.now, key)
    text = as_pem(authority.chain(issued))
    if not dry_run:
        project.authority.write(authority)
        if target is not None:
            write_whole(Path(target), text, 0o644)
    change = Change(f"certificate of {gateway}", f"issued for {', '.join(identities)}")
    deed = Deed(changes=(change,), files=(Path(target),) if target else (), following=HAND_OVER)
    if as_json and target is None:
        echo_json(deed.as_json(done=not dry_run) | {"pem": "" if dry_run else text})
    elif target is None and not dry_run:
        click.echo(text, nl=False)
    else:
        deed.tell(dry_run=dry_run, as_json=as_json)
    strange = sorted(set(identities_of(asked)) - set(identities))
    if strange:
        click.echo(f"note: the request also asked for {', '.join(strange)}; left out.", err=True)


@certificates.command()
@click.argument("gateway")
@click.argument("files", nargs=-1, required=True)
@click.option(
    "--authority", "roots", multiple=True, help="A root that the other end shall believe."
)
@_SEALED
@design_option
@acting
@writes("dry_run")
def bring(
    gateway: str,
    files: tuple[str, ...],
    roots: tuple[str, ...],
    sealed: bool,
    design_file: str | None,
    dry_run: bool,
    as_json: bool,
) -> None:
    """Take a certificate of another authority for a GATEWAY: chain, and private key if you have it.

    FILES are PEM, DER or PKCS #12, the gateway's own certificate first. It is refused with its true
    cause when the other end would not accept it.

    \b
    Example:
      obrin certificates bring hh-east chain.pem key.pem --authority root.pem
    """
    from obrin.core.check.tunnels.certificates import kind_faults
    from obrin.core.pki.chain import Trust, judge, key_kind
    from obrin.core.pki.read import Bundle, PkiError, fits, read_bundle

    project, settled, authority, _ = opened(design_file)
    identities = need_gateway(settled, gateway)
    passphrase = ask_secret("Passphrase of the private key") if sealed else None
    parts = [read_bundle(_read(path), passphrase, path) for path in files]
    chain = tuple(c for part in parts for c in part.certificates)
    key = next((part.key for part in parts if part.key is not None), None)
    trusted = tuple(c for path in roots for c in read_bundle(_read(path), None, path).certificates)
    if not chain:
        raise PkiError(f"there is no certificate in {', '.join(files)}")
    if key is not None and not fits(chain[0], key):
        raise PkiError("the private key does not belong to the first certificate")
    trust = Trust((*trusted, *authority.believed(project.now)))
    faults = {str(f) for name in identities for f in judge(chain, trust, project.now, name)}
    faults |= {f"{what}. {fix}." for what, fix in kind_faults(settled, gateway, key_kind(chain[0]))}
    if faults:
        raise PkiError("the other end would not accept it: " + " ".join(sorted(faults)))
    authority.bring(gateway, Bundle(chain, key), trusted)
    if not dry_run:
        project.authority.write(authority)
    change = Change(f"certificate of {gateway}", f"taken from {', '.join(files)}")
    Deed(changes=(change,), following=HAND_OVER).tell(dry_run=dry_run, as_json=as_json)


@certificates.command()
@click.argument("gateway")
@click.option(
    "--to",
    "target",
    required=True,
    type=click.Path(dir_okay=False),
    help="NAME.p12 for PKCS #12 with the private key, NAME.pem for the chain.",
)
@click.option("--with-key", is_flag=True, help="Put the private key into the PEM, too, encrypted.")
@design_option
@acting
def export(
    gateway: str,
    target: str,
    with_key: bool,
    design_file: str | None,
    dry_run: bool,
    as_json: bool,
) -> None:
    """Write a gateway's chain to a file, with its private key only under a passphrase.

    The passphrase is typed without echo, or the first line of standard input. In place of a
    gateway, `root` or `issuing` stand for the authority's own, which others have to believe.

    \b
    Examples:
      obrin certificates export hh-east --to hh-east.p12
      obrin certificates export root --to root.pem
    """
    from obrin.core.pki.read import Bundle, as_pem, as_pkcs12, key_as_pem
    from obrin.live.files import write_whole_bytes

    _, settled, authority, _ = opened(design_file)
    path = Path(target)
    if path.exists():
        raise ObrinError(f"{path} exists. Name another file")
    if gateway in ("root", "issuing") and gateway not in settled.certified():
        text = _authority_pem(authority, gateway, path, private=with_key)
        if not dry_run:
            write_whole_bytes(path, text.encode(), 0o644)
        Deed.wrote(path).tell(dry_run=dry_run, as_json=as_json)
        return
    need_gateway(settled, gateway)
    issued = authority.current(gateway)
    if issued is None:
        raise ObrinError(f"{gateway} has no certificate yet. Run 'obrin settle'")
    chain = authority.chain(issued)
    packed = path.suffix in (".p12", ".pfx")
    data = as_pem(chain).encode()
    if packed or with_key:
        if issued.key is None:
            raise ObrinError(f"the private key of {gateway} never left its device")
        passphrase = "" if dry_run else ask_secret("Passphrase for the file", confirm=True)
        if not passphrase and not dry_run:
            raise ObrinError("an empty passphrase protects nothing. Nothing was written")
        if packed and not dry_run:
            data = as_pkcs12(gateway, Bundle(chain, issued.key), passphrase)
        elif not dry_run:
            data += key_as_pem(issued.key, passphrase).encode()
    if not dry_run:
        write_whole_bytes(path, data, 0o600 if packed or with_key else 0o644)
    Deed.wrote(path).tell(dry_run=dry_run, as_json=as_json)


def _authority_pem(authority: Authority, which: str, path: Path, *, private: bool) -> str:
    """The certificates alone: the private keys of an authority stay where they are."""
    from obrin.core.pki.read import as_pem

    held = authority.roots if which == "root" else authority.issuing
    if not held:
        raise ObrinError("there is no authority yet. Run 'obrin settle'")
    if private or path.suffix in (".p12", ".pfx"):
        raise ObrinError("the private key of an authority is not given away. Name a file .pem")
    return as_pem([issued.certificate for issued in held])


@certificates.command("check")
@click.argument("files", nargs=-1, required=True)
@click.option("--authority", "roots", multiple=True, help="A root to believe.")
@click.option("--revocations", "lists", multiple=True, help="A revocation list.")
@click.option("--identity", help="What the gateway says it is: an address or a name.")
@click.option("--at", "moment", type=click.DateTime(["%Y-%m-%d"]), help="Judge it for that day.")
@_SEALED
@json_option
@click.pass_context
def check_chain(
    ctx: click.Context,
    files: tuple[str, ...],
    roots: tuple[str, ...],
    lists: tuple[str, ...],
    identity: str | None,
    moment: object,
    sealed: bool,
    as_json: bool,
) -> None:
    """Would a chain from elsewhere be accepted? Every cause if not. Exit code 1 for faults.

    \b
    Example:
      obrin certificates check chain.pem --authority root.pem --identity 192.0.2.10
    """
    from datetime import UTC, datetime

    from obrin.core.pki.chain import Fault, Trust, judge
    from obrin.core.pki.read import fits, read_bundle, read_revocations

    passphrase = ask_secret("Passphrase of the private key") if sealed else None
    parts = [read_bundle(_read(path), passphrase, path) for path in files]
    chain = [c for part in parts for c in part.certificates]
    trusted = tuple(c for path in roots for c in read_bundle(_read(path), None, path).certificates)
    revoked = tuple(read_revocations(_read(path), path) for path in lists)
    now = moment.replace(tzinfo=UTC) if isinstance(moment, datetime) else datetime.now(UTC)
    faults = judge(chain, Trust(trusted, revoked), now, identity)
    key = next((part.key for part in parts if part.key is not None), None)
    if key is not None and chain and not fits(chain[0], key):
        fix = "Look for the key that was made with the request"
        faults.append(Fault("key", "the private key does not belong to the certificate", fix))
    if as_json:
        echo_json([{"code": f.code, "what": f.what, "fix": f.fix} for f in faults])
    else:
        for fault in faults:
            click.echo(f"{fault.code}: {fault}")
        count = "1 fault" if len(faults) == 1 else f"{len(faults)} faults"
        click.echo(f"{count}." if faults else "It will be accepted.")
    ctx.exit(1 if faults else 0)
