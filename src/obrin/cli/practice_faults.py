"""`practice cut`, `fault`, `accept`, `heal`: what goes wrong, on purpose."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from typing import TYPE_CHECKING

import click

from obrin.cli.common import design_option, practice_cloud, practice_internet, project_of
from obrin.cli.completion import cut_names, joining_names, uplink_names
from obrin.cli.deeds import Change, Deed, acting
from obrin.cli.practice import known_name, practice
from obrin.core.errors import ObrinError

if TYPE_CHECKING:
    from obrin.core.settled.model import Settled
    from obrin.live.http import Client, CloudFaults, InternetClient
    from obrin.live.project import Project

AHEAD, BEHIND = "ahead", "behind"
GATEWAY_TROUBLES = ("restart", AHEAD, BEHIND)
UPLINK_TROUBLES = ("loss", "double", "delay", "jitter", "one-way", "block", "forget")
CLOUD_TROUBLES = ("throttle", "fail")


@practice.command()
@click.argument("kind", type=click.Choice(["tunnel", "uplink", "circuit", "attachment", "large"]))
@click.argument("name", shell_complete=cut_names)
@click.option("--told", is_flag=True, help="With 'large': the sender is told what would pass.")
@design_option
@acting
def cut(
    kind: str, name: str, told: bool, design_file: str | None, dry_run: bool, as_json: bool
) -> None:
    """Cut a tunnel's path (LINK/TUNNEL), a whole uplink (GATEWAY/UPLINK), a circuit (its name) or
    an attachment (MEMBER@HUB), without a word.

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
    with practice_internet(project) as internet, practice_cloud(project) as cloud:
        act = _cutting(settled, kind, name, told=told)
        if not dry_run:
            act(internet, cloud)
    mend = ["obrin practice heal"]
    Deed(changes=(Change(f"{kind} {name}", "cut"),), following=mend).tell(
        dry_run=dry_run, as_json=as_json
    )


Cutting = Callable[["InternetClient", "CloudFaults"], None]


def _cutting(settled: Settled, kind: str, name: str, *, told: bool) -> Cutting:
    """What cuts it. Raises ObrinError for what is not there."""
    if kind == "tunnel":
        tunnel = known_name(kind, name, {t.label: t for t in settled.tunnels()})
        ends = str(tunnel.uplink.address), str(tunnel.cloud_address)
        return lambda internet, _: internet.cut_path(*ends)
    if kind == "circuit":
        circuit = known_name(kind, name, settled.circuits)
        return lambda internet, _: internet.cut_circuit(circuit.label)
    if kind == "attachment":
        found = known_name(kind, name, {way.label: way for way in settled.attachments()})
        return lambda _, cloud: cloud.cut_attachment(found.hub, found.member)
    _known_uplink(settled, name)
    if kind == "uplink":
        return lambda internet, _: internet.cut_uplink(name)
    return lambda internet, _: internet.narrow(name, told=told)


@practice.command()
@click.argument("kind", type=click.Choice([*UPLINK_TROUBLES, *GATEWAY_TROUBLES, *CLOUD_TROUBLES]))
@click.argument("where", shell_complete=uplink_names)
@click.argument("value", default="")
@design_option
@acting
def fault(
    kind: str, where: str, value: str, design_file: str | None, dry_run: bool, as_json: bool
) -> None:
    """Trouble at an uplink (GATEWAY/UPLINK), in both directions, at a gateway, or at the 'cloud',
    until it is healed.

    \b
      loss 5%        that share of packets is lost      double 5%   ... comes twice
      delay 80ms     every packet comes later           jitter 40ms ... by up to so much more
      one-way out    only what leaves passes, or 'in'   block udp/4500   or 'esp'
      forget         its translator forgets who asked whom, once
      restart        the gateway loses everything but its configuration, once
      behind 2h      the gateway's clock is behind by that, or 'ahead'
      throttle 2     the cloud takes two requests in a second, and tells who comes too often
      fail tunnels   the next of that kind, or of one name, fails when it is half built

    \b
    Examples:
      obrin practice fault loss hh-east/fibre 5% --design skerrow-ferries
      obrin practice fault one-way hh-east/fibre out --design skerrow-ferries
      obrin practice fault throttle cloud 2 --design skerrow-ferries
    """
    from obrin.live.practice.weather import Trouble, with_more

    project = project_of(design_file)
    _, settled = project.settled()
    did = f"in trouble: {kind} {value}".rstrip()
    if kind in CLOUD_TROUBLES:
        _at_cloud(project, kind, where, value, dry_run=dry_run)
        Deed(changes=(Change("the cloud", did),), following=["obrin practice heal"]).tell(
            dry_run=dry_run, as_json=as_json
        )
        return
    if kind in GATEWAY_TROUBLES:
        _at_gateway(project, settled, (kind, where, value), dry_run=dry_run)
        Deed(changes=(Change(f"gateway {where}", did),), following=["obrin practice heal"]).tell(
            dry_run=dry_run, as_json=as_json
        )
        return
    name = _known_uplink(settled, where)
    try:
        with_more(Trouble(), kind, value)
    except ValueError as error:
        raise click.UsageError(str(error)) from None
    with practice_internet(project) as internet:
        if not dry_run:
            internet.trouble(kind, name, value)
    Deed(changes=(Change(f"uplink {name}", did),), following=["obrin practice heal"]).tell(
        dry_run=dry_run, as_json=as_json
    )


