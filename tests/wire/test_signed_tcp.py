"""TCP signed with a password: RFC 2385, and TCP-AO (RFC 5925)."""

from __future__ import annotations

import hashlib
from contextlib import nullcontext
from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obrin.core.address.prefix import parse_address
from obrin.wire.errors import PacketError
from obrin.wire.packet import TCP, Packet, decode_packet, transport_checksum
from obrin.wire.tcp import TcpState
from obrin.wire.tcp_protection import (
    SIGNATURES,
    AoProtection,
    Md5Protection,
    Numbers,
    Protection,
    protection,
    traffic_key,
)
from obrin.wire.tcp_segment import ACK, PSH, RST, SYN, Segment, decode_segment
from tests.wire.test_packets import A, B, Wire

SECRET = b"harbour-quay-lantern"


def segment(client: int, sequence: int, ack: int, flags: int, data: bytes) -> Segment:
    return Segment(
        source_port=client,
        destination_port=179,
        sequence=sequence,
        acknowledgement=ack,
        flags=flags,
        window=4000,
        data=data,
    )


def signed(mine: Protection | None, theirs: Protection | None) -> Wire:
    wire = Wire()
    for stack, ends, held in ((wire.stacks[A], (A, B), mine), (wire.stacks[B], (B, A), theirs)):
        if held is not None:
            stack.protections[ends] = held
    return wire


def every(password: bytes = SECRET) -> list[Protection]:
    return [protection(name, password) for name in SIGNATURES]


in_every_way = pytest.mark.parametrize("way", every(), ids=SIGNATURES)


@given(
    st.binary(max_size=300),
    st.binary(min_size=1, max_size=80),
    st.sampled_from([None, 1220]),
    st.sampled_from([SYN, ACK, PSH | ACK, RST]),
)
def test_the_digest_covers_what_the_rfc_lists(
    data: bytes, key: bytes, mss: int | None, flags: int
) -> None:
    raw = replace(segment(50000, 7, 9, flags, data), mss=mss).encode(A, B, Md5Protection(key))
    head = (raw[12] >> 4) * 4
    pseudo = (
        A.value.to_bytes(4, "big")
        + B.value.to_bytes(4, "big")
        + b"\x00\x06"
        + len(raw).to_bytes(2, "big")
    )
    bare = bytearray(raw[:20])
    bare[16:18] = b"\x00\x00"
    expected = hashlib.md5(pseudo + bytes(bare) + raw[head:] + key).digest()
    assert raw[head - 18 : head] == b"\x13\x12" + expected
    read = decode_segment(Packet(A, B, TCP, raw))
    assert (read.signatures, read.data, read.mss) == (((19, expected),), data, mss)


@in_every_way
def test_signed_bytes_cross_and_segments_leave_room_for_the_signature(way: Protection) -> None:
    wire = signed(way, way)
    client = wire.stacks[A].connect(A, B, 179, 0.0)
    wire.run(1.0)
    (server,) = wire.accepted
    client.send(bytes(5000))
    sizes = [len(packet) for packet in wire.stacks[A].packets(wire.now)]
    assert max(sizes) == 20 + 20 + 1300
    wire.run(30.0)
    assert server.take() == bytes(5000)
    assert client.state is server.state is TcpState.ESTABLISHED


@pytest.mark.parametrize(
    ("mine", "theirs", "why"),
    [
        *(
            (w, o, "signature does not match")
            for w, o in zip(every(), every(b"another"), strict=True)
        ),
        *((w, None, "signed with a password that this end does not have") for w in every()),
        *((None, w, "TCP is not signed, and this end has a password") for w in every()),
        (every()[0], every()[1], "TCP is signed in another way than at this end"),
        (every()[1], every()[2], "the passwords or their algorithms differ"),
    ],
)
def test_without_one_password_nothing_begins(
    mine: Protection | None, theirs: Protection | None, why: str
) -> None:
    wire = signed(mine, theirs)
    client = wire.stacks[A].connect(A, B, 179, 0.0)
    (syn,) = wire.stacks[A].packets(0.0)
    with pytest.raises(PacketError, match=why):
        wire.stacks[B].receive(decode_packet(syn), 0.0)
    assert not wire.stacks[B].packets(0.0)  # RFC 2385 section 2: no answer, not even a reset
    assert not wire.accepted
    assert client.state is TcpState.SYN_SENT


