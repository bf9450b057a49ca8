"""IPv4, UDP, ICMP, TCP, hosts and captures."""

from __future__ import annotations

import random

import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from obrin.core.address.prefix import Address, parse_address
from obrin.core.routing.packet import ECHO
from obrin.wire.capture import (
    CaptureError,
    decode_capture,
    encode_file_header,
    encode_record,
)
from obrin.wire.errors import PacketError
from obrin.wire.host import GREETING, Host
from obrin.wire.icmp import Icmp, decode_icmp, packet_key, quoted_key, time_exceeded, too_big
from obrin.wire.packet import (
    ICMP,
    ICMPV6,
    TCP,
    UDP,
    Packet,
    Udp,
    checksum,
    decode_packet,
    decode_udp,
    transport_checksum,
)
from obrin.wire.tcp import TcpStack, TcpState
from obrin.wire.tcp_segment import ACK, SYN, Segment, decode_segment, with_mss_of_at_most
from tests.doubles import seeded

A, B = Address(32, 0x0A000001), Address(32, 0x0A000002)
A6, B6 = parse_address("2001:db8::1"), parse_address("2001:db8::2")
FAMILIES = pytest.mark.parametrize(("a", "b"), [(A, B), (A6, B6)])


def test_checksum_of_rfc_1071() -> None:
    assert checksum(bytes.fromhex("0001f203f4f5f6f7")) == 0xFFFF ^ 0xDDF2


@given(st.binary(max_size=100), st.integers(0, 255), st.integers(0, 65535))
def test_ipv4_comes_back(payload: bytes, protocol: int, identification: int) -> None:
    packet = Packet(A, B, protocol, payload, 17, identification)
    assert decode_packet(packet.encode()) == packet
    assert decode_packet(packet.encode() + b"padding") == packet


@given(st.binary(max_size=60), st.integers(0, 65535), st.integers(0, 65535))
def test_udp_and_icmp_come_back(data: bytes, one: int, two: int) -> None:
    udp = Udp(one, two, data)
    assert decode_udp(Packet(A, B, UDP, udp.encode(A, B))) == udp
    echo = Icmp(8, 0, one, two, data)
    assert decode_icmp(echo.packet(A, B)) == echo


def test_ports_options_and_words_of_packets() -> None:
    packet = Packet(A, B, UDP, Udp(5, 6, b"x").encode(A, B))
    assert packet.ports == (5, 6)
    assert Packet(A, B, ICMP, b"").ports == Packet(A, B, UDP, b"abc").ports == (0, 0)
    assert str(packet) == "10.0.0.1 > 10.0.0.2 udp"
    assert str(Packet(A, B, 99, b"")).endswith("protocol 99")
    raw = bytearray(packet.encode())
    raw[6] |= 0x20  # more fragments
    raw[10:12] = b"\0\0"
    raw[10:12] = checksum(bytes(raw[:20])).to_bytes(2, "big")
    with pytest.raises(PacketError, match="a fragment"):
        decode_packet(bytes(raw))


@pytest.mark.parametrize(
    ("options", "mss"),
    [
        (b"\x02\x04\x05\x14", 1300),
        (b"\x01\x01\x02\x04\x05\x14\0\0", 1300),
        (b"\x03\x03\x07\x02\x04\x05\x14\0", 1300),
        (b"\0\x02\x04\x05", None),
        (b"\x03\x01\x02\x04", None),
        (b"\x01\x01\x01\x02", None),
    ],
)
def test_the_largest_segment_is_found_among_options(options: bytes, mss: int | None) -> None:
    """RFC 9293 section 3.1: end of list, no-operation, kind with a length."""
    head = Segment(
        source_port=1,
        destination_port=2,
        sequence=0,
        acknowledgement=0,
        flags=2,
        window=100,
        data=b"",
    ).encode(A, B)
    raw = bytearray(head[:20] + options)
    raw[12] = (20 + len(options)) // 4 << 4
    raw[16:18] = b"\0\0"
    total = transport_checksum(A, B, TCP, bytes(raw))
    raw[16:18] = total.to_bytes(2, "big")
    assert decode_segment(Packet(A, B, TCP, bytes(raw))).mss == mss


