"""A flood of first messages by real sockets and a real clock: the tunnels that stand lose nothing, and
the peer in whose name it comes gets in.

The practice world runs in this process by the clock on the wall, and what the flood costs it costs the
same processor core. Another process sends it.
"""

from __future__ import annotations

import asyncio
import itertools
import multiprocessing
import socket
import time
from collections.abc import Iterator

import pytest

from obrin.core.design.places import NetworkRef
from obrin.core.settled.model import host_of
from obrin.device.router.router import Router
from obrin.device.tunnels.outside import in_udp
from obrin.live.practice.internet.cable import Port
from obrin.live.practice.internet.internet import CLOUD
from tests.doubles import settled_of, swap
from tests.live.virtual_world import VirtualWorld
from tests.wire.test_flood import firsts

SETTLED = settled_of(swap())
EVERY = 0.02
"""Seconds between two echo requests."""
IN_ONE_GO = 20


def flood(port: int, packets: list[bytes], rate: float, seconds: float) -> None:
    """Another process: so many a second, in small bursts."""
    out = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    begun, sent, ring = time.monotonic(), 0, itertools.cycle(packets)
    while (now := time.monotonic() - begun) < seconds:
        while sent < now * rate:
            for packet in itertools.islice(ring, IN_ONE_GO):
                out.sendto(packet, ("127.0.0.1", port))
            sent += IN_ONE_GO
        time.sleep(0.001)


class Scene:
    """The world by the wall's clock, from when it is up."""

    def __init__(self) -> None:
        self.world = VirtualWorld(SETTLED)
        self.world.run(15.0)
        ends = (NetworkRef.of(name) for name in ("quay/desks", "apps/web"))
        self.desk, self.web = (host_of(SETTLED.network(end)) for end in ends)
        self.begun, self.offset = time.monotonic(), self.world.now
        self.asked: list[tuple[object, float]] = []
        self.flooded = 0
        self._own: set[bytes] = set()
        self._out = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        self._to: tuple[str, int] | None = None

    def share(self, port: int) -> None:
        """What the sites send to the cloud comes by the same socket as the flood."""
        self._to = ("127.0.0.1", port)
        deliver = self.world._deliver

        def by_socket(cable: str, packet: bytes) -> None:
            if cable != CLOUD:
                deliver(cable, packet)
                return
            self._own.add(packet)
            self._out.sendto(packet, self._to)

        self.world._deliver = by_socket  # type: ignore[method-assign]

    def now(self) -> float:
        return time.monotonic() - self.begun + self.offset

    def forged(self, data: bytes, _sender: object) -> None:
        if data in self._own:
            self._own.discard(data)
        else:
            self.flooded += 1
        self.world.cloud.receive(data, self.world.now)

    def step(self) -> None:
        self.world.run(max(0.0, self.now() - self.world.now))

    async def go_on(self, seconds: float) -> None:
        until, due = self.now() + seconds, self.now()
        host = self.world.host(self.desk)
        while self.now() < until:
            if self.now() >= due:
                due += EVERY
                self.asked.append((host.ask(1, self.web, 0, self.world.now), self.now()))
            self.step()
            await asyncio.sleep(0.002)

    async def sessions_up(self, router: Router) -> None:
        begun = self.now()
        while not all(n.session.established for n in router.bgp.speaker.neighbours.values()):
            await self.go_on(0.1)
            assert self.now() - begun < 20.0

    def lost(self) -> int:
        return sum(query.answered_at is None for query, _ in self.asked)


def forgeries() -> Iterator[bytes]:
    """In the name of the peer of every tunnel in turn."""
    ends = itertools.cycle(
        [(str(t.uplink.address), str(t.cloud_address)) for t in SETTLED.tunnels()]
    )
    for (mine, theirs), data in zip(ends, firsts(), strict=False):
        yield in_udp((mine, 500), (theirs, 500), data)


def held_out(rate: float, seconds: float, *, share: bool) -> None:
    packets = list(itertools.islice(forgeries(), 5000))

    async def scene() -> tuple[int, int, int, list[float]]:
        all_ = Scene()
        port = Port(all_.forged)
        if share:
            all_.share(port.number)
        by = multiprocessing.get_context("spawn").Process(
            target=flood, args=(port.number, packets, rate, seconds + 60.0)
        )
        by.start()
        while not all_.flooded:
            await all_.go_on(0.1)
        took = []
        router = next(iter(all_.world.routers.values()))
        for label in ("quay-apps/b", "quay-apps/a"):
            await all_.go_on(seconds / 2)
            router.begin_anew(label, all_.world.now)
            begun = all_.now()
            while not router.ike.tunnels[label].established:
                await all_.go_on(0.05)
                assert all_.now() - begun < 10.0
            took.append(all_.now() - begun)
            await all_.sessions_up(router)  # before the other one goes
        by.terminate()
        by.join()
        await all_.go_on(0.5)
        port.close()
        return all_.lost(), len(all_.asked), all_.flooded, took

    lost, asked, flooded, took = asyncio.run(scene())
    print(f"{flooded} forged, {lost} of {asked} lost, handshakes {took} s")
    assert flooded > rate * seconds * 0.5, "the flood was no flood"
    assert lost <= asked / 1000 + 1, f"{lost} of {asked}"


@pytest.mark.long
@pytest.mark.alone
def test_a_short_flood_by_real_sockets() -> None:
    held_out(2_000, 3.0, share=True)


@pytest.mark.slow
def test_ten_thousand_a_second_for_a_minute() -> None:
    """The world's own packets come by themselves: one process that is everything at once cannot read
    ten thousand a second, and what its socket cannot hold is lost before the gateway sees it."""
    held_out(10_000, 60.0, share=False)