@in_every_way
@pytest.mark.parametrize("change", ["bit", "cut", "twice", "none", "from another"])
def test_what_was_changed_on_the_way_is_dropped(change: str, way: Protection) -> None:
    wire = signed(way, way)
    client = wire.stacks[A].connect(A, B, 179, 0.0)
    wire.run(1.0)
    (server,) = wire.accepted
    sequence, ack = server.receive_next, server.send_next
    forged = segment(client.local[1], sequence, ack, PSH | ACK, b"evil")
    other = every(b"guess")[every().index(way)]
    key = {"none": None, "from another": other}.get(change, way)
    numbers = Numbers(client.first, server.first)
    good = bytearray(forged.encode(A, B, key, numbers))
    size = 20 + (2 if way.kind == 19 else 0)
    if change == "bit":
        good[-1] ^= 1
    elif change == "cut":
        good[size + 1] -= 1
    elif change == "twice":
        good[20:20] = way.blank
        good[12] += len(way.blank) // 4 << 4
    # The checksum is put right, as whoever changes a packet would.
    forged_packet = Packet(A, B, TCP, _summed(bytes(good)))
    with pytest.raises(PacketError, match="sign"):
        wire.stacks[B].receive(forged_packet, wire.now)
    client.send(b"still")
    wire.run(wire.now + 5)
    assert server.take() == b"still"


def _summed(raw: bytes) -> bytes:
    bare = raw[:16] + b"\x00\x00" + raw[18:]
    return raw[:16] + transport_checksum(A, B, TCP, bare).to_bytes(2, "big") + raw[18:]


def test_the_example_of_tcp_ao() -> None:
    """RFC 9235 section 4.1.1: a SYN, its traffic key and its MAC."""
    segment = bytes.fromhex(
        "e9d700b3fbfbab5a00000000e002ffffcac40000"
        "020405b4010303080402080a00155ab7000000001d103d54"
        "2ee437c6f8ede6d7c4d602e7"
    )
    ends = parse_address("10.11.12.13"), parse_address("172.27.28.29")
    addresses = b"".join(end.value.to_bytes(4, "big") for end in ends)
    context = addresses + segment[:8] + bytes(4)
    key = traffic_key("hmac-sha-1-96", b"testvector", context)
    assert key.hex() == "6d63ef1b02fe1509d4b1402707fd7b0416abb74f"
    numbers = Numbers(int.from_bytes(segment[4:8], "big"), 0)
    assert AoProtection(b"testvector").value(*ends, segment, numbers) == segment[-12:]


def test_a_key_that_is_no_aes_key_is_made_one() -> None:
    """RFC 5926 section 3.1.1.2: AES-CMAC of it, under a key of zeros."""
    made = {
        len(k): traffic_key("aes-128-cmac-96", k, b"c") for k in (b"k" * 16, b"k" * 15, b"k" * 80)
    }
    assert {len(key) for key in made.values()} == {16}
    assert len(set(made.values())) == 3


@in_every_way
@pytest.mark.parametrize("before", [0, 1, 700, 4000])
def test_numbers_that_run_round_go_on(way: Protection, before: int) -> None:
    wire = signed(way, way)
    for stack in wire.stacks.values():
        stack._rng = lambda count: (2**32 - 1 - before).to_bytes(4, "big")[-count:]
    client = wire.stacks[A].connect(A, B, 179, 0.0)
    wire.run(1.0)
    (server,) = wire.accepted
    for _ in range(3):
        client.send(bytes(1500))
        server.send(bytes(900))
        wire.run(wire.now + 5.0)
    assert len(server.take()) == 4500
    assert len(client.take()) == 2700
    assert (client.rounds, server.rounds) == (before < 2700, before < 4500)


def test_what_an_earlier_connection_said_is_not_heard_again() -> None:
    """The same words at the right numbers, signed by the keys of the connection before."""
    way = every()[1]
    wire = signed(way, way)
    for _ in range(2):
        client = wire.stacks[A].connect(A, B, 179, wire.now)
        wire.run(wire.now + 1.0)
    before, server = wire.accepted
    forged = segment(client.local[1], server.receive_next, server.send_next, PSH | ACK, b"x")
    for old, heard in ((before, b""), (server, b"x")):
        raw = forged.encode(A, B, way, Numbers(old.peer_first, old.first))
        with pytest.raises(PacketError, match="signature") if not heard else nullcontext():
            wire.stacks[B].receive(Packet(A, B, TCP, raw), wire.now)
        assert server.take() == heard
