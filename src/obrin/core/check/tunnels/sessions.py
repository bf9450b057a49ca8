"""BGP sessions beyond their tunnels: which can be, and what they outlive."""

from __future__ import annotations

import math
from collections.abc import Iterator

from obrin.core.check.finding import Finding, Severity
from obrin.core.drill.detection import detectors
from obrin.core.quantity import plain
from obrin.core.settled.links import SettledLink, SettledTunnel
from obrin.core.settled.model import Settled
from obrin.core.settled.sessions import SettledSession, sessions_of


def sessions(settled: Settled) -> Iterator[Finding]:
    """One host route leads to a peer beyond the tunnel: what goes over it is one session."""
    first: dict[tuple[str, str, int], SettledSession] = {}
    for link in settled.links.values():
        for session in sessions_of(link):
            if not session.first.ends_beyond:
                continue
            for tunnel in session.tunnels:
                pair = tunnel.gateway, tunnel.cloud, tunnel.instance
                other = first.setdefault(pair, session)
                if other is not session:
                    yield _in_the_way(other.first, tunnel)
            if len(session.tunnels) > 1:
                if len(session.families) > 1:
                    yield _next_hop_in_one(session)
                yield from _over_too_soon(settled, link, session)


def _in_the_way(other: SettledTunnel, tunnel: SettledTunnel) -> Finding:
    return Finding(
        Severity.ERROR,
        "peer-two-ways",
        ("links", tunnel.link, "bgp", "site-end" if tunnel.beyond[1] is None else "cloud-end"),
        f"{other.label} and {tunnel.label} both join {tunnel.gateway} and instance "
        f"{tunnel.instance} of {tunnel.cloud}, and their sessions end beyond them",
        "the route to the peer leads through one of the two: they stand in each other's way, and "
        "one or both never come up",
        "end both sessions beyond the tunnels at both ends and in one link, so that they are one; "
        "or each tunnel at an instance of its own, or the sessions inside",
    )


def _next_hop_in_one(session: SettledSession) -> Finding:
    listed = " and ".join(tunnel.label for tunnel in session.tunnels)
    return Finding(
        Severity.ERROR,
        "next-hop-one-way",
        ("links", session.first.link, "bgp"),
        f"one session over {listed} carries both families, and the next hop of its IPv6 routes is "
        f"inside {session.first.label}",
        f"when {session.first.label} is down the session goes on, and IPv6 has no way",
        "end each tunnel at an instance of its own, or the sessions inside",
    )


def _over_too_soon(
    settled: Settled, link: SettledLink, session: SettledSession
) -> Iterator[Finding]:
    """The next tunnel takes over when the first is known to be dead, and not before."""
    noticed = detectors(settled, link, session.first)
    soonest = min((found.longest for found in noticed), default=float("inf"))
    if soonest > link.hold * 2 / 3:
        what = f"{noticed[0].name}, after up to {plain(soonest)} s" if noticed else "nothing"
        yield Finding(
            Severity.WARNING,
            "session-over-first",
            ("links", link.name, "bgp", "hold-time"),
            f"one session over {' and '.join(t.label for t in session.tunnels)} is over after "
            f"{link.hold} s without news; what notices a dead tunnel is {what}",
            f"when {session.first.label} dies the session ends before the other tunnel takes it "
            "over, and all its routes with it until it is up again",
            f"make the hold time at least {math.ceil(soonest * 1.5)} s, or notice sooner: BFD, "
            "quicker liveness"
            if noticed
            else "use BFD or dead-peer detection",
        )
