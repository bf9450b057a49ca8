"""Compares both ends of every tunnel and circuit, and says where they disagree."""

from __future__ import annotations

import re
import time
from collections.abc import Callable, Collection, Iterator
from dataclasses import dataclass, replace
from datetime import datetime

from obrin.core.design.arrangement import SPARE
from obrin.core.errors import OutsideError
from obrin.core.json_text import Json
from obrin.core.routing.model import accepted_at_site
from obrin.core.settled.links import Leg, SettledTunnel
from obrin.core.settled.model import Settled
from obrin.core.settled.telling import announced_by_site
from obrin.live.drivers.asking import side_by_side
from obrin.live.drivers.observations import (
    ANNOUNCED,
    IKE_SA,
    NOT_CONFIGURED,
    RECEIVED,
    SESSION,
    UNKNOWABLE,
    EndStatus,
)
from obrin.live.drivers.protocol import Ends
from obrin.wire.ike.endpoint import NO_PEER

FRESH = 30
"""Seconds for which a lost packet counts as present."""
TOLERANCE = 3
UP, ODD, REST, UNKNOWN, REVOKED, DOWN = (
    "up",
    "up, ends disagree",
    "at rest",
    "not asked",
    "revoked",
    "DOWN",
)
STATES = UP, ODD, REST, UNKNOWN, REVOKED, DOWN
"""What a tunnel or circuit is, in a word; UNKNOWN where an end is configured by hand, REVOKED
where the certificates of an end are, so that it has to stay down."""
LOOP = "(loop check)"
"""What a hub advertises back to where it learned it, over another way: that is correct."""
ASK_AGAIN_AFTER = 0.5
CLOCK_TOLERANCE = 5.0
"""Seconds; asking takes time, and clocks are reported in whole ones."""
LOST_SHARE = 0.01
"""More packets than TOLERANCE and this share of them have to be missing before that is reported."""


@dataclass(frozen=True, slots=True, kw_only=True)
class TunnelStatus:
    """`rests`: it is a spare, and one of those that it stands in for is up. `revoked` says whose
    certificates are revoked, and since when, where the tunnel is not to come up for that."""

    tunnel: str
    rank: int
    site: EndStatus
    cloud: EndStatus
    disagreements: tuple[str, ...] = ()
    notes: tuple[str, ...] = ()
    rests: bool = False
    revoked: str = ""

    @property
    def as_wished(self) -> bool:
        """Up, or down because it is a spare that is not needed, or revoked; or nobody can ask."""
        return self.up or self.rests or self.unknown or bool(self.revoked)

    @property
    def unknown(self) -> bool:
        """An end is configured by hand, and the other says nothing against it."""
        asked = [end for end in (self.site, self.cloud) if end.problem not in UNKNOWABLE]
        return len(asked) < 2 and all(map(_up, asked))

    @property
    def state(self) -> str:
        """One of STATES."""
        if self.up:
            return ODD if self.disagreements else UP
        if self.rests:
            return REST
        if self.revoked:
            return REVOKED
        return UNKNOWN if self.unknown else DOWN

    @property
    def right(self) -> bool:
        """Whether the tunnel is as wished and its ends agree."""
        return self.as_wished and not self.disagreements

    @property
    def up(self) -> bool:
        """Up at both ends, BGP included where it is spoken."""
        return all(map(_up, (self.site, self.cloud)))

    def as_json(self) -> Json:
        def end(one: EndStatus) -> Json:
            return {name: getattr(one, name) for name in EndStatus.__slots__}

        return {
            "tunnel": self.tunnel,
            "rank": self.rank,
            "up": self.up,
            "right": self.right,
            "rests": self.rests,
            "revoked": self.revoked,
            "site": end(self.site),
            "cloud": end(self.cloud),
            "disagreements": list(self.disagreements),
            "notes": list(self.notes),
        }


def _up(end: EndStatus) -> bool:
    good = SESSION in end.unreported or end.bgp in ("none", "established")
    return end.child == "up" and good


