"""Names from the design for the shell's completion. A design that cannot be read offers none."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from obrin.core.errors import ObrinError
from obrin.core.settled.shared_secrets import password_label
from obrin.live.project import find_project

if TYPE_CHECKING:
    from obrin.core.design.model import Design


def tunnel_names(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
    """Labels of tunnels, `link/tunnel`."""
    return [name for name in _tunnels(ctx) if name.startswith(incomplete)]


def secret_names(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
    """Labels of tunnels, and of the passwords of sessions in them."""
    labels = [*_tunnels(ctx), *(password_label(name) for name in _tunnels(ctx, signed=True))]
    return [label for label in labels if label.startswith(incomplete)]


def cut_names(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
    """What `practice cut` can cut, by the kind that stands before."""
    kind = ctx.params.get("kind")
    names = _tunnels(ctx) if kind == "tunnel" else _joining(ctx, str(kind))
    return [name for name in names if name.startswith(incomplete)]


def joining_names(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
    """What another owner may have to accept."""
    names = [*_tunnels(ctx), *_joining(ctx, "circuit"), *_joining(ctx, "attachment")]
    return [name for name in names if name.startswith(incomplete)]


def fault_kinds(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
    """What can go wrong on purpose."""
    from obrin.live.practice.faults import KINDS

    return [name for name in KINDS if name.startswith(incomplete)]


def fault_places(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
    """Complete the place for the fault that was typed before it: `gateway/uplink`, a gateway,
    the cloud."""
    from obrin.live.practice.faults import CLOUD, GATEWAY, KINDS

    kind = KINDS.get(str(ctx.params.get("kind")))
    names = _uplinks(ctx)
    if kind is not None and kind.where == CLOUD:
        names = [CLOUD]
    elif kind is not None and kind.where == GATEWAY:
        names = list(dict.fromkeys(name.partition("/")[0] for name in names))
    return [name for name in names if name.startswith(incomplete)]


def network_names(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
    """`site/network` and `cloud/subnet`."""
    design = _design(ctx)
    if design is None:
        return []
    names = [f"{site}/{name}" for site, entity in design.sites.items() for name in entity.networks]
    names += [
        f"{cloud}/{name}" for cloud, entity in design.clouds.items() for name in entity.subnets
    ]
    return [name for name in names if name.startswith(incomplete)]


def _design(ctx: click.Context) -> Design | None:
    try:
        return find_project(ctx.params.get("design_file")).read().design
    except ObrinError:
        return None


def _tunnels(ctx: click.Context, *, signed: bool = False) -> list[str]:
    design = _design(ctx)
    if design is None:
        return []
    return [
        f"{link}/{name}"
        for link, entity in design.links.items()
        if entity.bgp.password or not signed
        for name in entity.tunnels
    ]


def _joining(ctx: click.Context, kind: str) -> list[str]:
    """Circuits, attachments, or uplinks for any other kind."""
    if kind not in ("circuit", "attachment"):
        return _uplinks(ctx)
    design = _design(ctx)
    if design is None:
        return []
    if kind == "circuit":
        return list(design.circuits)
    hubs = ((name, cloud.hub) for name, cloud in design.clouds.items() if cloud.hub is not None)
    return [f"{member}@{name}" for name, hub in hubs for member in hub.members]


def _uplinks(ctx: click.Context) -> list[str]:
    design = _design(ctx)
    if design is None:
        return []
    return [
        f"{gateway}/{uplink}"
        for site in design.sites.values()
        for gateway, entity in site.gateways.items()
        for uplink in entity.uplinks
    ]
