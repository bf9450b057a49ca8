"""`draw`: figures of a design."""

from __future__ import annotations

from pathlib import Path

import click

from obrin.cli.common import design_option
from obrin.core.errors import ObrinError


@click.group()
def draw() -> None:
    """Figures of a design, as SVG or PNG."""


@draw.command("space")
@click.option("--to", "target", type=click.Path(dir_okay=False), default="space.svg",
              show_default=True, help="File to write; its ending says SVG or PNG.")  # fmt: skip
@design_option
def draw_space(target: str, design_file: str | None) -> None:
    """The address space: pools, what is allocated, room to grow, overlaps.

    \b
    Example:
      obrin draw space --to space.png --design skerrow-ferries
    """
    path = Path(target)
    if path.suffix.lower() not in (".svg", ".png"):
        raise ObrinError(f"{path}: the ending must be .svg or .png")
    from obrin.cli.space import load_space
    from obrin.cli.space_figure import figure_bytes
    from obrin.core.space.chart import chart
    from obrin.live.files import write_whole_bytes

    settled, view = load_space(design_file)
    write_whole_bytes(
        path, figure_bytes(chart(settled, view), settled.name, path.suffix[1:].lower())
    )
    click.echo(f"{path} written.")
