"""A running practice world takes in sites that its design got since it was started."""

from __future__ import annotations

from contextlib import closing
from pathlib import Path

from obrin.core.settled.model import Settled
from obrin.live.http import InternetClient
from obrin.live.practice.record import PracticeError, need_world
from obrin.live.practice.world import Starter, launch_gateways, line_name, line_texts, take_in


def new_gateways(settled: Settled, folder: Path) -> list[str]:
    """Gateways of new sites, which the running world does not have yet. Raises PracticeError where
    none runs, and for a new gateway at a site that is there: its hosts are in another process."""
    there = need_world(folder).gateways
    found = [name for name in settled.gateways if name not in there and settled.legs_at(name)]
    for name in found:
        site = settled.sites[settled.gateways[name].site]
        if any(other in there for other in site.gateways):
            raise PracticeError(
                f"the practice world that runs has another gateway of {site.name}, and cannot take "
                f"{name} beside it. Start it anew: 'practice stop', 'practice start', 'connect'"
            )
    return found


def grow_world(settled: Settled, folder: Path) -> list[str]:
    """Start the gateways of new sites beside those that run. Raises PracticeError and OutsideError
    likewise; returns their names."""
    names = new_gateways(settled, folder)
    if not names:
        return []
    world = need_world(folder)
    cables: dict[str, int] = {}
    with closing(InternetClient("the practice internet", world.internet, world.token)) as internet:
        for gateway in (settled.gateways[name] for name in names):
            for uplink, text in zip(gateway.uplinks, line_texts(gateway), strict=True):
                cables[line_name(gateway.name, uplink)] = internet.connect(text)
    sites = dict.fromkeys(settled.gateways[name].site for name in names)
    starter = Starter(folder, world)
    more = ["--snmp"] if world.agents else []
    if world.capture is not None:
        more += ["--keylog", f"{Path(world.capture).absolute()}.keys"]
    take_in(starter, launch_gateways(settled, sites, starter, cables, more))
    world.write(folder)
    return names
