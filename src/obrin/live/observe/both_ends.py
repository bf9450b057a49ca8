"""What both ends say of a tunnel, beside each other and beside the design: where they differ.

Only what both report is held against each other: what one end does not report is not a difference.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from obrin.core.known import NotKnown
from obrin.core.routing.model import accepted_at_site
from obrin.core.settled.links import Leg, SettledTunnel
from obrin.core.settled.model import Settled
from obrin.core.settled.telling import announced_by_site
from obrin.live.drivers.observations import EndStatus
from obrin.live.observe.tunnel import ESTABLISHED, TunnelStatus

FRESH = 30
"""Seconds for which a lost packet counts as present."""
TOLERANCE = 3
LOST_SHARE = 0.01
"""More packets than TOLERANCE and this share of them have to be missing before that is reported."""
LOOP = "(loop check)"
"""What a hub advertises back to where it learned it, over another way: that is correct."""


def compared(settled: Settled, tunnel: Leg, site: EndStatus, cloud: EndStatus) -> TunnelStatus:
    """What both ends say of a tunnel or circuit, beside each other and beside the design."""
    speaks = settled.bundle(tunnel).routing == "bgp"
    return TunnelStatus(
        tunnel=tunnel.label,
        rank=tunnel.rank,
        site=site,
        cloud=cloud,
        speaks=speaks,
        disagreements=(
            *_disagreements(site, cloud),
            *_beside_design(wished_of(settled, tunnel), site, cloud),
        ),
        notes=(*_silent(site, cloud), *_notes(site, cloud, speaks=speaks)),
    )


def _silent(site: EndStatus, cloud: EndStatus) -> Iterator[str]:
    for who, end in (("site", site), ("cloud", cloud)):
        if end.problem:
            yield f"of the {who}'s end nothing is known: {end.problem}"


def _disagreements(site: EndStatus, cloud: EndStatus) -> list[str]:
    """What both ends report, and report differently."""
    found = []
    if ESTABLISHED in (site.ike, cloud.ike) and _differ(site.ike, cloud.ike):
        found.append(f"IKE SA: the site says {site.ike}, the cloud {cloud.ike}")
    if _differ(site.child, cloud.child):
        found.append(f"child SA: the site says {site.child}, the cloud {cloud.child}")
    if ESTABLISHED in (site.bgp, cloud.bgp) and _differ(site.bgp, cloud.bgp):
        found.append(f"BGP: the site says {site.bgp}, the cloud {cloud.bgp}")
    for sender, receiver, one, other in (
        ("site", "cloud", site, cloud),
        ("cloud", "site", cloud, site),
    ):
        missing = _not_accepted(one, other)
        if missing and one.bgp == other.bgp == ESTABLISHED:
            found.append(
                f"the {sender} announced {', '.join(missing)}, the {receiver} did not accept it"
            )
        if one.child == "up" and (idle := _lost(one, other)) is not None:
            found.append(
                f"packets leave the {sender} and none arrive at the {receiver} "
                f"(the last {_ago(idle)})"
            )
    return [*found, *_not_rekeyed(site, cloud)]


def _differ(one: str | NotKnown, other: str | NotKnown) -> bool:
    """Whether both are reported, and are not the same."""
    return not isinstance(one, NotKnown) and not isinstance(other, NotKnown) and one != other


def _not_accepted(sender: EndStatus, receiver: EndStatus) -> list[str]:
    """Prefixes that were announced and not received, where both are reported."""
    if isinstance(sender.announced, NotKnown) or isinstance(receiver.received, NotKnown):
        return []
    looped = {text.partition(": ")[0] for text in receiver.rejected if text.endswith(LOOP)}
    return sorted(set(sender.announced) - set(receiver.received) - looped)


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
    both = site.bgp == cloud.bgp == ESTABLISHED
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
        if isinstance(end.announced, NotKnown):
            continue
        missing = sorted(mine.advertised - {*end.announced})
        if both and missing:
            does = "announces nothing" if not end.announced else "does not announce all"
            yield f"the {who} {does}: by the design it advertises {', '.join(missing)}"


def _ago(seconds: int | None) -> str:
    return f"{seconds} s ago" if seconds else "just now"


def _lost(sender: EndStatus, receiver: EndStatus) -> int | None:
    """Seconds since a packet left lately that did not arrive; None where all did, or where it is
    not reported. What left long ago says nothing of now."""
    left, arrived = sender.idle_out, receiver.idle_in
    if left is None or isinstance(left, NotKnown) or isinstance(arrived, NotKnown) or left > FRESH:
        return None
    return left if arrived is None or arrived > left + TOLERANCE else None


def _notes(site: EndStatus, cloud: EndStatus, *, speaks: bool) -> list[str]:
    """What helps to see why a tunnel is not up."""
    found = []
    ends = (("site", site), ("cloud", cloud))
    for who, end in ends:
        if end.refusal and end.child != "up":
            when = "" if end.refusal_age is None else f" {_ago(end.refusal_age)}"
            found.append(f"the {who} noted{when}: {end.refusal}")
        if speaks and end.bgp == "none":
            found.append(f"the {who} has no BGP session over it, and by the design it has one")
        if end.bgp not in ("none", ESTABLISHED) and end.bgp_error:
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
