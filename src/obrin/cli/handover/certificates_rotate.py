"""`certificates rotate` and `retire`: new certificates, and new roots, on a running link."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from obrin.cli.handover.certificate_files import certificates
from obrin.cli.handover.certificates import need_gateway, opened
from obrin.cli.handover.rotating import ready_for, rotating, tell_turns
from obrin.cli.shared.common import design_option, writes
from obrin.cli.shared.deeds import HAND_OVER, Change, Deed, acting
from obrin.core.errors import ObrinError

if TYPE_CHECKING:
    from collections.abc import Sequence

    from obrin.core.settled.model import Settled
    from obrin.live.secrets.authority import Authority

__all__ = ["certificates"]


@certificates.command()
@click.argument("names", nargs=-1)
@click.option(
    "--below",
    "above",
    type=click.Choice(["root", "issuing"]),
    help="Make a new root or issuing authority first, and certify all below it.",
)
@rotating
def rotate(
    names: tuple[str, ...],
    above: str | None,
    dry_run: bool,
    timeout: float,
    at_once: int,
    design_file: str | None,
    as_json: bool,
) -> None:
    """Renew certificates at both ends of running tunnels, and prove them one tunnel at a time; all
    of them when no NAMES of gateways or clouds are given.

    First every end gets both authorities to trust, then every end gets a new certificate; no tunnel
    ends by that. Then each begins anew, the least preferred first, and has to be up before the next
    one's turn; none is touched while the tunnel that would carry meanwhile is down. Stopped in the
    middle, it is taken up by 'obrin certificates rotate' alone.

    \b
    Examples:
      obrin certificates rotate hh-west --dry-run --design skerrow-ferries/ledger.yaml
      obrin certificates rotate --below root --design skerrow-ferries/ledger.yaml
    """
    from obrin.core.handover.rotation import rotation
    from obrin.live.connect.recertify import Recertification, provable, renewable

    project, settled, authority, _ = opened(design_file)
    ends = {t.label: {t.gateway, t.cloud} for t in provable(settled, authority)}
    left = [label for label in authority.turns if label in ends]
    good = renewable(settled, authority)
    wanted = _wanted(settled, authority, good, names, above, left)
    taken_up = bool(left) and not names and above is None
    if taken_up:
        click.echo(f"Taken up from an interrupted run: {', '.join(left)}.", err=True)
    touched = left if taken_up else [label for label in ends if ends[label] & set(wanted)]
    turns = list(rotation(settled, touched))
    deed = Deed(
        changes=[
            *(Change(f"certificate of {name}", "renewed") for name in wanted if not taken_up),
            *(Change(t.tunnel.label, f"begun anew (meanwhile: {t.meanwhile})") for t in turns),
        ],
        following=["obrin handover"],
    )
    if not dry_run:
        with ready_for(Recertification, project, settled, timeout, at_once) as run:
            run.need_both_ends(
                ends,
                "Renew with 'obrin certificates renew', hand the packs over, and have them entered",
            )
            if not taken_up:
                run.begin(wanted, above, turns)
            run.go_on(turns)
    if as_json:
        deed.tell(dry_run=dry_run, as_json=True)
    elif dry_run:
        tell_turns(turns)
    else:
        click.echo(
            f"{len(turns)} tunnels are up by new certificates. Next: 'obrin handover', for the "
            "packs at rest."
        )


def _wanted(
    settled: Settled,
    authority: Authority,
    good: list[str],
    names: Sequence[str],
    above: str | None,
    left: Sequence[str],
) -> list[str]:
    """Raises ObrinError for what cannot be certified anew; `left` are turns of a rotation that was
    begun."""
    if left and (names or above is not None):
        raise ObrinError(
            f"a rotation is not finished yet: {', '.join(left)}. Run 'obrin "
            "certificates rotate' alone first"
        )
    if not settled.certified():
        raise ObrinError("no link has 'authentication: certificate'")
    if above is not None and names:
        raise ObrinError("below another authority all are certified. Leave the NAMES out")
    for name in names:
        need_gateway(settled, name)
        if name not in good:
            raise ObrinError(
                f"the certificate of {name} is not of this design's authority, or is revoked. See "
                "'obrin certificates list'"
            )
    if not good or not authority.issuing:
        raise ObrinError("nobody is certified by this design's authority. Run 'obrin settle'")
    return list(dict.fromkeys(names)) or good


@certificates.command()
@design_option
@acting
@writes("dry_run")
def retire(design_file: str | None, dry_run: bool, as_json: bool) -> None:
    """Believe no root of this design but the newest any more.

    Refused while somebody is certified below an older one. Roots of certificates that you brought
    stay.

    \b
    Example:
      obrin certificates retire --design skerrow-ferries/ledger.yaml
    """
    project, settled, authority, lives = opened(design_file)
    gone = authority.retire(settled.certified(), project.now)
    authority.publish_again(lives, project.now)
    if gone and not dry_run:
        project.authority.write(authority)
    if not gone and not as_json:
        click.echo("No older root is believed.")
        return
    changes = [Change(f"root {serial}", "believed no more") for serial in gone]
    Deed(changes=changes, following=HAND_OVER if gone else ()).tell(
        dry_run=dry_run, as_json=as_json
    )