def _at_cloud(project: Project, kind: str, where: str, value: str, *, dry_run: bool) -> None:
    if where != "cloud":
        raise click.UsageError(f"'{kind}' is a trouble of the cloud: write 'cloud', not '{where}'")
    if not value:
        example = "2" if kind == "throttle" else "tunnels"
        raise click.UsageError(f"'{kind}' wants a value, for example '{example}'")
    with practice_cloud(project) as cloud:
        if not dry_run:
            cloud.trouble(kind, value)


def _at_gateway(
    project: Project, settled: Settled, trouble: tuple[str, str, str], *, dry_run: bool
) -> None:
    kind, where, value = trouble
    known_name("gateway", where, settled.gateways)
    body: dict[str, object] = {"restart": True}
    if kind in (AHEAD, BEHIND):
        body = {"clock": _seconds(value) * (1 if kind == AHEAD else -1)}
    elif value:
        raise click.UsageError("'restart' has no value")
    with _troubles(project, where) as door:
        if not dry_run:
            door.call("POST", "", body)


def _seconds(value: str) -> float:
    from obrin.core.design.values import parse_duration

    try:
        return parse_duration(value)
    except ValueError as error:
        raise click.UsageError(f"{error}; write for example '2h'") from None


@contextmanager
def _troubles(project: Project, gateway: str) -> Iterator[Client]:
    """The door for troubles of a practice gateway."""
    from obrin.live.http import Client
    from obrin.live.practice.record import need_world

    world = need_world(project.practice_folder)
    found = world.gateways.get(gateway)
    if found is None:
        raise ObrinError(f"gateway {gateway} does not run: no tunnel or circuit ends there")
    url = found.replace("/gateways/", "/troubles/") + "/"
    with closing(Client(f"gateway {gateway}", url, world.token)) as door:
        yield door


def _known_uplink(settled: Settled, name: str) -> str:
    known = [f"{g.name}/{u}" for g in settled.gateways.values() for u in g.uplinks]
    if name not in known:
        raise ObrinError(f"there is no uplink '{name}'. There are: {', '.join(known)}")
    return name


@practice.command()
@click.argument("name", shell_complete=joining_names)
@design_option
@acting
def accept(name: str, design_file: str | None, dry_run: bool, as_json: bool) -> None:
    """Be the other owner who accepts a tunnel, a circuit or an attachment that waits for that.

    What the design says they 'accepted' is accepted already when the practice world starts.

    \b
    Example:
      obrin practice accept ledger@crossing --design skerrow-ferries
    """
    from obrin.live.practice.cloud.names import resource_of

    project = project_of(design_file)
    _, settled = project.settled()
    known = {t.label: resource_of(t) for t in settled.tunnels()}
    known |= {c.name: resource_of(c) for c in settled.circuits.values()}
    known |= {way.label: resource_of(way) for way in settled.attachments()}
    with practice_cloud(project) as cloud:
        path = known_name("tunnel, circuit or attachment", name, known)
        if not dry_run:
            cloud.call("POST", f"/v1/{path}/acceptance")
    Deed(changes=(Change(name, "accepted by its owner"),)).tell(dry_run=dry_run, as_json=as_json)


@practice.command()
@design_option
@acting
def heal(design_file: str | None, dry_run: bool, as_json: bool) -> None:
    """Mend everything that was cut.

    \b
    Example:
      obrin practice heal --design skerrow-ferries
    """
    from obrin.live.practice.record import need_world

    project = project_of(design_file)
    with practice_internet(project) as internet, practice_cloud(project) as cloud:
        if not dry_run:
            internet.heal()
            cloud.heal()
            for name in need_world(project.practice_folder).gateways:
                with _troubles(project, name) as door:
                    door.call("DELETE", "")
    Deed(changes=(Change("everything that was cut", "mended"),)).tell(
        dry_run=dry_run, as_json=as_json
    )
