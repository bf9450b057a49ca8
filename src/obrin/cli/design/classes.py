"""`classes`: capacity classes side by side, with the reason each is not taken."""

from __future__ import annotations

from pathlib import Path
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
from obrin.cli.shared.deeds import Deed, dry_run_of
from obrin.core.errors import ObrinError
from obrin.core.naming import unknown
from obrin.core.quantity import plain

if TYPE_CHECKING:
    from obrin.core.catalogue.offering import Demand
    from obrin.core.settle.classes import Judgement

HEAD = (
    "Class",
    "Verdict",
    "Mbit/s",
    "Tunnels",
    "Routes",
    "Inst.",
    "Subnet",
    "Features",
    "Month",
    "Hour",
    "Build",
)


@click.command()
@click.argument("cloud", required=False)
@click.option(
    "--write",
    "target",
    type=click.Path(dir_okay=False),
    help="Write the offering to a file of your own, to be changed and named in the "
    "design as 'offering'.",
)
@dry_run_of("--write")
@design_option
@json_option
def classes(
    cloud: str | None,
    target: str | None,
    dry_run: bool,
    design_file: str | None,
    as_json: bool,
) -> None:
    """The capacity classes of the cloud, held against what the design asks of each CLOUD's gateway.

    \b
    Example:
      obrin classes timetable --design skerrow-ferries
    """
    from obrin.core.design.needs import needs_of
    from obrin.core.design.offering_file import format_offering
    from obrin.core.settle.classes import demand_of, judge_classes
    from obrin.live.files import write_whole

    project = project_of(design_file)
    design = project.read().design
    offering = project.offering(design)
    if target is not None:
        path = Path(target)
        if path.exists():
            raise ObrinError(f"{path} exists. Name another file")
        if not dry_run:
            write_whole(path, format_offering(offering.of(cloud or "")), 0o644)
        Deed.wrote(path).tell(dry_run=dry_run, as_json=as_json)
        if not as_json:
            click.echo(f"Name it in the design: 'offering: {path.name}'.")
        return
    if cloud is not None and cloud not in design.clouds:
        raise unknown("cloud", cloud, design.clouds)
    built = needs_of(design).cloud_gateways
    found = {
        name: (demand_of(design, name), judge_classes(demand_of(design, name), offering.of(name)))
        for name in ([cloud] if cloud else (n for n in design.clouds if n in built))
    }
    if as_json:
        echo_json({name: list(map(_as_json, judged)) for name, (_, judged) in found.items()})
        return
    for name, (asked, judged) in found.items():
        given = design.clouds[name].gateway.gateway_class
        best = next((j.entry.name for j in judged if not j.lacks), None)
        rows = [_cells(j, best, given) for j in judged]
        print_table(console(), HEAD, rows, title=f"{name} asks for {_asked(asked)}")


def _as_json(judged: Judgement) -> dict[str, object]:
    entry = judged.entry
    return {
        "class": entry.name,
        "fits": not judged.lacks,
        "lacks": judged.lacks,
        "throughput": entry.throughput,
        "tunnels": entry.tunnels,
        "routes": entry.routes,
        "instances": entry.instances,
        "features": list(entry.features),
        "monthly": entry.monthly,
        "hourly": entry.hourly,
        "build_minutes": entry.build_minutes,
        "gateway_subnet": entry.subnet_length,
    }


def _cells(judged: Judgement, best: str | None, given: str | None) -> tuple[str, ...]:
    entry = judged.entry
    verdict = judged.lacks
    if not verdict:
        verdict = "the cheapest that fits" if entry.name == best else "costs more"
    return (
        entry.name,
        verdict + ("; in the design" if entry.name == given else ""),
        plain(entry.throughput),
        str(entry.tunnels),
        str(entry.routes),
        str(entry.instances),
        f"/{entry.subnet_length}",
        ", ".join(entry.features),
        plain(entry.monthly),
        plain(entry.hourly),
        f"{entry.build_minutes} min",
    )


def _asked(demand: Demand) -> str:
    """What a gateway has to do, in words."""
    parts = [
        f"{plain(demand.throughput)} Mbit/s",
        f"{demand.tunnels} tunnels",
        f"{demand.instances} instances",
        *([f"{demand.routes} BGP routes"] if demand.bgp else []),
        *demand.features,
        *(["also with an instance lost"] if demand.after_failure else []),
    ]
    return ", ".join(parts)