@given(st.binary(max_size=100), st.sampled_from((TCP, UDP, ICMPV6, 89)), st.integers(0, 255))
def test_ipv6_comes_back(payload: bytes, protocol: int, tos: int) -> None:
    packet = Packet(A6, B6, protocol, payload, 17, tos=tos)
    raw = packet.encode()
    assert decode_packet(raw) == decode_packet(raw + b"padding") == packet
    assert len(raw) == packet.size == 40 + len(payload)


def test_the_octets_of_an_ipv6_header() -> None:
    """RFC 8200 section 3."""
    raw = Packet(A6, B6, UDP, b"abc", 64, tos=0xB8).encode()
    assert raw[:8] == bytes.fromhex("6b800000 0003 11 40")
    assert raw[8:40] == bytes.fromhex("20010db8" + "00" * 11 + "01" + "20010db8" + "00" * 11 + "02")
    for header in (0, 43, 44, 51, 60):
        with pytest.raises(PacketError, match=r"fragment|extension"):
            decode_packet(raw[:6] + bytes((header,)) + raw[7:])
    for cut in range(1, len(raw)):
        with pytest.raises(PacketError):
            decode_packet(raw[:cut])


def test_an_echo_as_rfc_4443_has_it() -> None:
    """Type 128, and a sum that covers the addresses."""
    packet = Icmp(128, 0, 1, 2, b"hi").packet(A6, B6)
    assert packet.protocol == 58
    assert transport_checksum(A6, B6, 58, packet.payload) == 0
    with pytest.raises(PacketError, match="checksum"):
        decode_icmp(packet._replace(source=parse_address("2001:db8::7")))
    with pytest.raises(PacketError, match="other family"):
        decode_icmp(packet._replace(protocol=ICMP))


@FAMILIES
def test_too_big_is_reported_of_the_right_question(a: Address, b: Address) -> None:
    one = Host(a, seeded(1))
    for protocol in (ICMP, UDP):
        query = one.ask(protocol, b, 53, 0.0, 1400)
        (raw,) = one.packets(0.0)
        told = too_big(decode_packet(raw), 1300, b)
        assert told.size <= 1280
        one.receive(told._replace(source=b, destination=a).encode(), 1.0)
        assert query.too_big == 1300
        assert too_big(told, 1300, b) is None  # of errors there are no errors
    short = told._replace(payload=told.payload[:20])
    one.receive(short.encode(), 2.0)
    assert sum(one.drops.values()) == 1


def test_a_host_that_stops_waiting_forgets_the_answer() -> None:
    one, two = Host(A, seeded(1)), Host(B, seeded(2))
    for protocol in (ICMP, UDP, TCP):
        query = one.ask(protocol, B, 7, 0.0)
        packets = list(one.packets(0.0))
        one.forget(query)
        for data in packets:
            two.receive(data, 0.0)
        for data in two.packets(0.0):
            one.receive(data, 0.1)
        assert query.answered_at is None
    one.receive(Packet(B, A, 99, b"").encode(), 0.0)
    assert one.drops["neither ICMP nor UDP nor TCP"] == 1


def test_every_damaged_header_is_noticed() -> None:
    raw = Packet(A, B, UDP, b"x" * 20).encode()
    for position in range(20):
        broken = bytearray(raw)
        broken[position] ^= 0x10
        with pytest.raises(PacketError):
            decode_packet(bytes(broken))
    with pytest.raises(PacketError):
        decode_udp(Packet(A, B, UDP, Udp(1, 2, b"data").encode(A, B)[:-1] + b"!"))


@given(st.binary(max_size=80))
def test_hostile_bytes_raise_only_packet_errors(data: bytes) -> None:
    packet = Packet(A, B, TCP, data)
    for decode, given_ in (
        (decode_packet, data),
        (decode_icmp, packet._replace(protocol=ICMP)),
        (decode_icmp, Packet(A6, B6, ICMPV6, data)),
        (decode_packet, b"\x60" + data),
        (decode_packet, packet.encode()[:20] + data),
        (decode_udp, packet),
        (decode_segment, packet),
    ):
        try:
            decode(given_)
        except PacketError:
            pass


