"""A running practice world takes in what its design got since it was started: sites, gateways
beside others, uplinks and circuits."""

from __future__ import annotations

from contextlib import closing
from dataclasses import dataclass
from pathlib import Path

from obrin.core.settled.links import SettledCircuit
from obrin.core.settled.model import Settled
from obrin.live.http import Client, CloudFaults, InternetClient
from obrin.live.practice.cloud.names import cloud_name
from obrin.live.practice.internet.internet import Dedicated
from obrin.live.practice.record import World, need_world
from obrin.live.practice.world import (
    Starter,
    agent_url,
    launch_gateways,
    line_name,
    line_texts,
    take_in,
)


@dataclass(frozen=True, slots=True)
class Growth:
    """What the running world does not have yet: gateways, uplinks by their gateways, circuits."""

    gateways: tuple[str, ...]
    uplinks: tuple[tuple[str, str], ...]
    circuits: tuple[SettledCircuit, ...]

    @property
    def names(self) -> list[str]:
        """A new gateway stands for its uplinks, too."""
        more = (line_name(*pair) for pair in self.uplinks if pair[0] not in self.gateways)
        return [*self.gateways, *more, *(circuit.label for circuit in self.circuits)]


def growth(settled: Settled, folder: Path) -> Growth:
    """What is to be taken in. Raises PracticeError where no world runs, and OutsideError where it
    does not answer."""
    world = need_world(folder)
    with closing(_internet(world)) as internet:
        cables = internet.cables()
    used = [name for name in settled.gateways if settled.legs_at(name)]
    return Growth(
        tuple(name for name in used if name not in world.gateways),
        tuple(
            (name, uplink)
            for name in used
            for uplink in settled.gateways[name].uplinks
            if line_name(name, uplink) not in cables
        ),
        tuple(
            circuit
            for circuit in settled.circuits.values()
            if Dedicated(circuit.label).ends[0] not in cables
        ),
    )


def grow_world(settled: Settled, folder: Path, found: Growth) -> None:
    """Take it in, beside what runs. Raises PracticeError and OutsideError likewise."""
    world = need_world(folder)
    cables: dict[str, int] = {}
    with closing(_internet(world)) as internet:
        for name, uplink in found.uplinks:
            cables[line_name(name, uplink)] = internet.connect(
                line_texts(settled.gateways[name])[uplink]
            )
        for circuit in found.circuits:
            ends = Dedicated(circuit.label).ends
            cables |= zip(ends, internet.join(circuit.label, circuit.mtu), strict=True)
    with closing(CloudFaults("the practice cloud", world.cloud, world.token)) as cloud:
        for circuit in found.circuits:
            end = Dedicated(circuit.label).ends[1]
            cloud.plug_in(circuit.label, cloud_name(circuit.label), cables[end])
    sites = dict.fromkeys(settled.gateways[name].site for name in found.gateways)
    new = [name for name in sites if not _running(settled, world, name)]
    starter = Starter(folder, world)
    more = ["--snmp"] if world.agents else []
    if world.capture is not None:
        more += ["--keylog", f"{Path(world.capture).absolute()}.keys"]
    take_in(starter, launch_gateways(settled, new, starter, cables, more))
    _plug_in(settled, world, found, cables, but=new)
    world.write(folder)


def _plug_in(
    settled: Settled, world: World, found: Growth, cables: dict[str, int], but: list[str]
) -> None:
    """Hand new cables to the processes of the sites that run, and note new gateways there."""
    touched = [*found.gateways, *(name for name, _ in found.uplinks)]
    touched += [circuit.gateway for circuit in found.circuits]
    for name in dict.fromkeys(touched):
        site = settled.gateways[name].site
        if site in but:
            continue
        beside = _running(settled, world, site)[0]
        body = {
            "gateway": name,
            "uplinks": {u: cables[line_name(n, u)] for n, u in found.uplinks if n == name},
            "circuits": {
                c.label: cables[Dedicated(c.label).ends[0]]
                for c in found.circuits
                if c.gateway == name
            },
        }
        url = world.gateways[beside].replace("/gateways/", "/sites/") + "/"
        with closing(Client("the practice world", url, world.token)) as client:
            agent = client.call("POST", "", body).json()["agent"]
        if name not in world.gateways:
            world.gateways[name] = world.gateways[beside].removesuffix(beside) + name
            if agent is not None:
                world.agents[name] = agent_url(agent)


def _running(settled: Settled, world: World, site: str) -> list[str]:
    """The gateways of a site that run already."""
    return [name for name in settled.sites[site].gateways if name in world.gateways]


def _internet(world: World) -> InternetClient:
    return InternetClient("the practice internet", world.internet, world.token)
