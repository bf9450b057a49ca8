"""What `probe` and `stream` ask of a practice host, in real time."""

from __future__ import annotations

import asyncio
import itertools
import math
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import Any

from obrin.core.address.prefix import Address, parse_address
from obrin.core.design.values import PROTOCOLS
from obrin.device.lan.hosts import Hosts
from obrin.live.practice.service import Problem
from obrin.wire.host import LINK_MTU, Host, Query
from obrin.wire.packet import ICMP


def find_host(networks: Iterable[Hosts], address: Address) -> Host:
    """Raises Problem."""
    found = (hosts.own(address) for hosts in networks)
    host = next((host for host in found if host is not None), None)
    if host is None:
        raise Problem(404, "no such host", f"no practice network has {address}")
    return host


def ends_of(given: dict[str, Any]) -> tuple[Address, Address]:
    """Source and destination, of one family. Raises KeyError, AddressError, ValueError."""
    source, destination = parse_address(given["source"]), parse_address(given["destination"])
    if source.bits != destination.bits:
        raise ValueError(f"{source} and {destination} are of different families")
    return source, destination


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
        raise ValueError(f"{name} is not a number")
    return min(max(seconds, least), most)


@dataclass(frozen=True, slots=True)
class ProbeResult:
    answered: bool
    refused: bool
    seconds: float
    source_port: int
    too_big: int
    mss: int
    sent_whole: bool
    received_whole: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class Asked:
    """What a probe asks: `size` in bytes of its packet, 0 for a small one, and whether it may be
    cut on its way; `timeout` in seconds."""

    protocol: int
    destination: Address
    port: int
    timeout: float
    size: int = 0
    fragmentable: bool = False

    @staticmethod
    def of(given: dict[str, Any], destination: Address) -> Asked:
        """Raises KeyError, ValueError, TypeError."""
        return Asked(
            protocol=protocol_of(given),
            destination=destination,
            port=port_of(given),
            timeout=seconds_of(given, "timeout", 0.1, 30.0, 2.0),
            size=min(max(int(given.get("size", 0)), 0), LINK_MTU),
            fragmentable=given.get("fragmentable") is True,
        )


async def probe(
    host: Host, asked: Asked, kick: Callable[[], None], clock: Callable[[], float]
) -> ProbeResult:
    """One question, asked again once when half the time is over (a tunnel may be waking)."""
    begun = clock()
    query: Query | None = None
    try:
        for part in (asked.timeout / 2, asked.timeout / 2):
            if query is not None:
                host.forget(query)
            query = host.ask(
                asked.protocol,
                asked.destination,
                asked.port,
                clock(),
                asked.size,
                may_fragment=asked.fragmentable,
            )
            kick()
            until = clock() + part
            while clock() < until:
                if _is_over(query):
                    return _result(query, begun, clock())
                await asyncio.sleep(0.005)
        if query is None:
            raise AssertionError("nothing was asked")
        return _result(query, begun, clock())
    finally:
        if query is not None:
            host.forget(query)
            kick()


def _is_over(query: Query) -> bool:
    """Whether there is nothing more to wait for."""
    if query.answered_at is None:
        return bool(query.refused or query.too_big)
    return not query.segments or (query.sent_whole and query.received_whole)


def _result(query: Query, begun: float, now: float) -> ProbeResult:
    """Result so far; the MSS is what both ends of a connection agreed on, and whether segments of
    that size crossed."""
    answered = query.answered_at is not None
    return ProbeResult(
        answered=answered,
        refused=query.refused and not answered,
        seconds=(now if query.answered_at is None else query.answered_at) - begun,
        source_port=query.source_port,
        too_big=query.too_big,
        mss=query.connection.mss if answered and query.connection is not None else 0,
        sent_whole=query.sent_whole,
        received_whole=query.received_whole,
    )


@dataclass(frozen=True, slots=True)
class StreamResult:
    """`longest_gap` is the longest time between two answers that arrived, in seconds."""

    sent: int
    answered: int
    longest_gap: float


async def stream(
    host: Host,
    destination: Address,
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