class Wire:
    """Two TCP stacks and a network with losses from a seed."""

    def __init__(self, loss: float = 0.0, seed: int = 1) -> None:
        self.stacks = {A: TcpStack(seeded(1)), B: TcpStack(seeded(2))}
        self.accepted = []
        self.stacks[B].listen(B, 179, self.accepted.append)
        self.now = 0.0
        self._random, self._loss = random.Random(seed), loss

    def run(self, until: float) -> None:
        while True:
            moved = False
            for stack in self.stacks.values():
                for data in stack.packets(self.now):
                    moved = True
                    packet = decode_packet(data)
                    if self._random.random() >= self._loss:
                        self.stacks[packet.destination].receive(packet, self.now)
            if moved:
                continue
            due = min(s.next_timer() for s in self.stacks.values())
            if due > until:
                self.now = until
                return
            self.now = due
            for stack in self.stacks.values():
                stack.handle_timer(due)


@pytest.mark.parametrize(("loss", "seed"), [(0.0, 1), (0.2, 2), (0.3, 3), (0.3, 4)])
def test_bytes_cross_in_order_whatever_is_lost(loss: float, seed: int) -> None:
    wire = Wire(loss, seed)
    client = wire.stacks[A].connect(A, B, 179, 0.0)
    wire.run(20.0)
    (server,) = wire.accepted
    data = seeded(9)(30_000)
    client.send(data)
    server.send(b"hello")
    wire.run(300.0)
    assert (server.take(), client.take()) == (data, b"hello")
    client.close()
    server.close()
    wire.run(400.0)
    assert client.state is server.state is TcpState.CLOSED


def test_no_listener_means_refused() -> None:
    wire = Wire()
    client = wire.stacks[A].connect(A, B, 80, 0.0)
    wire.run(1.0)
    assert (client.state, client.reason) == (TcpState.CLOSED, "refused by the peer")


def test_silence_ends_a_connection() -> None:
    wire = Wire(loss=1.0)
    client = wire.stacks[A].connect(A, B, 179, 0.0)
    wire.run(60.0)
    assert (client.state, client.reason) == (TcpState.CLOSED, "no answer")


@FAMILIES
def test_hosts_answer_echo_udp_and_tcp(a: Address, b: Address) -> None:
    one, two = Host(a, seeded(1)), Host(b, seeded(2))
    queries = [one.ask(p, b, port, 0.0) for p, port in ((ICMP, 0), (UDP, 53), (TCP, 443))]
    for _ in range(10):
        for host, peer in ((one, two), (two, one)):
            for data in host.packets(1.0):
                peer.receive(data, 1.0)
    assert [q.answered_at for q in queries] == [1.0, 1.0, 1.0]
    connection = queries[2].connection
    assert bytes(connection.received) == GREETING + b"." * connection.mss
    assert queries[2].received_whole
    assert not queries[2].sent_whole, "nobody asked for that"


@FAMILIES
@pytest.mark.parametrize("lost", ["", "there", "back"])
def test_whole_segments_cross_both_ways_or_it_is_seen_which_is_lost(
    a: Address, b: Address, lost: str
) -> None:
    one, two = Host(a, seeded(1)), Host(b, seeded(2))
    query = one.ask(TCP, b, 443, 0.0, 1500)
    for _ in range(10):
        for host, peer, way in ((one, two, "there"), (two, one, "back")):
            for data in host.packets(1.0):
                if way != lost or len(data) < 1000:
                    peer.receive(data, 1.0)
    assert query.answered_at == 1.0
    assert (query.sent_whole, query.received_whole) == (lost != "there", lost != "back")
    one.receive(b"junk", 2.0)


