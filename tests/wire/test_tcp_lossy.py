"""TCP over ways that lose, double and reorder: everything arrives, in order and soon (RFC 5681, 6298, 2018,
6675), signed or not, with a peer that takes selective acknowledgements or does not."""

from __future__ import annotations

import contextlib
import heapq
import itertools
import random

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from obrin.core.address.prefix import parse_address
from obrin.wire.errors import PacketError
from obrin.wire.packet import decode_packet
from obrin.wire.tcp import Connection, TcpStack
from obrin.wire.tcp_arrivals import MOST_PARTS, Arrivals
from obrin.wire.tcp_flight import FIRST_SEGMENTS, FIRST_WAIT, Flight
from obrin.wire.tcp_protection import protection
from obrin.wire.tcp_segment import SYN, decode_segment
from tests.doubles import seeded

ONE, TWO = parse_address("169.254.1.1"), parse_address("169.254.1.2")
SIZE = 300_000


class Way:
    """Two stacks and a way between them, in virtual time."""

    def __init__(
        self,
        seed: int,
        *,
        loss: float = 0.0,
        reorder: float = 0.0,
        double: float = 0.0,
        delay: float = 0.01,
        password: str = "",
        old: bool = False,
    ) -> None:
        self.rng = random.Random(f"way:{seed}")
        self.loss, self.reorder, self.double, self.delay, self.old = (
            loss,
            reorder,
            double,
            delay,
            old,
        )
        self.stacks = {ONE: TcpStack(seeded(seed)), TWO: TcpStack(seeded(seed + 1))}
        if password:
            for here, there in ((ONE, TWO), (TWO, ONE)):
                made = protection("tcp-md5", password.encode())
                self.stacks[here].protections[here, there] = made
        self.accepted: list[Connection] = []
        self.stacks[TWO].listen(TWO, 179, self.accepted.append)
        self.now, self.sent = 0.0, 0
        self._count = itertools.count()
        self._flying: list[tuple[float, int, bytes]] = []

    def call(self) -> Connection:
        return self.stacks[ONE].connect(ONE, TWO, 179, self.now)

    def _carry(self) -> None:
        for stack in self.stacks.values():
            for data in stack.packets(self.now):
                self.sent += 1
                if self.rng.random() < self.loss:
                    continue
                for _ in range(1 + (self.rng.random() < self.double)):
                    late = self.rng.random() * 0.02 if self.rng.random() < self.reorder else 0.0
                    at = self.now + self.delay + late
                    heapq.heappush(self._flying, (at, next(self._count), self._changed(data)))

    def _changed(self, data: bytes) -> bytes:
        """An old peer's SYN does not offer selective acknowledgements."""
        if not self.old:
            return data
        packet = decode_packet(data)
        segment = decode_segment(packet)
        if segment.flags & SYN:
            segment.selective = False
            raw = segment.encode(packet.source, packet.destination)
            return packet._replace(payload=raw).encode()
        return data

    def run(self, until: float) -> None:
        while True:
            self._carry()
            due = min(
                self._flying[0][0] if self._flying else float("inf"),
                *(stack.next_timer() for stack in self.stacks.values()),
            )
            if due > until:
                break
            self.now = max(self.now, due)
            while self._flying and self._flying[0][0] <= self.now:
                packet = decode_packet(heapq.heappop(self._flying)[2])
                with contextlib.suppress(PacketError):  # what comes late, or twice
                    self.stacks[packet.destination].receive(packet, self.now)
                self._carry()
            for stack in self.stacks.values():
                stack.handle_timer(self.now)
        self.now = until


def crossed(way: Way, data: bytes, within: float) -> float:
    """Seconds until all of it was there; both directions, and an orderly end."""
    one = way.call()
    one.send(data)
    got, back = bytearray(), bytearray()
    until = way.now + within
    answered = False
    while way.now < until:
        way.run(way.now + 0.02)
        if way.accepted:
            got += way.accepted[0].take()
            if len(got) == len(data) and not answered:
                answered = True
                way.accepted[0].send(data[:5000])
                way.accepted[0].close()
        back += one.take()
        if answered and len(back) == 5000:
            one.close()
            break
    assert bytes(got) == data, f"{len(got)} of {len(data)} after {way.now:.2f} s"
    assert bytes(back) == data[:5000]
    took = way.now
    way.run(way.now + 40.0)
    assert not way.stacks[ONE]._connections, "it did not end"
    return took


WAYS = {
    "good": {},
    "2 %": {"loss": 0.02},
    "8 %": {"loss": 0.08},
    "reordered": {"reorder": 0.3},
    "doubled": {"double": 0.2},
    "all": {"loss": 0.04, "reorder": 0.2, "double": 0.1},
}


