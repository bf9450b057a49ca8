"""`practice`: the practice world and its faults."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from obrin.cli.common import (
    STYLES,
    console,
    design_option,
    echo_json,
    json_option,
    practice_internet,
    print_table,
    project_of,
    writes,
)
from obrin.cli.completion import cut_names, uplink_names
from obrin.cli.deeds import Change, Deed, acting
from obrin.core.errors import ObrinError

if TYPE_CHECKING:
    from obrin.core.settled.model import Settled
    from obrin.live.practice.record import World


@click.group()
def practice() -> None:
    """The practice world: a cloud, gateways and the internet between, all on this machine."""


@practice.command()
@design_option
@click.option(
    "--speed",
    type=click.FloatRange(1, 100_000),
    default=600.0,
    show_default=True,
    help="Simulated seconds of the cloud's building time in one real second.",
)
@click.option(
    "--capture",
    type=click.Path(dir_okay=False),
    help="Write every packet to this pcap file, and the session keys to FILE.keys/.",
)
@acting
@writes("dry_run")
def start(
    design_file: str | None, speed: float, capture: str | None, dry_run: bool, as_json: bool
) -> None:
    """Start it. It needs no privileges and talks on loopback only.

    \b
    Example:
      obrin practice start --design skerrow-ferries --capture crossing.pcap
    """
    from obrin.live.practice.world import need_startable, start_world

    project = project_of(design_file)
    document, settled = project.settled()
    target = Path(capture) if capture else None
    if target is not None and not target.absolute().parent.is_dir():
        raise ObrinError(f"the folder of {capture} does not exist. Make it first")
    if target is not None and (target.is_symlink() or target.is_dir()):
        raise ObrinError(f"{capture} is a symbolic link or a folder. Name an ordinary file")
    offering = project.offering(document.design)
    names = [gateway.name for gateway in settled.gateways.values()]
    changes = [Change(name, "started") for name in ("cloud", "internet", *names)]
    if capture:
        changes.append(Change(capture, "written while packets come, with session keys beside it"))
    if dry_run:
        need_startable(settled, project.practice_folder)
    else:
        start_world(
            settled, project.practice_folder, speed=speed, capture=target, offering=offering
        )
    Deed(changes=changes, files=[target] if target else [], following=["obrin connect"]).tell(
        dry_run=dry_run, as_json=as_json
    )


@practice.command()
@design_option
@acting
@writes("dry_run")
def stop(design_file: str | None, dry_run: bool, as_json: bool) -> None:
    """Stop it. What the practice cloud held is gone with it.

    \b
    Example:
      obrin practice stop --design skerrow-ferries
    """
    from obrin.live.practice.record import read_record
    from obrin.live.practice.world import stop_world

    folder = project_of(design_file).practice_folder
    ran = read_record(folder) is not None if dry_run else stop_world(folder)
    if not ran:
        click.echo("No practice world runs here.", err=True)
    changes = (Change("practice world", "stopped"),) if ran else ()
    Deed(changes=changes).tell(dry_run=dry_run, as_json=as_json)


@practice.command()
@design_option
@json_option
def status(design_file: str | None, as_json: bool) -> None:
    """Its processes, where they answer, and the faults that are on.

    Everything answers on this machine only, to who brings the token of this world (HTTP
    'Authorization: Bearer'), which stands in the file that is named.

    \b
    Example:
      obrin practice status --design skerrow-ferries
    """
    from obrin.live.practice.record import RUNNING, WORLD, PracticeError, living, read_record

    project = project_of(design_file)
    world = read_record(project.practice_folder)
    if world is None:
        raise PracticeError("no practice world runs here. Start one with 'obrin practice start'")
    alive = living(world, project.practice_folder)
    rows = [
        (name, url, "answers" if ok else "DEAD")
        for process, ok in alive.items()
        for name, url in _places(world, process)
    ]
    record = project.practice_folder / WORLD
    if not as_json:
        print_table(console(), ("Who", "Answers at", "State"), rows, styles=STYLES)
        click.echo(f"Token: 'token' in {record}.")
    dead = [name for name, ok in alive.items() if not ok]
    if world.state != RUNNING:
        raise PracticeError("its start was not finished. Run 'obrin practice stop', then 'start'")
    if dead:
        raise PracticeError(
            f"{len(dead)} of {len(alive)} processes are dead: {', '.join(dead[:5])}. "
            "Run 'obrin practice stop', then 'start' and 'connect'"
        )
    with practice_internet(project) as internet:
        faults = internet.faults()
    if as_json:
        places = [{"name": n, "url": url, "state": state} for n, url, state in rows]
        echo_json({"places": places, "token_file": str(record), "faults": faults})
        return
    click.echo(f"Packets carried: {faults['carried']}.")
    cut = [f"uplink {name}" for name in faults["uplinks"]]
    cut += [f"large packets of {name}" for name in faults["narrow"]]
    cut += faults["troubles"]
    if faults["paths"]:
        cut.append(f"{faults['paths']} tunnel paths")
    click.echo(f"Cut: {', '.join(cut) or 'nothing'}.")
    for reason, count in faults["lost"].items():
        click.echo(f"Lost: {count} packets, {reason}.")


def _places(world: World, process: str) -> list[tuple[str, str]]:
    """Who answers in a process, and at which URL; one process may be several gateways."""
    here = f"http://127.0.0.1:{world.ports.get(process, 0)}"
    inside = [(name, url) for name, url in world.gateways.items() if url.startswith(f"{here}/")]
    return inside or [(process, here)]


@practice.command()
@click.argument("kind", type=click.Choice(["tunnel", "uplink", "large"]))
@click.argument("name", shell_complete=cut_names)
@click.option("--told", is_flag=True, help="With 'large': the sender is told what would pass.")
@design_option
@acting
def cut(
    kind: str, name: str, told: bool, design_file: str | None, dry_run: bool, as_json: bool
) -> None:
    """Cut a tunnel's path (LINK/TUNNEL) or a whole uplink (GATEWAY/UPLINK), without a word.

    With 'large', an uplink loses only packets of more than 1,280 bytes.

    \b
    Examples:
      obrin practice cut tunnel harbour-timetable/north --design skerrow-ferries
      obrin practice cut large hh-east/fibre --design skerrow-ferries
    """
    if told and kind != "large":
        raise click.UsageError("'--told' goes with 'large'")
    project = project_of(design_file)
    _, settled = project.settled()
    with practice_internet(project) as internet:
        if kind == "tunnel":
            tunnels = {t.label: t for t in settled.tunnels()}
            if name not in tunnels:
                raise ObrinError(f"there is no tunnel '{name}'. There are: {', '.join(tunnels)}")
            found = tunnels[name]
            if not dry_run:
                internet.cut_path(str(found.uplink.address), str(found.cloud_address))
        else:
            _known_uplink(settled, name)
            if not dry_run and kind == "uplink":
                internet.cut_uplink(name)
            elif not dry_run:
                internet.narrow(name, told=told)
    mend = ["obrin practice heal"]
    Deed(changes=(Change(f"{kind} {name}", "cut"),), following=mend).tell(
        dry_run=dry_run, as_json=as_json
    )


@practice.command()
@click.argument(
    "kind", type=click.Choice(["loss", "double", "delay", "jitter", "one-way", "block", "forget"])
)
@click.argument("uplink", shell_complete=uplink_names)
@click.argument("value", default="")
@design_option
@acting
def fault(
    kind: str, uplink: str, value: str, design_file: str | None, dry_run: bool, as_json: bool
) -> None:
    """Trouble at an uplink (GATEWAY/UPLINK), in both directions, until it is healed.

    \b
      loss 5%        that share of packets is lost      double 5%   ... comes twice
      delay 80ms     every packet comes later           jitter 40ms ... by up to so much more
      one-way out    only what leaves passes, or 'in'   block udp/4500   or 'esp'
      forget         its translator forgets who asked whom, once

    \b
    Examples:
      obrin practice fault loss hh-east/fibre 5% --design skerrow-ferries
      obrin practice fault one-way hh-east/fibre out --design skerrow-ferries
    """
    from obrin.live.practice.weather import Trouble, with_more

    project = project_of(design_file)
    _, settled = project.settled()
    name = _known_uplink(settled, uplink)
    try:
        with_more(Trouble(), kind, value)
    except ValueError as error:
        raise click.UsageError(str(error)) from None
    with practice_internet(project) as internet:
        if not dry_run:
            internet.trouble(kind, name, value)
    did = f"in trouble: {kind} {value}".rstrip()
    Deed(changes=(Change(f"uplink {name}", did),), following=["obrin practice heal"]).tell(
        dry_run=dry_run, as_json=as_json
    )


def _known_uplink(settled: Settled, name: str) -> str:
    known = [f"{g.name}/{u}" for g in settled.gateways.values() for u in g.uplinks]
    if name not in known:
        raise ObrinError(f"there is no uplink '{name}'. There are: {', '.join(known)}")
    return name


@practice.command()
@design_option
@acting
def heal(design_file: str | None, dry_run: bool, as_json: bool) -> None:
    """Mend everything that was cut.

    \b
    Example:
      obrin practice heal --design skerrow-ferries
    """
    with practice_internet(project_of(design_file)) as internet:
        if not dry_run:
            internet.heal()
    Deed(changes=(Change("everything that was cut", "mended"),)).tell(
        dry_run=dry_run, as_json=as_json
    )