def test_captures_come_back_and_broken_ones_say_where() -> None:
    records = [(1.5, b"packet one"), (2.25, b""), (3.0, b"x" * 2000)]
    raw = encode_file_header() + b"".join(encode_record(at, p) for at, p in records)
    assert [(c.at, c.packet) for c in decode_capture(raw)] == records
    for size in range(1, len(raw)):
        try:
            list(decode_capture(raw[:size]))
        except CaptureError as error:
            assert "offset" in str(error) or "header" in str(error)
    with pytest.raises(CaptureError, match="magic"):
        list(decode_capture(b"\0" * 40))
    with pytest.raises(CaptureError, match="link type 1"):
        list(decode_capture(raw[:20] + b"\1\0\0\0" + raw[24:]))


@given(st.binary(max_size=200))
def test_hostile_captures_raise_only_capture_errors(data: bytes) -> None:
    for raw in (data, encode_file_header() + data):
        try:
            list(decode_capture(raw))
        except CaptureError:
            pass


def summed(data: bytes) -> int:
    """The checksum word by word, as RFC 1071 section 4.1 has it."""
    total = 0
    for at in range(0, len(data), 2):
        total += int.from_bytes(data[at : at + 2].ljust(2, b"\0"), "big")
        total = (total & 0xFFFF) + (total >> 16)
    return total ^ 0xFFFF


@given(st.binary(max_size=80) | st.sampled_from([b"", bytes(4), b"\xff" * 6, b"\xff\xff\0\0"]))
def test_the_checksum_is_that_of_a_sum_word_by_word(data: bytes) -> None:
    assert checksum(data) == summed(data)


@given(
    st.integers(0, 65535),
    st.integers(88, 1460),
    st.binary(max_size=20),
    st.lists(
        st.sampled_from([b"\x01", b"\x04\x02", b"\x03\x03\x07", b"\x08\x0a" + bytes(8)]), max_size=6
    ),
    st.sampled_from([SYN, SYN | ACK, ACK]),
)
def test_a_lowered_mss_leaves_a_segment_that_is_whole(mss, most, data, before, flags) -> None:
    """Wherever the option stands; and only where a connection begins."""
    options = b"".join(before) + b"\x02\x04" + mss.to_bytes(2, "big")
    assume(len(options) <= 40)
    options = options.ljust(-(-len(options) // 4) * 4, b"\0")
    head = bytes((1, 2, 3, 4)) + bytes(8) + bytes(((5 + len(options) // 4) << 4, flags)) + b"\1\1"
    raw = head + bytes(4) + options + data
    raw = raw[:16] + transport_checksum(A, B, TCP, raw).to_bytes(2, "big") + raw[18:]
    made = with_mss_of_at_most(raw, most)
    found = decode_segment(Packet(A, B, TCP, made))
    assert found.mss == (min(mss, most) if flags & SYN else mss)
    assert found.data == data
    assert (made == raw) == (not flags & SYN or mss <= most)


@given(st.binary(max_size=70))
def test_no_segment_is_too_bad_for_the_clamp(data: bytes) -> None:
    assert len(with_mss_of_at_most(data, 1000)) == len(data)


@pytest.mark.parametrize("text", ["10.20.0.1", "2001:db8::1"])
@pytest.mark.parametrize("protocol", [ICMP, TCP, UDP, 47])
def test_time_exceeded_quotes_what_a_filter_looks_at(text: str, protocol: int) -> None:
    here, there = parse_address(text), parse_address(text + "9")
    protocol = ECHO[here.bits].protocol if protocol == ICMP else protocol
    payload = bytes([ECHO[here.bits].request, 0]) + bytes(range(60))
    packet = Packet(here, there, protocol, payload, ttl=1)
    told = time_exceeded(packet, there)
    assert told is not None
    assert (told.source, told.destination) == (there, here)
    assert quoted_key(decode_packet(told.encode())) == packet_key(packet)._replace(
        icmp_type=payload[0] if protocol == ECHO[here.bits].protocol else -1
    )
    assert time_exceeded(told, here) is None  # of errors there are none about errors
    for cut in range(len(told.payload)):
        quoted_key(told._replace(payload=told.payload[:cut]))
    assert quoted_key(packet) is None
