"""`practice cut`, `fault`, `accept`, `heal`: what goes wrong, on purpose."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from typing import TYPE_CHECKING

import click

from obrin.cli.connect.practice import known_name, practice
from obrin.cli.shared.common import design_option, practice_cloud, practice_internet, project_of
from obrin.cli.shared.completion import cut_names, fault_kinds, fault_places, joining_names
from obrin.cli.shared.deeds import Change, Deed, acting
from obrin.core.errors import ObrinError

if TYPE_CHECKING:
    from obrin.core.settled.model import Settled
    from obrin.live.http import Client, CloudFaults, InternetClient
    from obrin.live.practice.faults import Fault
    from obrin.live.project import Project


@practice.command()
@click.argument("kind", type=click.Choice(["tunnel", "uplink", "circuit", "attachment"]))
@click.argument("name", shell_complete=cut_names)
@design_option
@acting
def cut(kind: str, name: str, design_file: str | None, dry_run: bool, as_json: bool) -> None:
    """Cut a tunnel's path (LINK/TUNNEL), a whole uplink (GATEWAY/UPLINK), a circuit (its name) or
    an attachment (MEMBER@HUB), without a word.

    \b
    Example:
      obrin practice cut tunnel harbour-timetable/north --design skerrow-ferries
    """
    project = project_of(design_file)
    _, settled = project.settled()
    with practice_internet(project) as internet, practice_cloud(project) as cloud:
        act = _cutting(settled, kind, name)
        if not dry_run:
            act(internet, cloud)
    mend = ["obrin practice heal"]
    Deed(changes=(Change(f"{kind} {name}", "cut"),), following=mend).tell(
        dry_run=dry_run, as_json=as_json
    )


Cutting = Callable[["InternetClient", "CloudFaults"], None]


def _cutting(settled: Settled, kind: str, name: str) -> Cutting:
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
    known = {f"{g.name}/{u}": g for g in settled.gateways.values() for u in g.uplinks}
    known_name("uplink", name, known)
    return lambda internet, _: internet.cut_uplink(name)


@practice.command()
@click.argument("kind", shell_complete=fault_kinds)
@click.argument("where", shell_complete=fault_places)
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
      large          over 1,280 bytes is lost; 'large UPLINK icmp' sends errors back
      address A      its provider gives the uplink another address
      forget         its translator forgets who asked whom, once
      restart        the gateway loses everything but its configuration, once
      retype filter  somebody takes a rule away at a gateway by hand; or 'liveness', once
      full           the gateway has no room to keep another configuration
      behind 2h      the gateway's clock is behind by that, or 'ahead'
      throttle 2     the cloud takes two requests in a second, and refuses more for a while
      fail tunnels   the next of that kind, or of one name, fails when it is half built
      drift NAME     somebody changes a thing there by hand, such as filters/timetable, once

    \b
    Examples:
      obrin practice fault loss hh-east/fibre 5% --design skerrow-ferries
      obrin practice fault large hh-east/fibre --design skerrow-ferries
      obrin practice fault throttle cloud 2 --design skerrow-ferries
    """
    from obrin.live.practice.faults import CLOUD, KINDS, UPLINK, Fault, judge_fault

    project = project_of(design_file)
    _, settled = project.settled()
    asked = Fault(kind, where, value)
    judge_fault(settled, asked)
    place = KINDS[kind].where
    if place == UPLINK:
        with practice_internet(project) as internet:
            if not dry_run:
                internet.trouble(kind, where, value)
    elif place == CLOUD:
        with practice_cloud(project) as cloud:
            if not dry_run:
                cloud.trouble(kind, value)
    else:
        with _troubles(project, where) as door:
            if not dry_run:
                door.call("POST", "", _at_gateway(asked))
    name = "the cloud" if place == CLOUD else f"{place} {where}"
    change = Change(name, f"in trouble: {kind} {value}".rstrip())
    Deed(changes=(change,), following=["obrin practice heal"]).tell(
        dry_run=dry_run, as_json=as_json
    )


def _at_gateway(fault: Fault) -> dict[str, object]:
    """Request body for the gateway's fault endpoint."""
    from obrin.live.practice.faults import FULL, RESTART, RETYPE, seconds_wrong

    if fault.kind in (RESTART, FULL):
        return {fault.kind: True}
    if fault.kind == RETYPE:
        return {fault.kind: fault.value}
    return {"clock": seconds_wrong(fault)}


@contextmanager
def _troubles(project: Project, gateway: str) -> Iterator[Client]:
    """The door for troubles of a practice gateway."""
    from obrin.live.http import Client
    from obrin.live.practice.record import need_world

    world = need_world(project.practice_folder)
    if gateway not in world.gateways:
        raise ObrinError(f"gateway {gateway} does not run: no tunnel or circuit ends there")
    url = world.trouble_door(gateway)
    with closing(Client(f"gateway {gateway}", url, world.token)) as door:
        yield door


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
    """Mend everything that was cut, and undo what was changed by hand as a fault.

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
