"""BGP: messages there and back, the errors of RFC 4271 section 6, the session step by step."""

from __future__ import annotations

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obrin.core.address.prefix import Address, Prefix, parse_prefix
from obrin.core.routing.path import Path
from obrin.core.routing.policy import PrefixList, SessionPolicy
from obrin.wire.bgp.attributes import Attributes, decode_attributes, encode_attributes
from obrin.wire.bgp.errors import HEADER_ERROR, OPEN_ERROR, UPDATE_ERROR, BgpError
from obrin.wire.bgp.fsm import TRANSITIONS, BgpInput, BgpState, advance
from obrin.wire.bgp.messages import (
    MARKER,
    Keepalive,
    MessageReader,
    Notification,
    Open,
    RouteRefresh,
    Update,
    decode_message,
)
from obrin.wire.bgp.session import SessionConfig
from obrin.wire.bgp.speaker import Speaker

P = parse_prefix
PATH = Path(0x0A000001, (64512, 4200000001), 0, 7, 100, (0xFDE80001,))
CARRIED = (
    (0x40, 6, b""),
    (0xC0, 7, b"\0\0\xfd\xe8\x0a\0\0\1"),
    (0xE0, 16, b"\0\2\xfd\xe8\0\0\0\1"),
    (0xC0, 32, bytes(12)),
    (0xC0, 99, b"xyz"),
)
"""ATOMIC_AGGREGATE, AGGREGATOR, extended and large communities, one that nobody knows here."""
MESSAGES = [
    Open(asn=64512, hold=90, router_id=1),
    Open(asn=4200000000, hold=0, router_id=0xFFFFFFFF),
    Open(asn=65000, hold=180, router_id=5, four_octets=False),
    Open(asn=65000, hold=180, router_id=5, unknown=((71, b""), (70, b"ab"))),
    Open(asn=65000, hold=180, router_id=5, route_refresh=False),
    Keepalive(),
    Notification(6, 2, b"bye"),
    Notification.farewell(4, "bye"),
    RouteRefresh(),
    RouteRefresh(b"\0\2\0\1", 1),
    Update((P("10.0.0.0/8"), P("0.0.0.0/0"), P("10.1.2.3/32"))),
    Update((), Attributes(PATH), (P("192.0.2.0/25"), P("10.20.0.0/22"))),
    Update((P("10.0.0.0/9"),), Attributes(replace(PATH, carried=CARRIED)), (P("10.0.0.0/8"),)),
]


@pytest.mark.parametrize("message", MESSAGES, ids=lambda m: type(m).__name__)
def test_a_message_comes_back(message) -> None:
    raw = message.encode()
    back = decode_message(raw)
    if isinstance(message, Update) and message.attributes and message.attributes.path.carried:
        # Section 5: an unknown transitive attribute is passed on as partial.
        assert back.attributes.path.carried == (*CARRIED[:-1], (0xE0, 99, b"xyz"))
    else:
        assert back == message


@pytest.mark.parametrize("message", MESSAGES, ids=lambda m: type(m).__name__)
def test_byte_by_byte_and_cut_short(message) -> None:
    raw = message.encode()
    reader = MessageReader()
    for byte in raw[:-1]:
        reader.feed(bytes([byte]))
        assert reader.next() is None
    reader.feed(raw[-1:] + raw)
    assert reader.next() == raw
    assert reader.next() == raw
    for size in range(19, len(raw)):
        short = raw[:16] + size.to_bytes(2, "big") + raw[18:size]
        try:
            decode_message(short)
        except BgpError as error:
            assert error.code in (HEADER_ERROR, OPEN_ERROR, UPDATE_ERROR)


def test_old_speakers_get_as_trans_and_the_real_path_beside_it() -> None:
    raw = encode_attributes(Attributes(PATH), four_octets=False, internal=False)
    assert (23456).to_bytes(2, "big") in raw
    assert decode_attributes(raw, four_octets=False).path.as_path == PATH.as_path


def test_a_four_octet_path_that_cannot_be_is_passed_over() -> None:
    """RFC 6793 section 6: damaged, or longer than the path that it stands for."""
    for raw, noted in ((b"\7\1\0\0\xfc\0", "AS4_PATH"), (b"\2\2" + bytes(8), "")):
        data = (
            attribute(0x40, 1, b"\0")
            + attribute(0x40, 2, b"\2\1\xfc\0")
            + attribute(0x40, 3, b"\x0a\0\0\1")
            + attribute(0xC0, 17, raw)
        )
        found = decode_attributes(data, four_octets=False)
        assert found.path.as_path == (0xFC00,)
        assert noted in " ".join(found.faults)


def attribute(flags: int, kind: int, value: bytes) -> bytes:
    return bytes((flags, kind, len(value))) + value


