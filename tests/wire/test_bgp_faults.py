"""What a faulty UPDATE costs: an attribute, its routes, or the session (RFC 7606)."""

from __future__ import annotations

import itertools

import pytest

from obrin.core.address.prefix import Address, parse_prefix
from obrin.core.routing.path import AsSet, Path
from obrin.core.routing.policy import SessionPolicy, import_path
from obrin.wire.bgp.attributes import Attributes, decode_attributes, encode_attributes
from obrin.wire.bgp.errors import BgpError
from obrin.wire.bgp.fsm import BgpState
from obrin.wire.bgp.messages import MARKER, Keepalive, Open, Update, decode_message
from obrin.wire.bgp.session import BgpSession, RoutesChanged, SessionConfig

NET = parse_prefix("203.0.113.0/24")


def attribute(kind: int, value: bytes, flags: int = 0) -> bytes:
    usual = {
        1: 0x40,
        2: 0x40,
        3: 0x40,
        4: 0x80,
        5: 0x40,
        6: 0x40,
        9: 0x80,
        10: 0x80,
        14: 0x80,
        15: 0x80,
    }.get(kind, 0xC0)
    return bytes((flags or usual, kind, len(value))) + value


ORIGIN, PATH = attribute(1, b"\0"), attribute(2, b"\2\1" + (65001).to_bytes(4, "big"))
HOP = attribute(3, bytes((192, 0, 2, 1)))
GOOD = ORIGIN + PATH + HOP
NLRI = b"\x18\xcb\x00\x71"


def frame(attributes: bytes, nlri: bytes = NLRI, withdrawn: bytes = b"") -> bytes:
    body = len(withdrawn).to_bytes(2, "big") + withdrawn
    body += len(attributes).to_bytes(2, "big") + attributes + nlri
    return MARKER + (19 + len(body)).to_bytes(2, "big") + b"\2" + body


def established(peer_as: int = 65001) -> BgpSession:
    session = BgpSession(
        SessionConfig(
            name="t",
            local_as=65000,
            peer_as=peer_as,
            router_id=1,
            local_address=Address(32, 10),
            peer_address=Address(32, 11),
        )
    )
    session.start(0.0)
    session.connected(0.0)
    session.receive(Open(asn=peer_as, hold=90, router_id=2).encode() + Keepalive().encode(), 0.0)
    session.output()
    session.events()
    return session


def test_the_reported_update_withdraws_its_route_and_the_session_stays() -> None:
    session = established()
    raw = bytes.fromhex(
        "ffffffffffffffffffffffffffffffff0035020000001a40010100400206020100"
        "00fde9400304c0000201c0080300000118cb0071"
    )
    session.receive(raw, 1.0)
    assert session.state is BgpState.ESTABLISHED
    assert session.output() == b""
    (event,) = session.events()
    assert (event.withdrawn, event.announced) == ((NET,), ())
    assert "attribute 8" in event.faults[0]


# (what, attributes from another AS, from our own): "attribute", "routes" or "session" is the cost
CASES = {
    "origin of two bytes": (attribute(1, b"\0\0") + PATH + HOP, "routes"),
    "origin 9": (attribute(1, b"\x09") + PATH + HOP, "routes"),
    "no origin": (PATH + HOP, "routes"),
    "no AS path": (ORIGIN + HOP, "routes"),
    "no next hop": (ORIGIN + PATH, "routes"),
    "next hop of 5 bytes": (ORIGIN + PATH + attribute(3, b"\xc0\0\2\1\1"), "routes"),
    "next hop multicast": (ORIGIN + PATH + attribute(3, b"\xe0\0\0\1"), "routes"),
    "AS path segment 7": (ORIGIN + attribute(2, b"\7\1\0\0\xfd\xe9") + HOP, "routes"),
    "AS path confederation": (ORIGIN + attribute(2, b"\3\1\0\0\xfd\xe9") + HOP, "routes"),
    "AS path of an empty segment": (ORIGIN + attribute(2, b"\2\0") + HOP, "routes"),
    "AS path with AS 0": (ORIGIN + attribute(2, b"\2\1\0\0\0\0") + HOP, "routes"),
    "AS path cut": (ORIGIN + attribute(2, b"\2\2\0\0\xfd\xe9") + HOP, "routes"),
    "AS path of one byte": (ORIGIN + attribute(2, b"\2") + HOP, "routes"),
    "discriminator of 3": (GOOD + attribute(4, b"\0\0\1"), "routes"),
    "communities of 3": (GOOD + attribute(8, b"\0\0\1"), "routes"),
    "communities of none": (GOOD + attribute(8, b""), "routes"),
    "extended communities of 7": (GOOD + attribute(16, bytes(7)), "routes"),
    "large communities of 11": (GOOD + attribute(32, bytes(11)), "routes"),
    "wrong flags": (GOOD + attribute(4, b"\0\0\0\1", 0x40), "routes"),
    "list cut in a header": (GOOD + b"\x40", "routes"),
    "list cut in a value": (GOOD + b"\xc0\x08\x09\0", "routes"),
    "atomic aggregate of 1": (GOOD + attribute(6, b"\0"), "attribute"),
    "aggregator of 3": (GOOD + attribute(7, b"\0\0\1"), "attribute"),
    "aggregator of AS 0": (GOOD + attribute(7, bytes(8)), "attribute"),
    "AS4_PATH to a new speaker": (GOOD + attribute(17, b"\2\1\0\0\xfd\xe9"), "attribute"),
    "AS4_AGGREGATOR of 2": (GOOD + attribute(18, b"\0\0"), "attribute"),
    "origin twice": (GOOD + attribute(1, b"\1"), "attribute"),
    "unknown well-known": (GOOD + attribute(55, b"", 0x40), "session"),
    "MP_REACH twice": (GOOD + attribute(14, b"") + attribute(14, b""), "session"),
    "first a small fault, then a grave one": (
        attribute(1, b"\x09") + PATH + HOP + attribute(55, b"", 0x40),
        "session",
    ),
}
INTERNAL = {
    "preference from another AS": (GOOD + attribute(5, b"\0\0\0\7"), "attribute", "nothing"),
    "preference of 3": (GOOD + attribute(5, b"\0\0\7"), "attribute", "routes"),
    "originator of 3": (GOOD + attribute(9, b"\0\0\7"), "attribute", "routes"),
    "cluster list of 3": (GOOD + attribute(10, b"\0\0\7"), "attribute", "routes"),
}


