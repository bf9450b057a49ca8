"""`certificates`: the design's own authority, and chains that come from elsewhere."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from obrin.cli.shared.common import (
    console,
    design_option,
    echo_json,
    json_option,
    print_table,
    project_of,
    writes,
)
from obrin.cli.shared.deeds import HAND_OVER, Change, Deed, acting
from obrin.core.errors import ObrinError
from obrin.core.naming import those_near

if TYPE_CHECKING:
    from collections.abc import Iterator
    from datetime import datetime

    from cryptography.x509 import Certificate

    from obrin.core.pki.issue import Issued
    from obrin.core.settled.model import Settled
    from obrin.live.project import Project
    from obrin.live.secrets.authority import Authority, Lives


@click.group()
def certificates() -> None:
    """Certificates: list, renew, rotate, retire, revoke, sign, bring, export, check.

    'obrin settle' issues what links with 'authentication: certificate' need.
    """


def opened(design_file: str | None) -> tuple[Project, Settled, Authority, Lives]:
    """The project with its authority and how long certificates live. Raises ObrinError."""
    from obrin.live.secrets.material import lives_of

    project = project_of(design_file)
    _, settled = project.settled()
    authority = project.authority.read(settled.name)
    return project, settled, authority, lives_of(settled)


def need_gateway(settled: Settled, name: str) -> tuple[str, ...]:
    """The identities that a gateway's certificate must stand for. Raises ObrinError."""
    needs = settled.certified()
    if name not in needs:
        known = those_near(name, needs) or "none: no link has 'authentication: certificate'"
        raise ObrinError(f"'{name}' needs no certificate. Those that do: {known}")
    return needs[name]


@certificates.command("list")
@design_option
@json_option
def list_certificates(design_file: str | None, as_json: bool) -> None:
    """Every certificate with its dates and names; no private key is shown.

    \b
    Example:
      obrin certificates list --design skerrow-ferries/ledger.yaml
    """
    project, _, authority, _ = opened(design_file)
    rows = list(_rows(authority, project.now))
    if as_json:
        keys = ("what", "name", "kind", "serial", "begins", "ends", "names", "state")
        echo_json([dict(zip(keys, row, strict=True)) for row in rows])
        return
    shown = [(*row[:3], row[4][:10], row[5][:10], ", ".join(row[6]), row[7]) for row in rows]
    head = ("What", "Name", "Key", "Begins", "Ends", "Stands for", "State")
    print_table(
        console(),
        head,
        shown,
        styles={"revoked": "bold red", "ended": "bold red"},
        nothing="There are none. 'obrin settle' makes those that a link with 'authentication: "
        "certificate' asks for.",
    )


Row = tuple[str, str, str, str, str, str, list[str], str]


def _rows(authority: Authority, now: datetime) -> Iterator[Row]:
    for what, found in (("root", authority.roots), ("issuing", authority.issuing)):
        for issued in found:
            yield _row(
                authority, now, what, authority.name, issued.certificate, issued is found[-1]
            )
    for certificate in authority.trusted:
        yield _row(authority, now, "trusted", "elsewhere", certificate, in_use=True)
    for name, every in authority.gateways.items():
        current = authority.current(name)
        for issued in every:
            yield _row(authority, now, "gateway", name, issued.certificate, issued is current)


def _row(
    authority: Authority,
    now: datetime,
    what: str,
    name: str,
    certificate: Certificate,
    in_use: bool,
) -> Row:
    from obrin.core.pki.chain import key_kind
    from obrin.core.pki.names import names_in

    state = "in use" if in_use else "before it"
    if certificate.not_valid_after_utc <= now:
        state = "ended"
    if authority.is_revoked(certificate):
        state = "revoked"
    return (
        what,
        name,
        key_kind(certificate),
        f"{certificate.serial_number:x}",
        certificate.not_valid_before_utc.isoformat(),
        certificate.not_valid_after_utc.isoformat(),
        names_in(certificate),
        state,
    )


@certificates.command()
@click.argument("name")
@click.option(
    "--new-key", is_flag=True, help="With a private key made here, whatever key the device has."
)
@design_option
@acting
@writes("dry_run")
def renew(name: str, new_key: bool, design_file: str | None, dry_run: bool, as_json: bool) -> None:
    """Issue anew: for a gateway, or 'issuing' or 'root' for the authority itself.

    A device that made its own key keeps it. Renewals overlap: what was issued before stays good
    until it ends, and roots are believed side by side. After a new root, hand over every pack once,
    so that all believe it, before gateways are renewed under it.

    \b
    Example:
      obrin certificates renew hh-east
    """
    project, settled, authority, lives = opened(design_file)
    did = "issued anew"
    if name == "root":
        authority.found(lives, project.now)
    elif name == "issuing":
        if not authority.roots:
            raise ObrinError("there is no root yet. Run 'obrin settle'")
        authority.appoint(lives, project.now)
    else:
        identities = need_gateway(settled, name)
        authority.prepare(lives, project.now)
        if new_key:
            authority.issue(name, identities, lives, project.now)
        elif authority.from_elsewhere(name):
            raise ObrinError(
                f"the certificate of {name} came from elsewhere. Get a new one there, then 'obrin "
                "certificates bring'; or give --new-key to have one of this design's authority"
            )
        else:
            if authority.holds_its_own_key(name):
                did = "issued anew, for the key that the device made itself"
            authority.issue_again(name, identities, lives, project.now)
    authority.publish_again(lives, project.now)
    if not dry_run:
        project.authority.write(authority)
    Deed(changes=(Change(f"certificate of {name}", did),), following=HAND_OVER).tell(
        dry_run=dry_run, as_json=as_json
    )


@certificates.command()
@click.argument("name")
@design_option
@acting
@writes("dry_run")
def revoke(name: str, design_file: str | None, dry_run: bool, as_json: bool) -> None:
    """Revoke all certificates that a gateway ever got. The lists go into every pack.

    Nothing is handed to it any more, and the next connect ends its tunnels. A new certificate is
    issued by 'obrin certificates renew' if the gateway is to come back.

    \b
    Example:
      obrin certificates revoke hh-east
    """
    project, settled, authority, lives = opened(design_file)
    need_gateway(settled, name)
    _current(authority, name)
    count = authority.revoke(name, lives, project.now)
    if not dry_run:
        project.authority.write(authority)
    what = "the certificate" if count == 1 else f"all {count} certificates"
    change = Change(f"{what} of {name}", "revoked; the others learn it with their packs")
    Deed(changes=(change,), following=HAND_OVER).tell(dry_run=dry_run, as_json=as_json)


def _current(authority: Authority, name: str) -> Issued:
    issued = authority.current(name)
    if issued is None:
        raise ObrinError(f"{name} has no certificate that is not revoked. Run 'obrin settle'")
    return issued
