"""What `probe` and `stream` ask of a practice host, in real time."""

from __future__ import annotations

import asyncio
import itertools
import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from obrin.core.address.prefix import format_address
from obrin.core.design.values import PROTOCOLS
from obrin.device.hosts import Hosts
from obrin.live.practice.service import Problem
from obrin.wire.host import Host, Query
from obrin.wire.packet import ICMP


def find_host(hosts: Hosts, address: int) -> Host:
    """Raises Problem."""
    host = hosts.get(address)
    if host is None:
        raise Problem(404, "no such host", f"no practice host has {format_address(address)}")
    return host


def protocol_of(given: dict[str, Any]) -> int:
    """Raises KeyError, TypeError."""
    return PROTOCOLS[given["protocol"]]


def port_of(given: dict[str, Any]) -> int:
    """Raises ValueError, TypeError."""
    port = int(given.get("port", 0))
    if not 0 <= port <= 65535:
        raise ValueError(f"port {port} is not between 0 and 65535")
    return port


def seconds_of(
    given: dict[str, Any], name: str, least: float, most: float, usual: float | None = None
) -> float:
    """Seconds within what is sensible. Raises KeyError, ValueError, TypeError."""
    seconds = float(given[name] if usual is None else given.get(name, usual))
    if math.isnan(seconds):
        raise ValueError(f"{name} is no number")
    return min(max(seconds, least), most)


@dataclass(frozen=True, slots=True)
class ProbeResult:
    answered: bool
    refused: bool
    seconds: float
    source_port: int


async def probe(
    host: Host,
    protocol: int,
    destination: int,
    port: int,
    timeout: float,
    kick: Callable[[], None],
    clock: Callable[[], float],
) -> ProbeResult:
    """One question, asked again once when half the time is over (a tunnel may be waking)."""
    begun = clock()
    query: Query | None = None
    try:
        for part in (timeout / 2, timeout / 2):
            if query is not None:
                host.forget(query)
            query = host.ask(protocol, destination, port, clock())
            kick()
            until = clock() + part
            while clock() < until:
                if query.answered_at is not None:
                    return ProbeResult(True, False, query.answered_at - begun, query.source_port)
                if query.refused:
                    return ProbeResult(False, True, clock() - begun, query.source_port)
                await asyncio.sleep(0.005)
        return ProbeResult(False, False, clock() - begun, query.source_port if query else 0)
    finally:
        if query is not None:
            host.forget(query)
            kick()


@dataclass(frozen=True, slots=True)
class StreamResult:
    """`longest_gap` is the longest time between two answers that arrived, in seconds."""

    sent: int
    answered: int
    longest_gap: float


async def stream(
    host: Host,
    destination: int,
    interval: float,
    duration: float,
    kick: Callable[[], None],
    clock: Callable[[], float],
) -> StreamResult:
    """Echo requests at a steady pace; answers are matched one by one."""
    begun = clock()
    queries: list[Query] = []
    while clock() < begun + duration:
        queries.append(host.ask(ICMP, destination, 0, clock()))
        kick()
        await asyncio.sleep(max(0.0, begun + len(queries) * interval - clock()))
    await asyncio.sleep(min(0.3, interval * 4))
    for query in queries:
        host.forget(query)
    answers = sorted(q.answered_at for q in queries if q.answered_at is not None)
    edges = [begun, *answers, begun + duration]
    gap = max(b - a for a, b in itertools.pairwise(edges))
    return StreamResult(len(queries), len(answers), gap)
