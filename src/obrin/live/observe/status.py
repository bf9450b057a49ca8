"""Asks both ends of every tunnel and circuit, the clocks and what waits for somebody."""

from __future__ import annotations

import re
import time
from collections.abc import Callable, Collection
from dataclasses import replace
from datetime import datetime

from obrin.core.design.arrangement import SPARE
from obrin.core.errors import OutsideError
from obrin.core.known import NotKnown
from obrin.core.settled.links import Leg, SettledTunnel
from obrin.core.settled.model import Settled
from obrin.live.drivers.asking import side_by_side
from obrin.live.drivers.observations import NOT_CONFIGURED, EndStatus, silent
from obrin.live.drivers.protocol import Ends
from obrin.live.observe.both_ends import compared
from obrin.live.observe.tunnel import TunnelStatus
from obrin.wire.ike.endpoint import NO_PEER

ASK_AGAIN_AFTER = 0.5
CLOCK_TOLERANCE = 5.0
"""Seconds; asking takes time, and clocks are reported in whole ones."""


def read_status(
    settled: Settled, ends: Ends, links: Collection[str] | None = None
) -> list[TunnelStatus]:
    """Ask the ends of everything, or of some `links` and circuits only; once more, where they seem
    to disagree.

    The ends are not asked at the same instant, so what moved in between looks like a disagreement.
    Only what both rounds found is reported.
    """
    found = ask_once(settled, ends, links)
    if not any(status.disagreements for status in found):
        return found
    time.sleep(ASK_AGAIN_AFTER)
    again = ask_once(settled, ends, links)
    seen = {(s.tunnel, _kind(text)) for s in found for text in s.disagreements}
    return [
        replace(s, disagreements=tuple(t for t in s.disagreements if (s.tunnel, _kind(t)) in seen))
        for s in again
    ]


def read_waiting(ends: Ends) -> dict[str, str]:
    """What somebody else has to accept before it works, by its name at the cloud."""
    found: dict[str, str] = {}
    for driver, _ in ends.by_driver():
        found |= driver.waiting()
    return found


def read_clocks(ends: Ends, now: Callable[[], datetime]) -> dict[str, float | NotKnown]:
    """Gateways whose clock is wrong, and by how many seconds: positive where it is ahead; or why
    that is not known."""

    def wrong(name: str) -> float | NotKnown:
        try:
            advertised = ends.gateways[name].clock()
        except OutsideError:
            return NotKnown("it does not answer")
        if advertised is None:
            return NotKnown("it does not report its time")
        return (advertised - now()).total_seconds()

    names = list(ends.gateways)
    found = zip(names, side_by_side(wrong, names), strict=True)
    return {n: s for n, s in found if isinstance(s, NotKnown) or abs(s) > CLOCK_TOLERANCE}


def clock_words(gateway: str, wrong: float) -> str:
    """Describe a clock that is wrong by `wrong` seconds."""
    size = abs(wrong)
    text = f"{size:.0f} s" if size < 120 else f"{size / 60:.0f} min"
    text = text if size < 7200 else f"{size / 3600:.1f} h"
    return f"{gateway}: its clock is {text} {'ahead' if wrong > 0 else 'behind'}"


def read_strangers(settled: Settled, ends: Ends, down: Collection[TunnelStatus]) -> list[str]:
    """Addresses from which the clouds of tunnels that are down hear IKE, which belong to none of
    its peers: an uplink may have another address than the design says. In words. Those that the
    design has were heard before their tunnels were built."""
    clouds = dict.fromkeys(settled.tunnel(s.tunnel).cloud for s in down)

    def heard(cloud: str) -> list[str]:
        try:
            found = ends.clouds[cloud].drops(cloud)
        except OutsideError:
            return []
        known = {tunnel.uplink.address for tunnel in settled.tunnels() if tunnel.cloud == cloud}
        strange = (d.source for d in found if NO_PEER in d.reason and d.source.value)
        return [str(source) for source in dict.fromkeys(strange) if source not in known]

    return [
        f"{cloud} hears IKE from {', '.join(addresses)}, which is not a peer's address there: has "
        f"an uplink of {', '.join(sorted(gateways))} got another address than the design says?"
        for cloud, addresses in zip(clouds, side_by_side(heard, clouds), strict=True)
        if addresses
        for gateways in [{settled.tunnel(s.tunnel).gateway for s in down}]
    ]


def _kind(text: str) -> str:
    """A disagreement without its numbers, which move."""
    return re.sub(r"[0-9]+", "", text)


def ask_once(
    settled: Settled, ends: Ends, links: Collection[str] | None = None
) -> list[TunnelStatus]:
    """The same as the ends say it now."""
    asked = list(settled.legs())
    if links is not None:
        asked = [leg for leg in asked if settled.bundle(leg).name in links]
    places = list(dict.fromkeys(place for leg in asked for place in (leg.cloud, leg.gateway)))

    def ask(place: str) -> Said | str:
        """What a place says of its ends, or why it says nothing."""
        try:
            if place in settled.clouds:
                return ends.clouds[place].tunnels(settled, place)
            driver = ends.gateways.get(place)
            return "it has no endpoint" if driver is None else driver.tunnels()
        except OutsideError as error:
            return str(error)

    said = dict(zip(places, side_by_side(ask, places), strict=True))
    found = [
        compared(settled, leg, _end(said[leg.gateway], leg.label), _end(said[leg.cloud], leg.label))
        for leg in asked
    ]
    up = {status.tunnel for status in found if status.up is True}
    legs = settled.index.by_label

    def beside_others(status: TunnelStatus) -> TunnelStatus:
        leg = legs[status.tunnel]
        if _rests(leg, settled, up):
            return replace(status, rests=True)
        revoked = _revoked(leg, settled, ends)
        if not revoked:
            return status
        if "up" in (status.site.child, status.cloud.child):
            still = f"{revoked}, and it is up: run 'obrin connect'"
            return replace(status, disagreements=(*status.disagreements, still))
        return replace(status, revoked=revoked, disagreements=())

    return [beside_others(status) for status in found]


def _revoked(leg: Leg, settled: Settled, ends: Ends) -> str:
    """Why a tunnel must not come up: in words, empty where no certificate of it is revoked."""
    if not isinstance(leg, SettledTunnel):
        return ""
    if settled.links[leg.link].authentication != "certificate":
        return ""
    revoked = ends.revoked()
    return "; ".join(
        f"the certificate of {name} was revoked on {revoked[name]:%Y-%m-%d}"
        for name in (leg.gateway, leg.cloud)
        if name in revoked
    )


Said = dict[str, EndStatus]


def _end(said: Said | str, label: str) -> EndStatus:
    if isinstance(said, str):
        return silent(said)
    return said.get(label, NOT_CONFIGURED)


def _rests(tunnel: Leg, settled: Settled, up: set[str]) -> bool:
    if not isinstance(tunnel, SettledTunnel):
        return False
    elders = (t for t in settled.links[tunnel.link].tunnels if t.rank < tunnel.rank)
    return tunnel.role == SPARE and tunnel.label not in up and any(t.label in up for t in elders)
