"""Segments by somebody who guesses at a connection (RFC 5961)."""

from __future__ import annotations

import random

import pytest

from obrin.wire.errors import PacketError
from obrin.wire.packet import TCP, Packet
from obrin.wire.tcp_connection import WINDOW, Connection, TcpState
from obrin.wire.tcp_segment import ACK, FIN, PSH, RST, SYN, Segment
from tests.wire.test_packets import A, B, Wire


def connected() -> tuple[Wire, Connection, Connection]:
    wire = Wire()
    client = wire.stacks[A].connect(A, B, 179, 0.0)
    wire.run(1.0)
    (server,) = wire.accepted
    client.send(b"to and")
    server.send(b"fro")
    wire.run(2.0)
    assert (server.take(), client.take()) == (b"to and", b"fro")
    return wire, client, server


def forge(
    wire: Wire, to: Connection, sequence: int, ack: int, flags: int, data: bytes = b""
) -> bool:
    """Whether the segment was taken."""
    segment = Segment(
        source_port=to.remote[1],
        destination_port=to.local[1],
        sequence=sequence % 2**32,
        acknowledgement=ack % 2**32,
        flags=flags,
        window=9,
        data=data,
    )
    raw = segment.encode(to.remote[0], to.local[0])
    try:
        wire.stacks[to.local[0]].receive(Packet(to.remote[0], to.local[0], TCP, raw), wire.now)
    except PacketError as error:
        assert error.reason
        return False
    return True


def works(wire: Wire, client: Connection, server: Connection) -> None:
    client.send(b"still")
    server.send(b"here")
    wire.run(wire.now + 5)
    assert (server.take(), client.take()) == (b"still", b"here")
    assert client.state is server.state is TcpState.ESTABLISHED


OFFSETS = [-(2**31), -WINDOW, -100, -1, 1, 2, 100, WINDOW - 1, WINDOW, WINDOW + 1, 2**31 - 1]


@pytest.mark.parametrize("offset", OFFSETS)
def test_a_reset_counts_only_at_the_next_number(offset: int) -> None:
    wire, client, server = connected()
    for flags in (RST, RST | ACK):
        assert not forge(wire, client, client.receive_next + offset, client.send_next, flags)
    assert bool(client.segments()) == (0 < offset < WINDOW)  # challenged where near
    works(wire, client, server)
    assert forge(wire, client, client.receive_next, 0, RST)
    assert client.state is TcpState.CLOSED


@pytest.mark.parametrize("offset", OFFSETS)
def test_a_syn_or_foreign_data_changes_nothing(offset: int) -> None:
    wire, client, server = connected()
    forge(wire, client, client.receive_next + offset, 0, SYN)
    forge(wire, client, client.receive_next + offset, client.send_next, SYN | ACK)
    assert not forge(wire, client, client.receive_next, client.send_next + 7, PSH | ACK, b"evil")
    assert not forge(wire, client, client.receive_next, client.send_next - 2**30, ACK, b"evil")
    assert not forge(wire, client, client.receive_next, client.send_next, PSH, b"no ack")
    forge(wire, client, client.receive_next + offset, client.send_next, ACK | FIN, b"")
    works(wire, client, server)


def test_random_segments_of_a_stranger_never_end_a_connection() -> None:
    wire, client, server = connected()
    rng = random.Random(3)
    for _ in range(5000):
        to = rng.choice((client, server))
        sequence = rng.getrandbits(32)
        if sequence != to.receive_next:
            forge(wire, to, sequence, rng.getrandbits(32), rng.randrange(64), rng.randbytes(5))
        if rng.random() < 0.2:
            wire.run(wire.now + 0.01)
    works(wire, client, server)


def test_challenges_are_few_in_a_second() -> None:
    wire, client, _ = connected()
    for _ in range(100):
        forge(wire, client, client.receive_next + 5, 0, RST)
    assert len(client.segments()) == 5


@pytest.mark.parametrize(("flags", "ack"), [(RST, 0), (RST | ACK, 5), (SYN | ACK, -9), (ACK, 1)])
def test_an_answer_to_another_syn_is_none(flags: int, ack: int) -> None:
    wire = Wire()
    client = wire.stacks[A].connect(A, B, 179, 0.0)
    assert not forge(wire, client, 77, client.send_next + ack, flags)
    wire.run(1.0)
    assert client.state is TcpState.ESTABLISHED
