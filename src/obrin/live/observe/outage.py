"""Measuring an outage: a steady stream of echo requests across a link while something is cut."""

from __future__ import annotations

import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor

from obrin.core.design.values import PROTOCOLS
from obrin.core.errors import OutsideError
from obrin.core.reach.trace import probe_key
from obrin.core.settled.expected import Expected
from obrin.core.settled.model import Settled
from obrin.live.drivers.observations import Question, Streamed
from obrin.live.drivers.protocol import Ends, GatewayDriver


def echo_expectation(settled: Settled) -> Expected:
    """A flow of echo requests from a site that must work. Raises OutsideError without one."""
    for expectation in settled.own_expectations():
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
) -> Streamed:
    """Stream for `lead` seconds, cut, and go on for `duration` seconds."""
    wish = echo_expectation(settled)
    key = probe_key(settled, wish)
    question = Question(
        source=key.source,
        destination=key.destination,
        protocol="icmp",
        port=0,
        timeout=0.0,
    )
    with ThreadPoolExecutor(1) as pool:
        asked = _gateway(settled, ends, wish).stream
        future = pool.submit(asked, question, interval, lead + duration)
        time.sleep(lead)
        cut()
        return future.result()


def _gateway(settled: Settled, ends: Ends, wish: Expected) -> GatewayDriver:
    """Raises OutsideError where nobody can be asked."""
    for name in settled.sites[wish.source.place].gateways:
        if name in ends.gateways:
            return ends.gateways[name]
    raise OutsideError(f"no gateway of {wish.source.place} has an endpoint to measure with")


def carrying(settled: Settled, ends: Ends) -> str:
    """The tunnel that the measured flow takes now, by the site gateway's own table."""
    wish = echo_expectation(settled)
    target = probe_key(settled, wish).destination
    routes = _gateway(settled, ends, wish).routes()
    found = [(r.prefix.length, r.via) for r in routes if r.prefix.holds(target)]
    return max(found, default=(0, "no tunnel"))[1]