GOOD = (
    attribute(0x40, 1, b"\0")
    + attribute(0x40, 2, b"\2\1\0\0\xfc\0")
    + attribute(0x40, 3, b"\x0a\0\0\1")
)


@pytest.mark.parametrize(
    ("data", "subcode"),
    [
        (GOOD + attribute(0x80, 14, b"") + attribute(0x80, 14, b""), 1),  # MP_REACH_NLRI twice
        (GOOD + b"\x40", 1),  # cut short
        (GOOD + attribute(0x40, 55, b""), 2),  # unknown well-known
        (attribute(0x40, 1, b"\0") + attribute(0x40, 3, b"\x0a\0\0\1"), 3),  # no AS_PATH
        (GOOD[:0] + attribute(0x80, 1, b"\0"), 4),  # wrong flags
        (attribute(0x40, 1, b"\0\0"), 5),  # wrong length
        (GOOD.replace(b"\x40\x01\x01\x00", b"\x40\x01\x01\x09"), 6),  # origin 9
        (GOOD.replace(b"\x0a\0\0\1", b"\xe0\0\0\1"), 8),  # multicast next hop
        (GOOD.replace(b"\2\1\0\0\xfc\0", b"\7\1\0\0\xfc\0"), 11),  # segment type 7
        (GOOD.replace(b"\2\1\0\0\xfc\0", b"\2\2\0\0\xfc\0"), 11),  # segment too short
    ],
)
def test_update_errors_of_section_6_3(data: bytes, subcode: int) -> None:
    with pytest.raises(BgpError) as error:
        decode_attributes(data, four_octets=True)
    assert (error.value.code, error.value.subcode) == (UPDATE_ERROR, subcode)


def frame(kind: int, body: bytes, size: int | None = None) -> bytes:
    return MARKER + (size or 19 + len(body)).to_bytes(2, "big") + bytes((kind,)) + body


@pytest.mark.parametrize(
    ("raw", "code", "subcode"),
    [
        (b"\0" * 19, 1, 1),
        (frame(4, b"", 18), 1, 2),
        (frame(4, b"x"), 1, 2),
        (frame(9, b""), 1, 3),
        (frame(5, b"\0\1\0"), 1, 2),
        (frame(5, b"\0\1\0\1\0"), 1, 2),
        (frame(1, b"\3" + b"\xfc\0\0\x5a\0\0\0\1\0"), 2, 1),
        (frame(1, b"\4" + b"\xfc\0\0\2\0\0\0\1\0"), 2, 6),
        (frame(1, b"\4" + b"\xfc\0\0\x5a\0\0\0\0\0"), 2, 3),
        (frame(1, b"\4" + b"\xfc\0\0\x5a\0\0\0\1\4\1\2ab"), 2, 4),
        (frame(1, b"\4" + b"\0\0\0\x5a\0\0\0\1\0"), 2, 2),
        (frame(2, b"\0\xff\0\0"), 3, 1),
        (frame(2, b"\0\0\0\0\x21"), 3, 10),
    ],
)
def test_message_errors_of_section_6(raw: bytes, code: int, subcode: int) -> None:
    with pytest.raises(BgpError) as error:
        decode_message(raw)
    assert (error.value.code, error.value.subcode) == (code, subcode)


@given(st.binary(max_size=120), st.integers(0, 6))
def test_hostile_bytes_raise_only_bgp_errors(body: bytes, kind: int) -> None:
    for raw in (body, frame(kind, body)):
        try:
            decode_message(raw)
        except BgpError:
            pass


class Sessions:
    """Two speakers over a perfect transport, in virtual time."""

    def __init__(self, **changes: object) -> None:
        self.one, self.two = Speaker(), Speaker()
        second = {"local": 65001, "hold": 9, "peer": 64512} | changes
        self.a = self.one.add(
            SessionConfig(
                name="t",
                local_as=64512,
                peer_as=65001,
                router_id=1,
                local_address=Address(32, 10),
                peer_address=Address(32, 11),
                hold=9,
            ),
            SessionPolicy(local_as=64512, peer_as=65001),
            (P("10.64.0.0/16"),),
        )
        self.b = self.two.add(
            SessionConfig(
                name="t",
                local_as=second["local"],
                peer_as=second["peer"],
                router_id=2,
                local_address=Address(32, 11),
                peer_address=Address(32, 10),
                hold=second["hold"],
                passive=True,
            ),
            SessionPolicy(
                local_as=second["local"],
                peer_as=64512,
                accept=PrefixList([P("10.64.0.0/12")]),
                local_pref=150,
            ),
            (P("10.20.0.0/22"), P("0.0.0.0/0")),
        )
        self.now = 0.0
        self.a.start(0.0)
        self.b.start(0.0)
        assert self.a.wants_connection
        self.a.connected(0.0)
        self.b.connected(0.0)
        self.pump()

    def pump(self) -> None:
        for _ in range(10):
            first, second = self.a.output(), self.b.output()
            if first:
                self.b.receive(first, self.now)
            if second:
                self.a.receive(second, self.now)
            self.one.update(self.now)
            self.two.update(self.now)


