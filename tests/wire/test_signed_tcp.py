"""TCP signed with a password (RFC 2385)."""

from __future__ import annotations

import hashlib
from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obrin.wire.errors import PacketError
from obrin.wire.packet import TCP, Packet, decode_packet, transport_checksum
from obrin.wire.tcp import TcpState
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


def signed(mine: bytes, theirs: bytes) -> Wire:
    wire = Wire()
    for stack, ends, password in ((wire.stacks[A], (A, B), mine), (wire.stacks[B], (B, A), theirs)):
        if password:
            stack.passwords[ends] = password
    return wire


@given(
    st.binary(max_size=300),
    st.binary(min_size=1, max_size=80),
    st.sampled_from([None, 1220]),
    st.sampled_from([SYN, ACK, PSH | ACK, RST]),
)
def test_the_digest_covers_what_the_rfc_lists(
    data: bytes, key: bytes, mss: int | None, flags: int
) -> None:
    raw = replace(segment(50000, 7, 9, flags, data), mss=mss).encode(A, B, key)
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
    assert (read.digest, read.data, read.mss) == (expected, data, mss)


def test_signed_bytes_cross_and_segments_leave_room_for_the_signature() -> None:
    wire = signed(SECRET, SECRET)
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
        (SECRET, b"another", "the TCP signature does not match: the passwords differ"),
        (SECRET, b"", "TCP is signed with a password that this end does not have"),
        (b"", SECRET, "TCP is not signed, and this end has a password"),
    ],
)
def test_without_one_password_nothing_begins(mine: bytes, theirs: bytes, why: str) -> None:
    wire = signed(mine, theirs)
    client = wire.stacks[A].connect(A, B, 179, 0.0)
    (syn,) = wire.stacks[A].packets(0.0)
    with pytest.raises(PacketError, match=why):
        wire.stacks[B].receive(decode_packet(syn), 0.0)
    assert not wire.stacks[B].packets(0.0)  # RFC 2385 section 2: no answer, not even a reset
    assert not wire.accepted
    assert client.state is TcpState.SYN_SENT


@pytest.mark.parametrize("change", ["bit", "cut", "twice", "none", "from another"])
def test_what_was_changed_on_the_way_is_dropped(change: str) -> None:
    wire = signed(SECRET, SECRET)
    client = wire.stacks[A].connect(A, B, 179, 0.0)
    wire.run(1.0)
    (server,) = wire.accepted
    sequence, ack = server.receive_next, server.send_next
    forged = segment(client.local[1], sequence, ack, PSH | ACK, b"evil")
    key = {"none": b"", "from another": b"guess"}.get(change, SECRET)
    good = bytearray(forged.encode(A, B, key))
    if change == "bit":
        good[-1] ^= 1
    elif change == "cut":
        good[23] = 0x11
    elif change == "twice":
        good[22:24] = b"\x01\x01"
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
