"""What keeps a tunnel up when nobody uses it, so that the first packets of the day are not lost."""

from __future__ import annotations

from obrin.core.design.arrangement import SPARE
from obrin.core.handover.ends.records import TunnelEnd
from obrin.core.quantity import plain
from obrin.core.reach.trace import probe_key
from obrin.core.settled.links import SettledTunnel
from obrin.core.settled.model import Settled

EVERY = 10
"""Seconds between packets that keep a tunnel awake; below the silence of any translator."""


def sleeps(settled: Settled, tunnel: SettledTunnel) -> bool:
    """Whether it comes up only for traffic from the site, and goes when there is none."""
    asleep = settled.gateways[tunnel.gateway].profile.initiates is False
    quiet = settled.links[tunnel.link].routing != "bgp" and not tunnel.cloud_initiates
    return asleep and quiet and tunnel.role != SPARE


def awake_words(settled: Settled, end: TunnelEnd) -> str:
    """Write the row for the sheet of one end. A device that starts tunnels only for traffic
    needs some."""
    if end.stands_in_for:
        return "nothing: it stays down until it is needed"
    if end.routing == "bgp":
        return f"BGP itself, at least every {plain(end.hold / 3)} s"
    if not end.initiator:
        return "the remote end's doing"
    if end.profile.initiates is not False:
        return "the gateway starts it by itself and holds it up: turn that on"
    return f"{_traffic(settled, end)}, every {EVERY} s, from a host that is always on"


def _traffic(settled: Settled, end: TunnelEnd) -> str:
    """A flow that the filters let through anyway, an echo request if there is one."""
    link = settled.tunnel(end.tunnel).link
    site, cloud = settled.links[link].site, settled.links[link].cloud
    flows = [
        wish
        for wish in settled.expectations_at(site)
        if wish.must == "work" and wish.source.place == site and wish.destination.place == cloud
    ]
    flows.sort(key=lambda wish: str(wish.flow) != "icmp")
    if not flows:
        return "any packet that the filter lets through"
    key = probe_key(settled, flows[0])
    what = "a ping" if str(flows[0].flow) == "icmp" else f"a connection to {flows[0].flow}"
    return f"{what} from {key.source} to {key.destination}"
