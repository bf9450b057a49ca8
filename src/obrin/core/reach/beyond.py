"""The ways to the internet, and what source translation there does to traffic of the tunnels.

A site leads to the internet by its uplinks, and gives what leaves there one of their addresses.
That is not for traffic of tunnels and circuits: a device which translates that, too, sends packets
that the far end does not know.
"""

from __future__ import annotations

from obrin.core.routing.packet import PacketKey
from obrin.core.settled.model import Settled


def out_of_site(settled: Settled, site: str, network: str, key: PacketKey) -> str:
    """Why a packet does not get from a site to the internet; empty when it does. `network` is the
    one that it begins in, empty for what comes from elsewhere."""
    access = settled.sites[site].internet
    if access is None:
        return f"{site} has no way to the internet of its own"
    if network and network not in access.networks:
        return f"{site}/{network} is not among the networks that use the internet access of {site}"
    spared = next((p for p in access.exempt or () if p.holds(key.destination)), None)
    if spared is not None:
        return (
            f"source translation at {site} leaves {spared} alone, so it goes out with "
            f"{key.source}, which nobody on the internet answers"
        )
    return ""


def out_of_cloud(settled: Settled, cloud: str) -> str:
    """Why a packet does not get from a cloud network or a hub to the internet; empty when it does.
    A cloud network leads its own subnets there and nobody else."""
    return "" if settled.clouds[cloud].internet else f"{cloud} has no way to the internet"


def caught(settled: Settled, site: str, network: str, key: PacketKey) -> str:
    """Why source translation takes a packet that a tunnel or circuit is to carry; or empty."""
    access = settled.sites[site].internet
    if access is None or access.exempt is None or network not in access.networks:
        return ""
    if key.destination.bits == 128:
        return ""  # addresses of IPv6 are not shared, so nobody translates sources there
    if any(prefix.holds(key.destination) for prefix in access.exempt):
        return ""
    return (
        f"source translation at {site} takes it: {key.destination} is not among the destinations "
        "that it leaves alone"
    )
