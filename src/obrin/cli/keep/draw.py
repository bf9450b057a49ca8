"""`draw`: figures of a design."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

from obrin.cli.figures.file import figure_file
from obrin.cli.shared.common import design_option, project_of
from obrin.cli.shared.deeds import Deed, acting
from obrin.cli.shared.failing import model_without, ways_without, without_option
from obrin.core.quantity import plain

Command = TypeVar("Command", bound=Callable[..., Any])

if TYPE_CHECKING:
    from obrin.cli.figures.outage import Bar
    from obrin.core.drill.sweep import Outcome, Sweep
    from obrin.core.settled.model import Settled
    from obrin.live.project import Project


def _to(default: str) -> Callable[[Command], Command]:
    return click.option(
        "--to",
        "target",
        type=click.Path(dir_okay=False),
        default=default,
        show_default=True,
        help="File to write; its ending says SVG or PNG.",
    )


@click.group()
def draw() -> None:
    """Figures of a design, as SVG or PNG."""


@draw.command("space")
@_to("space.svg")
@design_option
@acting
def draw_space(target: str, design_file: str | None, dry_run: bool, as_json: bool) -> None:
    """The address space: pools, what is allocated, room to grow, overlaps.

    \b
    Example:
      obrin draw space --to space.png --design skerrow-ferries
    """
    path, kind = figure_file(target)
    from obrin.cli.figures.space import figure_bytes
    from obrin.cli.shared.spaces import in_the_way, load_space
    from obrin.core.space.chart import chart

    settled, view = load_space(design_file)
    made = chart(settled, view, in_the_way(settled, view))
    _write(path, figure_bytes(made, settled.name, kind), dry_run=dry_run, as_json=as_json)


def _write(path: Path, figure: bytes, *, dry_run: bool, as_json: bool) -> None:
    from obrin.live.files import write_whole_bytes

    if not dry_run:
        write_whole_bytes(path, figure)
    Deed.wrote(path).tell(dry_run=dry_run, as_json=as_json)


@draw.command("network")
@_to("network.svg")
@click.option("--text", is_flag=True, help="On the screen instead, in 80 columns.")
@click.option("--live", is_flag=True, help="With the state that 'obrin status' sees.")
@without_option
@design_option
@acting
def draw_network(
    target: str,
    text: bool,
    live: bool,
    failed: tuple[str, ...],
    design_file: str | None,
    dry_run: bool,
    as_json: bool,
) -> None:
    """Sites, gateways and their lines, tunnels, circuits, hubs and cloud networks.

    Sites that are built alike are one box with a count. How a line is drawn and the words where it
    ends say what it is: up, down, at rest, or lost with what '--without' names.

    \b
    Examples:
      obrin draw network --to network.png --design skerrow-ferries
      obrin draw network --text --without uplink:hh-east/fibre --design skerrow-ferries
    """
    path, kind = figure_file(target)
    from obrin.cli.figures.network import network_bytes
    from obrin.cli.figures.network_text import network_lines
    from obrin.core.picture.network import LOST, picture

    project = project_of(design_file)
    settled = project.settled()[1] if live else project.on_trial().settled
    states = _live_states(project, settled) if live else {}
    states |= dict.fromkeys(ways_without(settled, failed), LOST)
    drawn = picture(settled, states)
    if text:
        for line in network_lines(drawn):
            click.echo(line)
        return
    notes = ["as it is now"] if live else []
    notes += [f"without {', '.join(failed)}"] if failed else []
    note = ", ".join(notes) or "sites at the left, gateways and hubs, then networks behind hubs"
    _write(path, network_bytes(drawn, kind, note), dry_run=dry_run, as_json=as_json)


def _live_states(project: Project, settled: Settled) -> dict[str, str]:
    """Current state of each tunnel and circuit, by label."""
    from obrin.core.picture.network import DOWN, ODD, REST, UP
    from obrin.live.drivers.registry import open_ends
    from obrin.live.observe import tunnel
    from obrin.live.observe.status import read_status

    with open_ends(project, settled) as ends:
        found = read_status(settled, ends)
    drawn = {tunnel.UP: UP, tunnel.ODD: ODD, tunnel.REST: REST, tunnel.DOWN: DOWN}
    return {one.tunnel: drawn[one.state] for one in found if one.state in drawn}


@draw.command("reach")
@_to("reach.svg")
@without_option
@design_option
@acting
def draw_reach(
    target: str, failed: tuple[str, ...], design_file: str | None, dry_run: bool, as_json: bool
) -> None:
    """What may talk to what: networks against networks.

    \b
    Example:
      obrin draw reach --to reach.png --design skerrow-ferries
    """
    path, kind = figure_file(target)
    from obrin.cli.figures.grid import Look, grid_bytes
    from obrin.core.reach.matrix import BROKEN, CLOSED, WIDER, WISHED, matrix
    from obrin.core.reach.paths import all_networks

    settled = project_of(design_file).on_trial().settled
    model = model_without(settled, failed)
    names = list(map(str, all_networks(settled)))
    at = {name: n for n, name in enumerate(names)}
    looks = {
        WISHED: Look("#2f6f8f", "W", "passes, as wished"),
        WIDER: Look("#e8b04a", "+", "passes, nobody asked", "//"),
        BROKEN: Look("#b3263f", "X", "a wish is broken", "xx"),
        CLOSED: Look("#e4e9e4", ".", "nothing passes"),
    }
    cells = {
        (at[str(c.source)], at[str(c.destination)]): (
            c.verdict,
            "\n".join((*c.broken, *c.allowed)[:2]) or ".",
        )
        for c in matrix(model, closed=True)
    }
    note = "from the network at the left to the one above; empty: the same place"
    title = f"Reach of {settled.name}" + (f" without {', '.join(failed)}" if failed else "")
    _write(
        path,
        grid_bytes(title, note, names, names, cells, looks, kind),
        dry_run=dry_run,
        as_json=as_json,
    )


def _sweep(design_file: str | None) -> Sweep:
    from obrin.core.drill.sweep import Sweep

    project = project_of(design_file)
    document, _, settled, _ = project.on_trial()
    return Sweep(settled, project.offering(document.design))


@draw.command("outages")
@_to("outages.svg")
@design_option
@acting
def draw_outages(target: str, design_file: str | None, dry_run: bool, as_json: bool) -> None:
    """How long traffic is gone after each single failure, on a time line.

    \b
    Example:
      obrin draw outages --to outages.png --design skerrow-ferries
    """
    path, kind = figure_file(target)
    from obrin.cli.figures.outage import outage_bytes
    from obrin.core.drill.elements import elements

    sweep = _sweep(design_file)
    settled = sweep.settled
    bars = [bar for element in elements(settled) if (bar := _bar(sweep.try_one((element,))))]
    _write(
        path,
        outage_bytes(f"Outages of {settled.name}", bars, kind),
        dry_run=dry_run,
        as_json=as_json,
    )


def _bar(outcome: Outcome) -> Bar | None:
    """The worst of a failure; None where no flow notices it."""
    from obrin.cli.figures.outage import Bar

    name = " + ".join(map(str, outcome.failed))
    unnoticed = [m for m in outcome.moved if m.noticed is None]
    gone = len(outcome.lost) + len(unnoticed)
    noticed = [m.noticed for m in outcome.moved if m.noticed is not None]
    back = f"{_flows(len(noticed))} back" if noticed else ""
    if gone:
        return Bar(name, 0, 0, True, f"{_flows(gone)} lost" + (f", {back}" if back else ""))
    if not noticed:
        return None
    worst = max(noticed, key=lambda d: d.longest)
    words = f"{back} after {plain(worst.shortest)} to {plain(worst.longest)} s ({worst.name})"
    return Bar(name, worst.shortest, worst.longest, False, words)


def _flows(count: int) -> str:
    return "1 flow" if count == 1 else f"{count} flows"


@draw.command("drill")
@_to("drill.svg")
@design_option
@acting
def draw_drill(target: str, design_file: str | None, dry_run: bool, as_json: bool) -> None:
    """Every single failure against every flow: untouched, moved for so many seconds, or lost.

    \b
    Example:
      obrin draw drill --to drill.png --design skerrow-ferries
    """
    path, kind = figure_file(target)
    from obrin.cli.figures.grid import Look, grid_bytes
    from obrin.core.drill.elements import elements

    sweep = _sweep(design_file)
    settled = sweep.settled
    failures, flows = elements(settled), [way.flow for way, _ in sweep.flows]
    at = {flow: n for n, flow in enumerate(flows)}
    looks = {
        "kept": Look("#dfe9e2", ".", "untouched"),
        "moved": Look("#8fb8cc", "m", "moves, seconds without it at most"),
        "lost": Look("#b3263f", "X", "lost until mended", "xx"),
    }
    cells = {(row, column): ("kept", ".") for row in range(len(failures)) for column in at.values()}
    for row, element in enumerate(failures):
        outcome = sweep.try_one((element,))
        for moved in outcome.moved:
            seconds = "for good" if moved.seconds is None else f"{plain(moved.seconds)} s"
            cells[row, at[moved.flow]] = ("moved", seconds)
        for flow in outcome.lost:
            cells[row, at[flow]] = ("lost", "lost")
    note = "what fails, at the left; flows that must work, above"
    title = f"Single failures of {settled.name}"
    rows = [str(element) for element in failures]
    _write(
        path,
        grid_bytes(title, note, rows, flows, cells, looks, kind),
        dry_run=dry_run,
        as_json=as_json,
    )