@pytest.mark.parametrize("old", [False, True], ids=["selective", "old"])
@pytest.mark.parametrize("password", ["", "secret"], ids=["plain", "signed"])
@pytest.mark.parametrize("name", WAYS)
def test_everything_arrives_in_order_and_soon(name: str, password: str, old: bool) -> None:
    if old and password:
        pytest.skip("the signature would not fit what was changed")
    data = seeded(9)(SIZE)
    for seed in range(3):
        crossed(
            Way(seed, password=password, old=old, **WAYS[name]), data, 10.0 if not old else 40.0
        )


def test_a_good_way_is_used_once_and_well() -> None:
    way = Way(1)
    took = crossed(way, bytes(SIZE), 3.0)
    assert took < 0.8
    assert way.sent < 2.3 * SIZE / 1300


def test_a_lost_segment_costs_a_round_trip_and_not_a_timer() -> None:
    way = Way(3)
    one = way.call()
    way.run(1.0)
    one.send(bytes(40_000))
    dropped = iter([False, False, True])
    true = way.rng.random
    way.loss, way.rng.random = 0.5, lambda: 0.0 if next(dropped, False) else 1.0  # type: ignore[method-assign]
    begun, got = way.now, 0
    while got < 40_000:
        way.run(way.now + 0.005)
        got += len(way.accepted[0].take())
        assert way.now - begun < FIRST_WAIT
    way.rng.random = true  # type: ignore[method-assign]


def test_an_abort_before_any_answer_sends_nothing() -> None:
    """RFC 9293 section 3.10.5."""
    stack = TcpStack(seeded(1))
    connection = stack.connect(ONE, TWO, 179, 0.0)
    assert len(stack.packets(0.0)) == 1
    connection.abort()
    assert stack.packets(0.0) == []
    assert not stack._connections
    way = Way(1)
    one = way.call()
    way.run(1.0)
    one.abort()
    (reset,) = way.stacks[ONE].packets(1.0)
    assert decode_segment(decode_packet(reset)).flags & 4


@given(st.lists(st.tuples(st.integers(0, 60), st.integers(1, 12)), max_size=40), st.randoms())
def test_parts_in_any_order_are_delivered_in_theirs(parts, rng: random.Random) -> None:
    whole = bytes(range(80))
    wanted = [(at, whole[at : at + size]) for at, size in parts]
    wanted += [(n, whole[n : n + 1]) for n in range(80)]
    rng.shuffle(wanted)
    arrivals, got = Arrivals(1000), b""
    for at, data in wanted:
        got += arrivals.take(at, data)
        assert got == whole[: len(got)]
        assert arrivals.next == len(got)
        for first, end in arrivals.blocks(9):
            assert arrivals.next < first < end <= 80
    assert got == whole
    assert arrivals.blocks(9) == []


def test_what_waits_is_bounded_and_the_latest_is_reported_first() -> None:
    arrivals = Arrivals(10_000)
    for n in range(1, 2000):
        arrivals.take(n * 3, b"x")
    assert len(arrivals._early) == MOST_PARTS
    assert Arrivals(10).take(11, b"x") == b""
    fresh = Arrivals(1000)
    for at in (10, 30, 50, 31):
        fresh.take(at, b"xx")
    assert fresh.blocks(2) == [(30, 33), (10, 12)]


@settings(max_examples=60)
@given(
    st.lists(st.sampled_from(["ack", "block", "repeat", "time", "send"]), max_size=60), st.randoms()
)
def test_a_flight_never_loses_count(moves, rng: random.Random) -> None:
    """Whatever is acknowledged in whatever order: what is under way is what it should be."""
    flight, now = Flight(100, 5000), 0.0
    for move in moves:
        now += 0.01
        if move == "send":
            flight.send(bytes(rng.randint(1, 100)), now)
        elif move == "time":
            flight.time_out()
        elif move == "repeat":
            flight.acknowledge(flight.acknowledged, (), now, repeats=True)
        else:
            place = rng.randint(flight.acknowledged, flight.sent)
            end = rng.randint(place, flight.sent)
            blocks = [(place, end)] if move == "block" and place < end else []
            flight.acknowledge(flight.acknowledged if blocks else place, blocks, now, repeats=False)
        for at, data in flight.again(now):
            assert flight.acknowledged <= at < at + len(data) <= flight.sent
        under_way = sum(len(p.data) for p in flight._pieces if not (p.arrived or p.lost))
        assert flight._pipe == under_way
        assert sum(len(p.data) for p in flight._pieces) == len(flight)
    assert Flight(100, 5000).room(10_000) == FIRST_SEGMENTS * 100
