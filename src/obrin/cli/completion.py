"""Names from the design for the shell's completion. A design that cannot be read offers none."""

from __future__ import annotations

import click

from obrin.core.errors import ObrinError
from obrin.core.settled.links import OF_SESSION
from obrin.live.project import find_project


def tunnel_names(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
    """Labels of tunnels, `link/tunnel`."""
    return [name for name in _tunnels(ctx) if name.startswith(incomplete)]


def secret_names(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
    """Labels of tunnels, and of the passwords of sessions in them."""
    labels = [*_tunnels(ctx), *(f"{name}{OF_SESSION}" for name in _tunnels(ctx, signed=True))]
    return [label for label in labels if label.startswith(incomplete)]


def cut_names(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
    """What `practice cut` can cut, by the kind that stands before."""
    names = _tunnels(ctx) if ctx.params.get("kind") == "tunnel" else _uplinks(ctx)
    return [name for name in names if name.startswith(incomplete)]


def uplink_names(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
    """`gateway/uplink`."""
    return [name for name in _uplinks(ctx) if name.startswith(incomplete)]


def _tunnels(ctx: click.Context, *, signed: bool = False) -> list[str]:
    try:
        design = find_project(ctx.params.get("design_file")).read().design
    except ObrinError:
        return []
    return [
        f"{link}/{name}"
        for link, entity in design.links.items()
        if entity.bgp.password or not signed
        for name in entity.tunnels
    ]


def _uplinks(ctx: click.Context) -> list[str]:
    try:
        design = find_project(ctx.params.get("design_file")).read().design
    except ObrinError:
        return []
    return [
        f"{gateway}/{uplink}"
        for site in design.sites.values()
        for gateway, entity in site.gateways.items()
        for uplink in entity.uplinks
    ]
