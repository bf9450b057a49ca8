"""IPv4 packets cut and put together again (RFC 791 section 3.2)."""

from __future__ import annotations

import random

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obrin.core.address.prefix import parse_address
from obrin.wire.errors import PacketError
from obrin.wire.ip_fragments import HOLD, MOST, Reassembly, fragments
from obrin.wire.packet import UDP, Packet, decode_packet, decode_part

A, B = parse_address("10.0.0.1"), parse_address("10.0.0.2")


def packet(size: int, number: int = 7, **changes: object) -> Packet:
    payload = bytes(index % 251 for index in range(size))
    made = Packet(A, B, UDP, payload, identification=number, tos=0x2A, may_fragment=True)
    return made._replace(**changes)


def on_the_wire(part: Packet) -> Packet:
    return decode_part(part.encode())


@given(st.integers(0, 9000), st.integers(68, 1500), st.randoms(use_true_random=False))
def test_in_any_order_the_parts_are_the_packet(size: int, mtu: int, order: random.Random) -> None:
    whole = packet(size)
    parts = [on_the_wire(part) for part in fragments(whole, mtu)]
    assert all(part.size <= mtu for part in parts)
    assert (len(parts) == 1) == (whole.size <= mtu)
    if len(parts) == 1:
        assert decode_packet(parts[0].encode()) == whole
        return
    for part in parts:
        with pytest.raises(PacketError, match="a fragment"):
            decode_packet(part.encode())
    order.shuffle(parts)
    held = Reassembly()
    found = [held.take(part, 1.0) for part in parts]
    assert found[:-1] == [None] * (len(parts) - 1)
    assert found[-1] == whole


def test_parts_of_parts_are_the_packet_too() -> None:
    whole, held = packet(4000), Reassembly()
    parts = [on_the_wire(p) for part in fragments(whole, 1500) for p in fragments(part, 600)]
    assert [found for part in parts if (found := held.take(part, 1.0))] == [whole]


def test_packets_are_reported_apart() -> None:
    held = Reassembly()
    one, two = (fragments(packet(2000, number), 1500) for number in (1, 2))
    found = [held.take(part, 0.0) for part in (one[0], two[1], one[1], two[0])]
    assert found == [None, None, packet(2000, 1), packet(2000, 2)]


CASES = {
    "overlap": ([packet(16, more=True), packet(16, offset=8)], "overlap"),
    "the same twice": ([packet(16, more=True), packet(16, more=True)], "overlap"),
    "beyond any packet": ([packet(1400, offset=65000)], "beyond the largest"),
    "no whole words": ([packet(15, more=True)], "whole words"),
    "nothing in it": ([packet(0, offset=8)], "whole words"),
    "two ends": ([packet(8, offset=8), packet(8, offset=24)], "behind the last"),
    "an end before the rest": (
        [packet(8, offset=24, more=True), packet(8, offset=8)],
        "behind the last",
    ),
}


@pytest.mark.parametrize("case", CASES)
def test_what_cannot_be_right_is_given_up(case: str) -> None:
    (*first, last), why = CASES[case]
    held = Reassembly()
    for part in first:
        held.take(part, 0.0)
    with pytest.raises(PacketError, match=why):
        held.take(last, 0.0)
    parts = fragments(packet(3000), 1500)  # nothing of it is left
    assert [held.take(part, 0.0) for part in parts][-1] == packet(3000)


def test_what_is_held_is_bounded_in_time_and_number() -> None:
    held, (first, last) = Reassembly(), fragments(packet(2000), 1500)
    held.take(first, 0.0)
    assert held.take(last, HOLD) is None  # too late: forgotten
    held = Reassembly()
    for number in range(MOST + 1):
        held.take(fragments(packet(2000, number), 1500)[0], 0.0)
    assert held.take(fragments(packet(2000, MOST), 1500)[1], 0.0) == packet(2000, MOST)
    assert held.take(fragments(packet(2000, 0), 1500)[1], 0.0) is None  # the oldest had to go
