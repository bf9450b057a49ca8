"""The hosts behind a device, and what `probe` and `stream` ask of them."""

from __future__ import annotations

import asyncio
import itertools
import math
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import Any

from obrin.core.address.prefix import Prefix, format_address
from obrin.core.design.values import PROTOCOLS
from obrin.core.settled.model import host_of
from obrin.live.practice.service import Problem
from obrin.wire.host import Host, Query
from obrin.wire.packet import ICMP


class Hosts:
    """One practice host in every network, reachable by address."""

    def __init__(self, networks: Iterable[Prefix], rng: Callable[[int], bytes]) -> None:
        self._rng = rng
        self.by_address: dict[int, Host] = {}
        self.take(networks)

    def take(self, networks: Iterable[Prefix]) -> None:
        """Other networks; hosts that are still in one stay as they are."""
        wanted = dict.fromkeys(map(host_of, networks))
        self.by_address = {a: self.by_address.get(a) or Host(a, self._rng) for a in wanted}

    def find(self, address: int) -> Host:
        host = self.by_address.get(address)
        if host is None:
            raise Problem(404, "no such host", f"no practice host has {format_address(address)}")
        return host

    def drops(self) -> list[Json]:
        """What the hosts could do nothing with, in the shape of obrin-observe's list `drop`."""
        return host_drops(self.by_address.values())

    def next_timer(self) -> float:
        return min((h.next_timer() for h in self.by_address.values()), default=float("inf"))

    def handle_timer(self, now: float) -> None:
        for host in self.by_address.values():
            host.handle_timer(now)


Json = dict[str, Any]


def host_drops(hosts: Iterable[Host]) -> list[Json]:
    """Of each host by reason."""
    return [
        {
            "place": f"host {format_address(host.address)}", "reason": reason,
            "source": "0.0.0.0", "destination": format_address(host.address), "protocol": 0,
            "source-port": 0, "destination-port": 0, "count": str(count),
        }
        for host in hosts
        for reason, count in host.drops.items()
    ]  # fmt: skip


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
