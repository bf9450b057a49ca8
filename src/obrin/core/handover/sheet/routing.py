"""The part of a value sheet about routing: BGP sessions, static routes, what joins others."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator

from obrin.core.handover.ends.records import TunnelEnd
from obrin.core.handover.sheet.blocks import Block, Heading, Paragraph, Table
from obrin.core.handover.sheet.joining import joining
from obrin.core.handover.sheet.words import SIGNATURE_WORDS, listed, opener, seconds
from obrin.core.handover.standard.basic import interface_name
from obrin.core.settled.model import Settled


def _seldom(speakers: list[TunnelEnd]) -> Iterator[tuple[str, ...]]:
    """Rows that only some designs need."""
    rows = (
        ("Own AS in front, more often", [str(e.prepend or "") for e in speakers]),
        ("Multi-exit discriminator to advertise", [str(e.med or "") for e in speakers]),
        (
            "Communities on what it advertises (RFC 1997)",
            [", ".join(e.communities) for e in speakers],
        ),
        ("Most prefixes to take", ["" if e.limit is None else str(e.limit) for e in speakers]),
    )
    for name, values in rows:
        if any(values):
            yield name, *(value or "none" for value in values)


def _host_routes(speakers: list[TunnelEnd]) -> Iterator[tuple[str, ...]]:
    """Write it only where a peer is beyond its tunnel."""
    ways = Counter(host for end in speakers for host in end.host_routes)
    if ways:
        yield (
            HOST_ROUTE,
            *(
                _host_route(end, several=any(ways[h] > 1 for h in end.host_routes))
                for end in speakers
            ),
        )


def _host_route(end: TunnelEnd, *, several: bool) -> str:
    """`several`: other tunnels lead to the same peer."""
    return listed(end.host_routes) + (f"{ORDER_WORDS}{end.preference}" if several else "")


def _over_several(speakers: list[TunnelEnd]) -> Iterator[tuple[str, ...]]:
    """Write it only where one session has several tunnels."""
    if any(len(session.ways) > 1 for end in speakers for session in end.sessions):
        yield (
            SESSION,
            *(
                "its own"
                if len(e.sessions[0].ways) == 1
                else f"one over {' and '.join(e.sessions[0].ways)}: enter it once"
                for e in speakers
            ),
        )


def _families(speakers: list[TunnelEnd]) -> Iterator[tuple[str, ...]]:
    """Rows only where IPv6 is carried (RFC 4760)."""
    if any(end.local_insides.ipv6 is not None for end in speakers):
        yield "Address families", *map(_family_words, speakers)
        yield "Next hop for IPv6", *(str(e.local_insides.ipv6) for e in speakers)


def _family_words(end: TunnelEnd) -> str:
    held = [", ".join(_FAMILIES[bits] for bits in session.families) for session in end.sessions]
    return held[0] if len(held) == 1 else f"{' and '.join(held)}, a session each"


_FAMILIES = {32: "IPv4 unicast", 128: "IPv6 unicast"}


def _peers(end: TunnelEnd, which: int) -> str:
    """Addresses of its sessions: here (0), or at the peer (1)."""
    return " and ".join(str(session.peers[which]) for session in end.sessions)


def _signature(end: TunnelEnd) -> str:
    return f"{SIGNATURE_WORDS[end.signature]}, password in `keys.json`" if end.password else "off"


ROUTING_PART = "Routing"
SESSION, HOST_ROUTE = "Session", "Static host route to it, into the tunnel"
ORDER_WORDS = ", order "
OF_EACH_WAY = (SESSION, HOST_ROUTE)
"""Rows that are entered for each tunnel of a session that goes over several."""
ROUTES_HEAD = ("Destination", "Through", "Order", "Withdraw when")


def routing(settled: Settled, place: str, ends: tuple[TunnelEnd, ...]) -> Iterator[Block]:
    yield Heading(2, f"4. {ROUTING_PART}")
    speakers = [end for end in ends if end.routing == "bgp"]
    static = [end for end in ends if end.routing == "static"]
    if speakers:
        yield Table(
            ("Value", *(end.tunnel for end in speakers)),
            column_legs=(end.tunnel for end in speakers),
            rows=[
                *_over_several(speakers),
                ("BGP peer address", *(_peers(e, 1) for e in speakers)),
                ("BGP source address", *(_peers(e, 0) for e in speakers)),
                ("Peer's AS number", *(str(e.remote_as) for e in speakers)),
                ("Session opened by", *map(opener, speakers)),
                *_families(speakers),
                ("Hold time", *(seconds(e.hold) for e in speakers)),
                ("Keepalive", *(seconds(e.hold // 3) for e in speakers)),
                (
                    "Multihop",
                    *("on, 2 hops" if e.sessions[0].beyond else "off" for e in speakers),
                ),
                *_host_routes(speakers),
                ("TCP signature", *map(_signature, speakers)),
                ("Local preference for its routes", *(str(e.local_pref) for e in speakers)),
                ("Announce to it", *(listed(e.local_prefixes) for e in speakers)),
                ("Accept from it", *(listed(e.remote_prefixes) for e in speakers)),
                *_seldom(speakers),
            ],
        )
        yield Paragraph("Nothing else is announced or accepted.")
    by_policy = [end.tunnel for end in static if end.selection == "policy"]
    if by_policy:
        which = "" if len(by_policy) == len(ends) else f" for {', '.join(by_policy)}"
        yield Paragraph(
            f"No routes{which}: the policies' traffic selectors (3) lead into the tunnels, in "
            "order."
        )
    routed = [
        (end, prefix)
        for end in static
        if end.selection == "interface"
        for prefix in end.remote_prefixes
        if end.remote_insides.of(prefix.bits) is not None
    ]
    if routed:
        yield Table(
            ROUTES_HEAD,
            keys=2,
            name="routes",
            listed=True,
            row_legs=(end.tunnel for end, _ in routed),
            rows=(
                (str(p), interface_name(e.tunnel), str(e.preference), "the tunnel's IKE SA is down")
                for e, p in routed
            ),
        )
    yield from joining(settled, place)
