"""`profiles`: what kinds of device are able to do, shipped and of a design's own."""

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
)
from obrin.core.naming import unknown

if TYPE_CHECKING:
    from obrin.core.design.profile_spec import ProfileSpec


@click.command()
@click.argument("name", required=False)
@design_option
@json_option
def profiles(name: str | None, design_file: str | None, as_json: bool) -> None:
    """Device profiles: generic ones that ship, and those of a design given with --design.

    With a NAME, that profile as YAML, to be copied below 'profiles:' in a design and made your
    own; what it leaves unsaid stands in its last lines.

    \b
    Examples:
      obrin profiles
      obrin profiles branch-box
    """
    from obrin.core.catalogue.shipped_profiles import SHIPPED_SPECS
    from obrin.core.design.profile_spec import ProfileSpec

    known = {n: ProfileSpec.model_validate(spec) for n, spec in SHIPPED_SPECS.items()}
    if design_file is not None:
        known |= project_of(design_file).read().design.profiles
    if name is not None and name not in known:
        raise unknown("profile", name, known)
    if as_json:
        wanted = known if name is None else {name: known[name]}
        echo_json({n: _as_data(spec) for n, spec in wanted.items()})
    elif name is not None:
        _print_one(name, known[name])
    else:
        _print_all(known)


def _as_data(spec: ProfileSpec) -> dict[str, object]:
    return spec.model_dump(mode="json", by_alias=True, exclude_none=True)


def _print_one(name: str, spec: ProfileSpec) -> None:
    import yaml

    from obrin.core.design.profile_spec import unsaid

    text = yaml.safe_dump(
        {name: _as_data(spec)}, sort_keys=False, width=90, default_flow_style=None
    )
    click.echo("profiles:")
    click.echo("".join(f"  {line}\n" for line in text.splitlines()), nl=False)
    for key in unsaid(spec):
        click.echo(f"    # unsaid: {key}")


def _print_all(known: dict[str, ProfileSpec]) -> None:
    from obrin.core.design.profile_spec import build_profile
    from obrin.core.ipsec.compose import compose
    from obrin.core.ipsec.policy import CryptoPolicy

    rows = []
    for name, spec in known.items():
        profile = build_profile(name, spec)
        best = compose(name, [profile], CryptoPolicy())
        rows.append(
            (
                name,
                " and ".join(map(str, sorted(profile.versions or ()))),
                f"{best.strength} bits" if best else "nothing",
                ", ".join(profile.selection or ()),
                _yes(profile.bgp),
                " ".join(m for m in profile.authentication or () if m != "pre-shared-key")
                or "none",
                spec.about or "",
            )
        )
    head = ("Profile", "IKE", "Best suite", "Leads by", "BGP", "Certificates", "What it describes")
    print_table(console(), head, rows)


def _yes(value: bool | None) -> str:
    return {None: "", True: "yes", False: "no"}[value]
