"""Measuring an outage: a steady stream of echo requests across a link while something is cut."""

from __future__ import annotations

import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

from obrin.core.address.prefix import format_address, parse_prefix
from obrin.core.design.model import Expectation
from obrin.core.design.values import PROTOCOLS
from obrin.core.errors import OutsideError
from obrin.core.reach.trace import probe_key
from obrin.core.settled.model import Settled
from obrin.live.http import Ends


@dataclass(frozen=True, slots=True)
class MeasuredOutage:
    """`seconds` is the longest time between two answers."""

    seconds: float
    sent: int
    answered: int


def echo_expectation(settled: Settled) -> Expectation:
    """A flow of echo requests from a site that must work. Raises OutsideError without one."""
    for expectation in settled.expectations:
        place = expectation.source.place
        wanted = expectation.flow.protocol in (None, PROTOCOLS["icmp"])
        if wanted and expectation.must == "work" and place in settled.sites:
            return expectation
    raise OutsideError(
        "nothing to measure with: add an expectation with flow icmp, from a site, that must work"
    )


def measure_outage(
    settled: Settled,
    ends: Ends,
    cut: Callable[[], None],
    *,
    interval: float,
    lead: float,
    duration: float,
) -> MeasuredOutage:
    """Stream for `lead` seconds, cut, and go on for `duration` seconds."""
    wish = echo_expectation(settled)
    site = wish.source.place
    gateway = next(g.name for g in settled.gateways.values() if g.site == site)
    given = {
        "source": format_address(probe_key(settled, wish).source),
        "destination": format_address(probe_key(settled, wish).destination),
        "interval": f"{interval:.3f}",
        "duration": f"{lead + duration:.3f}",
    }
    with ThreadPoolExecutor(1) as pool:
        future = pool.submit(ends.gateways[gateway].operate, "stream", given)
        time.sleep(lead)
        cut()
        result = future.result()
    return MeasuredOutage(
        float(result["longest-gap"]), int(result["sent"]), int(result["answered"])
    )


def carrying(settled: Settled, ends: Ends) -> str:
    """The tunnel that the measured flow takes now, by the site gateway's own table."""
    wish = echo_expectation(settled)
    site = wish.source.place
    gateway = next(g.name for g in settled.gateways.values() if g.site == site)
    target = probe_key(settled, wish).destination
    routes = ends.gateways[gateway].state().get("route", [])
    found = [(parse_prefix(r["prefix"]), r["via"]) for r in routes]
    best = max(
        ((p.length, via) for p, via in found if p.contains(target)), default=(0, "no tunnel")
    )
    return str(best[1])