def cost(attributes: bytes, *, internal: bool) -> str:
    try:
        update = decode_message(frame(attributes), internal=internal)
    except BgpError:
        return "session"
    if update.announced == ():
        assert update.withdrawn == (NET,)
        return "routes"
    assert update.announced == (NET,)
    return "attribute" if update.faults else "nothing"


@pytest.mark.parametrize("what", CASES)
def test_each_fault_costs_what_the_rfc_says(what: str) -> None:
    attributes, wanted = CASES[what]
    assert [cost(attributes, internal=i) for i in (False, True)] == [wanted, wanted]


@pytest.mark.parametrize("what", INTERNAL)
def test_some_faults_depend_on_who_told(what: str) -> None:
    attributes, outside, inside = INTERNAL[what]
    assert cost(attributes, internal=False) == outside
    assert cost(attributes, internal=True) == inside


@pytest.mark.parametrize(
    "what", [name for name, (_, wanted) in CASES.items() if wanted == "routes"]
)
def test_without_routes_to_withdraw_the_session_ends(what: str) -> None:
    """Section 5.2; but not where the attributes are those of another family's routes."""
    with pytest.raises(BgpError):
        decode_message(frame(CASES[what][0], b""))
    assert decode_message(frame(GOOD, b"")).announced == ()
    alone = frame(ORIGIN + PATH + attribute(14, b"\0\2\1\0\0"), b"")
    assert decode_message(alone, families=(32,)).faults
    with pytest.raises(BgpError, match="next hop of 0 bytes"):
        decode_message(alone)


def test_withdrawals_of_a_faulty_update_count() -> None:
    update = decode_message(frame(PATH + HOP, withdrawn=b"\x08\x0a"))
    assert update.withdrawn == (parse_prefix("10.0.0.0/8"), NET)


def test_every_pair_of_good_lists_is_read_as_it_was_written() -> None:
    parts = [
        attribute(4, b"\0\0\0\1"),
        attribute(6, b""),
        attribute(7, b"\0\0\xfd\xe9\0\0\0\1"),
        attribute(8, b"\0\1\0\1"),
        attribute(16, bytes(8)),
        attribute(32, bytes(12)),
        attribute(99, b"x"),
    ]
    for some in itertools.combinations(parts, 3):
        assert cost(GOOD + b"".join(some), internal=False) == "nothing"


@pytest.mark.parametrize("raw", [MARKER + b"\0\x14\3x", MARKER + b"\0\x13\3", MARKER + b"\0\5\3"])
def test_a_faulty_notification_is_not_answered_with_one(raw: bytes) -> None:
    """RFC 4271 section 6.4."""
    session = established()
    session.receive(raw, 1.0)
    assert session.output() == b""
    assert session.state is not BgpState.ESTABLISHED


def test_every_member_of_a_set_is_looked_at_for_loops_and_comes_back() -> None:
    path = Path(1, (65001, AsSet((65010, 65000, 65020)), 65002))
    for four in (True, False):
        raw = encode_attributes(Attributes(path), four_octets=four, internal=False)
        assert decode_attributes(raw, four_octets=four).path.as_path == path.as_path
    assert "loop check" in import_path(SessionPolicy(local_as=65000, peer_as=65001), NET, path)
    session = established()
    session.receive(Update((), Attributes(path), (NET,)).encode(), 1.0)
    (event,) = session.events()
    assert isinstance(event, RoutesChanged)
    assert str(event.announced[0][0].path.as_path[1]) == "{65000,65010,65020}"


@pytest.mark.parametrize(
    ("aggregator", "as4", "used"), [(23456, True, True), (64999, True, False), (64999, False, True)]
)
def test_stale_as4_path_is_ignored(aggregator: int, as4: bool, used: bool) -> None:
    """RFC 6793 section 4.2.3: an AGGREGATOR that is no AS_TRANS beside AS4_AGGREGATOR."""
    short = ORIGIN + attribute(2, b"\2\2\xfd\xe9\x5b\xa0") + HOP
    short += attribute(7, aggregator.to_bytes(2, "big") + bytes(4))
    short += attribute(17, b"\2\1\xfa\x56\xea\1")
    if as4:
        short += attribute(18, b"\xfa\x56\xea\1" + bytes(4))
    found = decode_attributes(short, four_octets=False).path.as_path
    assert found == ((65001, 0xFA56EA01) if used else (65001, 23456))
