"""Other addresses for a packet: checksums stay right without being made anew."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from obrin.wire.packet import (
    ICMP,
    TCP,
    UDP,
    Ipv4,
    Udp,
    decode_ipv4,
    decode_udp,
    transport_checksum,
)
from obrin.wire.readdress import readdress, updated_checksum

words = st.integers(0, 2**32 - 1)


@given(words, words, words, words, st.binary(max_size=40))
def test_a_udp_datagram_still_passes_its_check(a: int, b: int, c: int, d: int, data: bytes) -> None:
    packet = Ipv4(a, b, UDP, Udp(1000, 2000, data).encode(a, b))
    moved = readdress(packet, c, d)
    assert (moved.source, moved.destination) == (c, d)
    assert decode_udp(decode_ipv4(moved.encode())).data == data
    assert readdress(moved, a, b) == packet


@given(words, words, words, words, st.binary(min_size=20, max_size=60))
def test_a_tcp_segment_still_passes_its_check(a: int, b: int, c: int, d: int, raw: bytes) -> None:
    blank = raw[:16] + b"\0\0" + raw[18:]
    check = transport_checksum(a, b, TCP, blank)
    segment = blank[:16] + check.to_bytes(2, "big") + blank[18:]
    moved = readdress(Ipv4(a, b, TCP, segment), c, d)
    assert transport_checksum(c, d, TCP, moved.payload) in (0, 0xFFFF)


def test_what_has_no_checksum_keeps_none() -> None:
    bare = Ipv4(1, 2, UDP, b"\0\1\0\2\0\x08\0\0")
    assert readdress(bare, 3, 4).payload == bare.payload
    echo = Ipv4(1, 2, ICMP, b"\x08\0\xf7\xff\0\0\0\0")
    assert readdress(echo, 3, 4).payload == echo.payload
    short = Ipv4(1, 2, TCP, b"\0")
    assert readdress(short, 3, 4).payload == b"\0"


def test_the_example_of_rfc_1624() -> None:
    # Section 4: checksum DD2F, a word 5555 becomes 3285: the new checksum is 0000.
    assert updated_checksum(0xDD2F, 0x5555, 0x3285) == 0x0000