def read_status(
    settled: Settled, ends: Ends, links: Collection[str] | None = None
) -> list[TunnelStatus]:
    """Ask the ends of everything, or of some `links` only; once more, where they seem to disagree.

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


def read_clocks(ends: Ends, now: Callable[[], datetime]) -> dict[str, float]:
    """Gateways whose clock is wrong, and by how many seconds: positive where it is ahead. Those
    that do not answer, or do not report it, are left out."""

    def wrong(name: str) -> float:
        try:
            advertised = ends.gateways[name].clock()
        except OutsideError:
            return 0.0
        return 0.0 if advertised is None else (advertised - now()).total_seconds()

    names = list(ends.gateways)
    found = zip(names, side_by_side(wrong, names), strict=True)
    return {name: seconds for name, seconds in found if abs(seconds) > CLOCK_TOLERANCE}


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
        asked = [tunnel for link in links for tunnel in settled.links[link].tunnels]
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
    up = {status.tunnel for status in found if status.up}
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
        return EndStatus(problem=said)
    return said.get(label, NOT_CONFIGURED)


def _rests(tunnel: Leg, settled: Settled, up: set[str]) -> bool:
    if not isinstance(tunnel, SettledTunnel):
        return False
    elders = (t for t in settled.links[tunnel.link].tunnels if t.rank < tunnel.rank)
    return tunnel.role == SPARE and tunnel.label not in up and any(t.label in up for t in elders)


def compared(settled: Settled, tunnel: Leg, site: EndStatus, cloud: EndStatus) -> TunnelStatus:
    """What both ends say of a tunnel or circuit, beside each other and beside the design."""
    return TunnelStatus(
        tunnel=tunnel.label,
        rank=tunnel.rank,
        site=site,
        cloud=cloud,
        disagreements=(
            *_disagreements(site, cloud),
            *_beside_design(wished_of(settled, tunnel), site, cloud),
        ),
        notes=tuple(_notes(site, cloud)),
    )


def _disagreements(site: EndStatus, cloud: EndStatus) -> list[str]:
    found = []
    if site.problem or cloud.problem:
        problems = (site.problem, cloud.problem)
        return [text for text in problems if text and text not in UNKNOWABLE]
    unreported = {*site.unreported, *cloud.unreported}
    if (
        IKE_SA not in unreported
        and site.ike != cloud.ike
        and "established" in (site.ike, cloud.ike)
    ):
        found.append(f"IKE SA: the site says {site.ike}, the cloud {cloud.ike}")
    if site.child != cloud.child:
        found.append(f"child SA: the site says {site.child}, the cloud {cloud.child}")
    if SESSION not in unreported and (site.bgp == "established") != (cloud.bgp == "established"):
        found.append(f"BGP: the site says {site.bgp}, the cloud {cloud.bgp}")
    for sender, receiver, one, other in (
        ("site", "cloud", site, cloud),
        ("cloud", "site", cloud, site),
    ):
        looped = {text.partition(": ")[0] for text in other.rejected if text.endswith(LOOP)}
        missing = set(one.announced) - set(other.received) - looped
        advertised = ANNOUNCED not in one.unreported and RECEIVED not in other.unreported
        if advertised and missing and one.bgp == other.bgp == "established":
            found.append(
                f"the {sender} announced {', '.join(sorted(missing))}, "
                f"the {receiver} did not accept it"
            )
        if one.child == "up" and _lost(one, other):
            found.append(
                f"packets leave the {sender} and none arrive at the {receiver} "
                f"(the last {_ago(one.idle_out)})"
            )
    return [*found, *_not_rekeyed(site, cloud)]


def _not_rekeyed(site: EndStatus, cloud: EndStatus) -> Iterator[str]:
    """A tunnel that is up and will not stay so. Both ends note it; the one that refuses knows why.
    What only came at a bad moment is tried again (RFC 7296 section 2.25)."""
    noted = [
        (who, end)
        for who, end in (("site", site), ("cloud", cloud))
        if end.child == "up" and end.refused_rekey and "TEMPORARY_FAILURE" not in end.refusal
    ]
    for who, end in sorted(noted, key=lambda found: "this end" not in found[1].refusal)[:1]:
        yield (
            f"the {end.refused_rekey} is not rekeyed, as the {who} noted "
            f"{_ago(end.refusal_age)}: {end.refusal}; it stops when its lifetime is over"
        )


@dataclass(frozen=True, slots=True)
class Wished:
    """What the design has an end be and advertise: its addresses, and prefixes over BGP."""

    outside: str
    inside: str
    advertised: frozenset[str]


def wished_of(settled: Settled, tunnel: Leg) -> tuple[Wished, Wished]:
    """What the site's end and the cloud's end should show. What a hub passes on depends on what it
    learns, so it is left open."""
    bundle, hub = settled.bundle(tunnel), settled.clouds[tunnel.cloud].is_hub
    advertised = announced_by_site(bundle), () if hub else accepted_at_site(settled, bundle)
    outside: tuple[object, object] = ("", "")
    if isinstance(tunnel, SettledTunnel):
        outside = tunnel.uplink.address, tunnel.cloud_address
    inside = tunnel.site_inside, tunnel.cloud_inside
    site, cloud = (
        Wished(str(public), str(address), frozenset(map(str, prefixes)))
        for public, address, prefixes in zip(outside, inside, advertised, strict=True)
    )
    return site, cloud


def _beside_design(
    wished: tuple[Wished, Wished], site: EndStatus, cloud: EndStatus
) -> Iterator[str]:
    both = site.bgp == cloud.bgp == "established"
    for who, end, mine, peers in (("site", site, *wished), ("cloud", cloud, *wished[::-1])):
        if (end.inside, end.inside_of_peer) == (peers.inside, mine.inside):
            yield (
                f"the {who} has the two inside addresses exchanged: its own is to be {mine.inside}"
            )
            continue
        for what, found, right in (
            ("its own inside address", end.inside, mine.inside),
            ("its peer's inside address", end.inside_of_peer, peers.inside),
            ("its peer's public address", end.outside_of_peer, peers.outside),
        ):
            if found and found != right:
                yield f"the {who} has {found} as {what}, by the design it is {right}"
        missing = sorted(mine.advertised - {*end.announced})
        if both and missing and ANNOUNCED not in end.unreported:
            does = "announces nothing" if not end.announced else "does not announce all"
            yield f"the {who} {does}: by the design it advertises {', '.join(missing)}"


def _ago(seconds: int | None) -> str:
    return f"{seconds} s ago" if seconds else "just now"


def _lost(sender: EndStatus, receiver: EndStatus) -> bool:
    """Whether what left lately did not arrive; what left long ago says nothing of now."""
    if sender.idle_out is None or sender.idle_out > FRESH:
        return False
    return receiver.idle_in is None or receiver.idle_in > sender.idle_out + TOLERANCE


def _notes(site: EndStatus, cloud: EndStatus) -> list[str]:
    """What helps to see why a tunnel is not up."""
    found = []
    ends = (("site", site), ("cloud", cloud))
    for who, end in ends:
        if end.refusal and end.child != "up":
            when = "" if end.refusal_age is None else f" {_ago(end.refusal_age)}"
            found.append(f"the {who} noted{when}: {end.refusal}")
        if end.bgp not in ("none", "established") and end.bgp_error:
            when = "" if end.bgp_error_age is None else f" {_ago(end.bgp_error_age)}"
            found.append(f"the {who} lost BGP{when}: {end.bgp_error}")
    for sender, receiver, end in (("cloud", "site", site), ("site", "cloud", cloud)):
        if end.missing > max(TOLERANCE, LOST_SHARE * end.counted):
            share = 100 * end.missing / end.counted
            found.append(
                f"of the last {end.counted} packets of the {sender}, {end.missing} ({share:.0f} %) "
                f"did not arrive at the {receiver}"
            )
    return found
