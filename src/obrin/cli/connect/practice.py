"""`practice`: the practice world, started, looked at, and used by other programs."""

from __future__ import annotations

from collections.abc import Mapping
from contextlib import closing
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar

import click

from obrin.cli.shared.common import (
    STYLES,
    Between,
    console,
    design_option,
    echo_json,
    json_option,
    practice_cloud,
    practice_internet,
    print_table,
    project_of,
    writes,
)
from obrin.cli.shared.completion import network_names
from obrin.cli.shared.deeds import Change, Deed, acting
from obrin.core.errors import ObrinError
from obrin.core.naming import unknown

if TYPE_CHECKING:
    from obrin.live.practice.record import World

T = TypeVar("T")


@click.group()
def practice() -> None:
    """The practice world: a cloud, gateways and the internet between, all on this machine."""


@practice.command()
@design_option
@click.option(
    "--speed",
    type=Between(1, 100_000),
    default=600.0,
    show_default=True,
    help="Simulated seconds of the cloud's building time in one real second.",
)
@click.option(
    "--capture",
    type=click.Path(dir_okay=False),
    help="Write every packet to this pcap file, and the session keys to FILE.keys/.",
)
@click.option(
    "--snmp", is_flag=True, help="Give every gateway an SNMPv3 agent; see 'obrin practice status'."
)
@acting
@writes("dry_run")
def start(
    design_file: str | None,
    speed: float,
    capture: str | None,
    snmp: bool,
    dry_run: bool,
    as_json: bool,
) -> None:
    """Start it. It needs no privileges and talks on loopback only.

    One that runs takes in the sites, gateways, uplinks and circuits that the design got since.

    \b
    Example:
      obrin practice start --design skerrow-ferries --capture crossing.pcap
    """
    from obrin.live.practice.growing import grow_world, growth
    from obrin.live.practice.record import read_world
    from obrin.live.practice.world import need_startable, start_world

    project = project_of(design_file)
    document, settled = project.settled()
    folder = project.practice_folder
    if not capture and read_world(folder) is not None and (new := growth(settled, folder)).names:
        if not dry_run:
            grow_world(settled, folder, new)
        deed = Deed(changes=[Change(name, "started") for name in new.names])
        deed.tell(dry_run=dry_run, as_json=as_json)
        return
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
        need_startable(project.practice_folder)
    else:
        start_world(
            settled,
            project.practice_folder,
            speed=speed,
            capture=target,
            offering=offering,
            snmp=snmp,
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
    with practice_internet(project) as internet, practice_cloud(project) as cloud:
        faults = {**internet.faults(), **cloud.faults()}
    faults["gateway_troubles"] = _gateway_troubles(world)
    if as_json:
        places = [{"name": n, "url": url, "state": state} for n, url, state in rows]
        echo_json({"places": places, "token_file": str(record), "faults": faults})
        return
    click.echo(f"Packets carried: {faults['carried']}.")
    cut = [f"uplink {name}" for name in faults["uplinks"]]
    cut += [f"circuit {label.partition('/')[0]}" for label in faults["circuits"]]
    cut += [f"attachment {name}" for name in faults["attachments"]]
    cut += [f"large packets of {name}" for name in faults["narrow"]]
    cut += [*faults["troubles"], *faults["cloud_troubles"], *faults["gateway_troubles"]]
    if faults["paths"]:
        cut.append(f"{faults['paths']} tunnel paths")
    click.echo(f"Cut: {', '.join(cut) or 'nothing'}.")
    for reason, count in faults["lost"].items():
        click.echo(f"Lost: {count} packets, {reason}.")


def _gateway_troubles(world: World) -> list[str]:
    """What is wrong on purpose with the gateways of a world."""
    from obrin.live.drivers.asking import side_by_side
    from obrin.live.http import Client

    def troubles(name: str) -> list[str]:
        with closing(Client(f"gateway {name}", world.trouble_door(name), world.token)) as door:
            return list(door.get("")["troubles"])

    return [text for found in side_by_side(troubles, world.gateways) for text in found]


def _places(world: World, process: str) -> list[tuple[str, str]]:
    """Say who answers in a process, and at which URL; one process may be several gateways."""
    here = f"http://127.0.0.1:{world.ports.get(process, 0)}"
    inside = [(name, url) for name, url in world.gateways.items() if url.startswith(f"{here}/")]
    agents = [(name, world.agents[name]) for name, _ in inside if name in world.agents]
    return [*inside, *agents] or [(process, here)]


@practice.command(context_settings={"ignore_unknown_options": True})
@click.argument("network", metavar="PLACE/NETWORK", shell_complete=network_names)
@click.argument("command", nargs=-1, required=True, type=click.UNPROCESSED)
@design_option
@click.pass_context
def run(
    ctx: click.Context, network: str, command: tuple[str, ...], design_file: str | None
) -> None:
    """Run any program as a host of the practice world: its packets cross the tunnels.

    It gets a network namespace of its own with the host's addresses (Linux; root, or a kernel that
    gives everybody namespaces). The exit code is the program's. What it listens on is reached from
    other hosts, so two of these can speak to each other.

    \b
    Examples:
      obrin practice run --design skerrow-ferries timetable/booking -- python3 -m http.server 443
      obrin practice run --design skerrow-ferries harbour-house/counters -- curl 10.64.0.10:443
    """
    from obrin.core.reach.paths import all_networks
    from obrin.core.settled.model import host_of
    from obrin.live.http import Client
    from obrin.live.practice.hosts.kernel_host import run_as_host
    from obrin.live.practice.record import need_world

    project = project_of(design_file)
    _, settled = project.settled()
    known = {str(ref): ref for ref in all_networks(settled)}
    place, prefixes = (
        known_name("network", network, known).place,
        settled.families_at(known[network]),
    )
    world = need_world(project.practice_folder)
    url = f"{world.cloud}/lent/"
    if place in settled.sites:
        first = settled.sites[place].gateways[0]
        url = world.gateways[first].replace("/gateways/", "/lent/") + "/"
    addresses = [host_of(prefix) for prefix in prefixes]
    body = {"network": place, "addresses": list(map(str, addresses))}
    with closing(Client("the practice world", url, world.token)) as client:
        lent = client.call("POST", "", body).json()
    ctx.exit(run_as_host(addresses, lent["port"], bytes.fromhex(lent["token"]), command))


def known_name(kind: str, name: str, found: Mapping[str, T]) -> T:
    """What is called so. Raises ObrinError, with the names that there are."""
    if name not in found:
        raise unknown(kind, name, found)
    return found[name]