def test_sessions_come_up_and_learn() -> None:
    s = Sessions()
    assert s.a.state is s.b.state is BgpState.ESTABLISHED
    assert set(s.one.decisions) == {P("10.20.0.0/22"), P("0.0.0.0/0")}
    winner = s.two.decisions[P("10.64.0.0/16")].winner
    assert winner.path == Path(10, (64512,), 0, None, 150)


def test_what_is_not_accepted_says_why() -> None:
    s = Sessions()
    s.a.announce(Path(10, (64512, 65001)), [P("10.65.0.0/16")])
    s.a.announce(Path(10, (64512,)), [P("172.16.0.0/16")])
    s.a.announce(Path(10, (64999,)), [P("10.66.0.0/16")])
    s.pump()
    rejected = s.two.neighbours["t"].rejected
    assert "loop check" in rejected[P("10.65.0.0/16")]
    assert "not among" in rejected[P("172.16.0.0/16")]
    assert "does not begin" in rejected[P("10.66.0.0/16")]
    assert set(s.two.decisions) == {P("10.64.0.0/16")}


def test_withdrawals_take_routes_away() -> None:
    s = Sessions()
    s.b.withdraw([P("0.0.0.0/0")])
    s.pump()
    assert set(s.one.decisions) == {P("10.20.0.0/22")}


def test_another_policy_is_reported_and_judged_while_the_session_goes_on() -> None:
    s = Sessions()
    policy = SessionPolicy(local_as=64512, peer_as=65001, accept=PrefixList([P("0.0.0.0/0")]))
    s.one.change("t", policy, (P("10.65.0.0/16"), P("172.16.0.0/16")))
    s.pump()
    assert set(s.two.decisions) == {P("10.65.0.0/16")}
    assert set(s.two.neighbours["t"].rejected) == {P("172.16.0.0/16")}
    s.one.change("t", SessionPolicy(local_as=64512, peer_as=65001), ())
    s.pump()
    assert (s.two.decisions, set(s.one.decisions)) == ({}, {P("10.20.0.0/22"), P("0.0.0.0/0")})
    assert s.a.state is BgpState.ESTABLISHED
    s.one.remove("t", s.now)
    s.one.update(s.now)
    assert s.one.decisions == {}
    assert s.one.log[-1][2] == "not configured any more"


def test_a_peer_that_tells_more_than_allowed_is_refused_for_good() -> None:
    """RFC 4486 section 4: maximum number of prefixes."""
    s = Sessions()
    s.two.neighbours["t"].policy = SessionPolicy(local_as=65001, peer_as=64512, limit=2)
    s.a.announce(Path(10, (64512,)), [P("10.66.0.0/16"), P("10.67.0.0/16")])
    s.pump()
    assert s.b.last_error == "it advertised 3 prefixes, 2 are allowed"
    assert s.two.decisions == {}
    assert s.b.next_timer() == float("inf")


def test_a_connection_that_fails_is_tried_again_and_equal_identifiers_are_refused() -> None:
    s = Sessions()
    s.a.closed("reset", 1.0)
    assert s.a.state is not BgpState.ESTABLISHED
    s.a.handle_timer(s.a.next_timer())
    assert s.a.wants_connection
    s = Sessions()
    own = Open(asn=65001, hold=9, router_id=1)
    s.a.stop(0.0)
    s.a.start(0.0)
    s.a.connected(0.0)
    s.a.receive(own.encode(), 0.0)
    assert "same router identifier" in s.a.last_error


def test_a_stream_without_a_marker_is_refused() -> None:
    reader = MessageReader()
    reader.feed(b"x" * 19)
    with pytest.raises(BgpError, match="marker"):
        reader.next()


def test_messages_that_cannot_be_made_or_are_large() -> None:
    many = tuple(P(f"10.{n // 256}.{n % 256}.0/24") for n in range(1100))
    with pytest.raises(BgpError, match="longer than"):
        Update(many).encode()
    long = Path(10, tuple(range(64512, 64512 + 90)))
    back = decode_message(Update((), Attributes(long), (P("10.0.0.0/8"),)).encode())
    assert back.attributes.path.as_path == long.as_path
    assert decode_message(Open(asn=1, hold=0, router_id=1, families=()).encode()).asn == 1


def test_keepalives_come_every_third_of_the_hold_time() -> None:
    s = Sessions()
    assert s.a.next_timer() == 3.0
    for step in range(1, 30):
        s.now = step * 3.0
        s.a.handle_timer(s.now)
        s.b.handle_timer(s.now)
        s.pump()
    assert s.a.state is BgpState.ESTABLISHED


