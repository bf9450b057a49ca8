"""Other addresses for a packet: checksums stay right without being made anew."""

from __future__ import annotations

from hypothesis import assume, given
from hypothesis import strategies as st

from obrin.core.address.prefix import Address
from obrin.wire.icmp import Icmp, decode_icmp
from obrin.wire.packet import (
    ICMP,
    TCP,
    UDP,
    Packet,
    Udp,
    decode_packet,
    decode_udp,
    transport_checksum,
)
from obrin.wire.readdress import readdress, updated_checksum
from tests.doubles import in_family

Ends = tuple[Address, Address, Address, Address]

FOUR = st.sampled_from((32, 128)).flatmap(lambda bits: st.tuples(*[in_family(bits)] * 4))
ONE, TWO, THREE, OTHER = (Address(32, n) for n in (1, 2, 3, 4))


@given(FOUR, st.binary(max_size=40))
def test_a_udp_datagram_still_passes_its_check(ends: Ends, data: bytes) -> None:
    a, b, c, d = ends
    packet = Packet(a, b, UDP, Udp(1000, 2000, data).encode(a, b))
    moved = readdress(packet, c, d)
    assert (moved.source, moved.destination) == (c, d)
    assert decode_udp(decode_packet(moved.encode())).data == data
    assert readdress(moved, a, b) == packet


@given(FOUR, st.binary(max_size=40))
def test_an_icmpv6_message_still_passes_its_check(ends: Ends, data: bytes) -> None:
    a, b, c, d = ends
    assume(a.bits == 128)
    echo = Icmp(128, 0, 7, 1, data)
    assert decode_icmp(readdress(echo.packet(a, b), c, d)) == echo


@given(FOUR, st.binary(min_size=20, max_size=60))
def test_a_tcp_segment_still_passes_its_check(ends: Ends, raw: bytes) -> None:
    a, b, c, d = ends
    blank = raw[:16] + b"\0\0" + raw[18:]
    check = transport_checksum(a, b, TCP, blank)
    segment = blank[:16] + check.to_bytes(2, "big") + blank[18:]
    moved = readdress(Packet(a, b, TCP, segment), c, d)
    assert transport_checksum(c, d, TCP, moved.payload) in (0, 0xFFFF)


def test_what_has_no_checksum_keeps_none() -> None:
    bare = Packet(ONE, TWO, UDP, b"\0\1\0\2\0\x08\0\0")
    assert readdress(bare, THREE, OTHER).payload == bare.payload
    echo = Packet(ONE, TWO, ICMP, b"\x08\0\xf7\xff\0\0\0\0")
    assert readdress(echo, THREE, OTHER).payload == echo.payload
    short = Packet(ONE, TWO, TCP, b"\0")
    assert readdress(short, THREE, OTHER).payload == b"\0"


def test_the_example_of_rfc_1624() -> None:
    # Section 4: checksum DD2F, a word 5555 becomes 3285: the new checksum is 0000.
    assert updated_checksum(0xDD2F, Address(32, 0x5555), Address(32, 0x3285)) == 0x0000
