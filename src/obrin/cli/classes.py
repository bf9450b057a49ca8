"""`classes`: capacity classes side by side, with the reason each is not taken."""

from __future__ import annotations

from pathlib import Path

import click

from obrin.cli.common import console, design_option, echo_json, json_option, print_table, project_of
from obrin.core.errors import ObrinError


@click.command()
@click.argument("cloud", required=False)
@click.option("--write", "target", type=click.Path(dir_okay=False),
              help="Write the offering to a file of your own, to be changed and named in the "
              "design as 'offering'.")  # fmt: skip
@design_option
@json_option
def classes(cloud: str | None, target: str | None, design_file: str | None, as_json: bool) -> None:
    """The capacity classes of the cloud, held against what the design asks of each CLOUD's gateway.

    \b
    Example:
      obrin classes timetable --design skerrow-ferries
    """
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
        write_whole(path, format_offering(offering.of(cloud or "")), 0o644)
        click.echo(f"{path} written. Name it in the design: 'offering: {path.name}'.")
        return
    if cloud is not None and cloud not in design.clouds:
        raise ObrinError(f"there is no cloud '{cloud}'. There are: {', '.join(design.clouds)}")
    found = {
        name: (demand_of(design, name), judge_classes(demand_of(design, name), offering.of(name)))
        for name in ([cloud] if cloud else design.clouds)
    }
    if as_json:
        echo_json({
            name: [
                {"class": j.entry.name, "fits": not j.lacks, "lacks": j.lacks,
                 "throughput": j.entry.throughput, "tunnels": j.entry.tunnels,
                 "routes": j.entry.routes, "instances": j.entry.instances,
                 "features": list(j.entry.features), "monthly": j.entry.monthly,
                 "hourly": j.entry.hourly, "build_minutes": j.entry.build_minutes,
                 "gateway_subnet": j.entry.subnet_length}
                for j in judged
            ]
            for name, (_, judged) in found.items()
        })  # fmt: skip
        return
    head = ("Class", "Verdict", "Mbit/s", "Tunnels", "Routes", "Inst.", "Subnet", "Features",
            "Month", "Hour", "Build")  # fmt: skip
    for name, (asked, judged) in found.items():
        given = design.clouds[name].gateway.gateway_class
        best = next((j.entry.name for j in judged if not j.lacks), None)
        rows = []
        for j in judged:
            e = j.entry
            verdict = j.lacks or ("the cheapest that fits" if e.name == best else "costs more")
            verdict += "; in the design" if e.name == given else ""
            rows.append((e.name, verdict, f"{e.throughput:g}", str(e.tunnels), str(e.routes),
                         str(e.instances), f"/{e.subnet_length}", ", ".join(e.features),
                         f"{e.monthly:g}", f"{e.hourly:g}", f"{e.build_minutes} min"))  # fmt: skip
        wanted = (
            f"{asked.throughput:g} Mbit/s, {asked.tunnels} tunnels, {asked.instances} instances"
        )
        wanted += f", {asked.routes} BGP routes" if asked.bgp else ""
        wanted += "".join(f", {feature}" for feature in asked.features)
        wanted += ", also with an instance lost" if asked.after_failure else ""
        print_table(console(), head, rows, title=f"{name} asks for {wanted}")