def test_the_hold_timer_ends_it_and_it_starts_again() -> None:
    s = Sessions()
    s.now = 9.0
    s.b.handle_timer(9.0)
    assert s.b.last_error == "hold timer expired"
    assert s.b.hang_up
    s.pump()
    assert s.two.decisions == {}
    assert "hold timer expired" in s.a.last_error
    s.b.handle_timer(11.0)
    assert s.b.state is BgpState.ACTIVE


@pytest.mark.parametrize(
    ("changes", "words"),
    [({"local": 65099}, "says 65099, expected 65001"), ({"peer": 1}, "says 64512")],
)
def test_a_wrong_as_is_named_at_the_end_that_notices(changes, words: str) -> None:
    s = Sessions(**changes)
    assert s.a.state is not BgpState.ESTABLISHED
    assert words in s.a.last_error + s.b.last_error


def test_the_smaller_hold_time_counts_and_zero_means_none() -> None:
    assert Sessions(hold=30).a.hold == 9
    s = Sessions(hold=0)
    assert s.a.next_timer() == float("inf")


def test_an_error_is_answered_with_a_notification() -> None:
    s = Sessions()
    s.a.receive(frame(9, b""), 1.0)
    assert decode_message(s.a.output()) == Notification(1, 3, b"\x09")
    assert s.a.state is BgpState.IDLE


def test_update_before_open_is_a_state_machine_error() -> None:
    speaker = Speaker()
    session = speaker.add(
        SessionConfig(
            name="t",
            local_as=1,
            peer_as=2,
            router_id=1,
            local_address=Address(32, 10),
            peer_address=Address(32, 11),
        ),
        SessionPolicy(local_as=1, peer_as=2),
        (),
    )
    session.start(0.0)
    session.connected(0.0)
    session.output()
    session.receive(Update().encode(), 0.0)
    assert decode_message(session.output()) == Notification(5, 0)


def test_a_wish_for_all_routes_is_met_and_others_are_passed_over() -> None:
    s = Sessions()
    assert s.a.peer.route_refresh
    s.b.receive(RouteRefresh(b"\0\2\0\1").encode(), 1.0)
    s.b.receive(RouteRefresh(subtype=1).encode(), 1.0)
    s.two.update(1.0)
    assert s.b.output() == b""
    s.b.receive(RouteRefresh().encode(), 1.0)
    s.two.update(1.0)
    told = decode_message(s.b.output())
    assert set(told.announced) == {P("10.20.0.0/22"), P("0.0.0.0/0")}
    assert s.b.state is BgpState.ESTABLISHED
    s.pump()
    assert set(s.one.decisions) == {P("10.20.0.0/22"), P("0.0.0.0/0")}


@pytest.mark.parametrize(
    ("message", "words"),
    [
        (Notification.farewell(2, "Tuesday's window, back at 21:00"), "back at 21:00"),
        (Notification.farewell(4, "ä" * 200), "ä" * 127),
        (Notification(6, 2, b"\x01\xff"), "\ufffd"),
        (Notification(6, 2, b"\xff\xff"), ""),
        (Notification(6, 2, b"\x09abc"), ""),
        (Notification(6, 3, b"\x03abc"), ""),
        (Notification(6, 2), ""),
    ],
)
def test_what_the_peers_owner_says_is_shown(message: Notification, words: str) -> None:
    """RFC 9003; a length that does not hold is passed over."""
    s = Sessions()
    s.b.receive(message.encode(), 1.0)
    assert s.b.last_error.startswith("the peer sent NOTIFICATION: cease")
    assert s.b.last_error.endswith(f'{words}"') == bool(words)
    assert ('"' in s.b.last_error) == bool(words)


def test_stop_sends_cease_with_words_and_stays_down() -> None:
    s = Sessions()
    s.a.stop(1.0, "this gateway is taken away")
    s.pump()
    assert s.b.last_error == (
        'the peer sent NOTIFICATION: cease, Administrative Shutdown: "this gateway is taken away"'
    )
    assert s.a.next_timer() == float("inf")


def test_the_table_knows_every_state_and_failure() -> None:
    assert set(TRANSITIONS) == set(BgpState)
    assert all(BgpInput.FAILED in steps for steps in TRANSITIONS.values())
    assert advance(BgpState.OPEN_SENT, BgpInput.UPDATE) is None


@given(
    st.lists(
        st.builds(
            lambda v, n: Prefix(32, v >> (32 - n) << (32 - n) if n else 0, n),
            st.integers(0, 2**32 - 1),
            st.integers(0, 32),
        ),
        max_size=40,
    )
)
def test_any_prefixes_come_back(prefixes: list[Prefix]) -> None:
    update = Update(tuple(prefixes), ends=0 if prefixes else 32)  # one of nothing says that
    assert decode_message(update.encode()) == update
