"""Routes of both families in BGP, octet by octet and between two speakers."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obrin.core.address.dual import Dual
from obrin.core.address.prefix import Address, Prefix, parse_address, parse_prefix
from obrin.core.routing.path import Path
from obrin.core.routing.policy import PrefixList, SessionPolicy, export_path, import_path
from obrin.wire.bgp.attributes import Attributes
from obrin.wire.bgp.errors import BgpError
from obrin.wire.bgp.fsm import BgpState
from obrin.wire.bgp.messages import MARKER, Open, Update, decode_message
from obrin.wire.bgp.multiprotocol import Reach
from obrin.wire.bgp.session import NO_HOPS, SessionConfig
from obrin.wire.bgp.speaker import Speaker
from obrin.wire.mrt import MrtPeer, read_dump, write_dump
from tests.doubles import in_family

P = parse_prefix
HOP4, HOP6 = parse_address("169.254.1.1"), parse_address("fd00:1:2:ff00::1")
PATH = Path(HOP6.value, (65001,))
OWN4, OWN6 = P("10.20.0.0/22"), P("2001:db8:20::/48")


def of_family(bits: int) -> st.SearchStrategy[Prefix]:
    return st.builds(
        lambda address, length: Prefix(*address, bits).widened(length),
        in_family(bits),
        st.integers(0, bits),
    )


families = st.sampled_from((32, 128))
several = families.flatmap(lambda b: st.lists(of_family(b), min_size=1, max_size=9, unique=True))


@given(several, several, in_family(128).filter(lambda a: a.value > 1 and a.value >> 120 != 255))
def test_what_is_reported_and_withdrawn_comes_back(told, gone, hop: Address) -> None:
    path = Path(hop.value, (65001,))
    update = Update(tuple(gone), Attributes(path), reach=Reach(hop, tuple(told)))
    back = decode_message(update.encode())
    assert set(back.withdrawn) == set(gone)
    assert list(back.routes) == [(Attributes(path), tuple(told))]


def test_both_families_stand_in_one_message_with_a_next_hop_each() -> None:
    path = Path(HOP4.value, (65001,))
    update = Update((), Attributes(path), (OWN4,), reach=Reach(HOP6, (OWN6,)))
    (one, four), (two, six) = decode_message(update.encode()).routes
    assert (one.path.next_hop, four) == (HOP4.value, (OWN4,))
    assert (two.path.next_hop, six) == (HOP6.value, (OWN6,))


def test_the_octets_of_rfc_4760() -> None:
    """Section 3: AFI 2, SAFI 1, 16 bytes of next hop, a reserved byte, the prefix; first of all."""
    raw = Update((), Attributes(PATH), reach=Reach(HOP6, (OWN6,))).encode()
    reach = "0002 01 10" + HOP6.value.to_bytes(16, "big").hex() + "00" + "30 20010db80020"
    assert raw[23:].startswith(bytes.fromhex("80 0e 1c" + reach))
    assert bytes.fromhex("40 03 04") not in raw  # no NEXT_HOP beside it
    gone = Update((OWN6,)).encode()
    assert gone[19:] == bytes.fromhex("0000 000d 80 0f 0a 0002 01 30 20010db80020")
    link_local = bytes.fromhex("20") + HOP6.value.to_bytes(16, "big") + b"\xfe\x80" + bytes(14)
    wide = b"\x00\x02\x01" + link_local + b"\x00" + bytes.fromhex("30 20010db80020")
    whole = bytes.fromhex("40 01 01 00 40 02 06 02 01 0000fde9")
    attributes = bytes((0x80, 14, len(wide))) + wide + whole
    (found,) = decode_message(framed(attributes)).routes
    assert found[0].path.next_hop == HOP6.value  # RFC 2545 section 3: the global one


def framed(attributes: bytes, nlri: bytes = b"") -> bytes:
    body = b"\0\0" + len(attributes).to_bytes(2, "big") + attributes + nlri
    return MARKER + (19 + len(body)).to_bytes(2, "big") + b"\x02" + body


MALFORMED = {
    "cut": "0002",
    "next hop longer than all": "0002 01 ff 00",
    "next hop of 8": "0002 01 08 0000000000000001 00 30 20010db80020",
    "prefix of 129": "0002 01 10" + "20010db8000000000000000000000001" + "00 81" + "00" * 17,
    "prefix cut": "0002 01 10" + "20010db8000000000000000000000001" + "00 30 2001",
}


@pytest.mark.parametrize("what", MALFORMED)
def test_what_cannot_be_taken_apart_ends_the_session(what: str) -> None:
    """RFC 7606 section 7.11; unless the family was not agreed on."""
    value = bytes.fromhex(MALFORMED[what])
    attribute = bytes((0x80, 14, len(value))) + value
    rest = bytes.fromhex("40 01 01 00 40 02 06 02 01 0000fde9")
    with pytest.raises(BgpError):
        decode_message(framed(attribute + rest))
    if len(value) > 3:
        assert decode_message(framed(attribute + rest), families=(32,)).faults


def test_a_bad_next_hop_costs_its_routes_only() -> None:
    for hop in ("::", "::1", "ff02::1"):
        reach = Reach(parse_address(hop), (OWN6,))
        back = decode_message(Update((), Attributes(PATH), reach=reach).encode())
        assert (back.withdrawn, list(back.routes)) == ((OWN6,), [])


@given(st.binary(max_size=60), st.sampled_from((14, 15)))
def test_hostile_attributes_raise_nothing_but_bgp_errors(value: bytes, kind: int) -> None:
    rest = bytes.fromhex("40 01 01 00 40 02 06 02 01 0000fde9")
    try:
        decode_message(framed(bytes((0x80, kind, len(value))) + value + rest))
    except BgpError:
        pass


def test_capabilities_say_which_families_and_which_hops() -> None:
    said = Open(asn=1, hold=9, router_id=1, families=(32, 128), other_hops=True)
    assert decode_message(said.encode()) == said
    assert bytes.fromhex("01 04 0002 00 01") in said.encode()
    assert bytes.fromhex("05 06 0001 0001 0002") in said.encode()  # RFC 8950 section 4
    old = Open(asn=1, hold=9, router_id=1, families=())
    assert decode_message(old.encode()).families == (32,)  # RFC 4760 section 8


class Pair:
    """Two speakers whose sessions stand, each with networks of its own in both families."""

    def __init__(self, one: Dual[Address], two: Dual[Address]) -> None:
        self.speakers = Speaker(), Speaker()
        told = ((P("10.64.0.0/16"), P("2001:db8:64::/48")), (OWN4, OWN6))
        for speaker, mine, hops, number in zip(
            self.speakers, told, (one, two), (0, 1), strict=True
        ):
            ends = parse_address("169.254.1.1"), parse_address("169.254.1.2")
            speaker.add(
                SessionConfig(
                    name="t",
                    local_as=65000 + number,
                    peer_as=65001 - number,
                    router_id=1 + number,
                    local_address=ends[number],
                    peer_address=ends[not number],
                    next_hops=hops,
                    passive=bool(number),
                ),
                SessionPolicy(
                    local_as=65000 + number,
                    peer_as=65001 - number,
                    accept=PrefixList([P("0.0.0.0/0"), P("::/0")]),
                ),
                mine,
            )
        self.sessions = [s.neighbours["t"].session for s in self.speakers]
        for session in self.sessions:
            session.start(0.0)
            session.connected(0.0)
        self.pump()

    def pump(self) -> None:
        for _ in range(8):
            for speaker in self.speakers:
                speaker.update(0.0)
            outs = [session.output() for session in self.sessions]
            for session, data in zip(self.sessions, reversed(outs), strict=True):
                session.receive(data, 0.0)


BOTH = Dual(HOP4, HOP6)


def test_one_session_carries_both_families_and_takes_them_back() -> None:
    pair = Pair(BOTH, BOTH)
    one, two = pair.speakers
    assert one.decisions.keys() == {OWN4, OWN6}
    assert one.decisions[OWN6].winner.path.next_hop == HOP6.value
    assert two.decisions.keys() == {P("10.64.0.0/16"), P("2001:db8:64::/48")}
    neighbour = two.neighbours["t"]
    two.change("t", neighbour.policy, (OWN4,))
    pair.pump()
    assert one.decisions.keys() == {OWN4}


@pytest.mark.parametrize(
    ("one", "two", "carried"),
    [
        (BOTH, NO_HOPS, {OWN4}),
        (Dual(None, HOP6), BOTH, {OWN6}),
        (Dual(HOP6, HOP6), Dual(HOP6, HOP6), {OWN4, OWN6}),  # RFC 8950
    ],
)
def test_what_both_ends_carry_is_reported_and_nothing_else(one, two, carried) -> None:
    pair = Pair(one, two)
    assert all(s.state is BgpState.ESTABLISHED for s in pair.sessions)
    assert pair.speakers[0].decisions.keys() == carried


def test_ends_without_a_common_family_say_so() -> None:
    pair = Pair(Dual(None, HOP6), Dual(HOP4))
    assert not any(s.state is BgpState.ESTABLISHED for s in pair.sessions)
    errors = " ".join(s.last_error for s in pair.sessions)
    assert "does not carry IPv6 unicast" in errors or "does not carry IPv4 unicast" in errors


def test_a_dump_holds_both_families() -> None:
    peers = [MrtPeer(HOP4, 65001, 7), MrtPeer(HOP6, 4200000001, 8)]
    four = Path(HOP4.value, (65001,), local_pref=150)
    told = [(OWN4, [(0, four)]), (OWN6, [(0, PATH), (1, PATH)])]
    dump = read_dump(write_dump(1, "x", peers, told, 0))
    assert dump.tables == {peers[0]: {OWN4: four, OWN6: PATH}, peers[1]: {OWN6: PATH}}
    assert dump.peer(HOP6) == {OWN6: PATH}


@pytest.mark.parametrize("hop", ["40 03 04 00000000", "40 03 04 e0000001", "40 03 03 000000"])
@pytest.mark.parametrize("families", [(32, 128), (32,)])
def test_a_next_hop_beside_routes_of_mp_reach_alone_is_ignored(hop: str, families) -> None:
    """RFC 4760 section 3, right or wrong; neither the routes nor the session pay for it."""
    raw = Update((), Attributes(PATH), reach=Reach(HOP6, (OWN6,))).encode()
    attributes = raw[23:] + bytes.fromhex(hop)
    found = decode_message(framed(attributes), families=families)
    routes = [(Attributes(PATH), (OWN6,))] if 128 in families else []
    assert [(a.path, p) for a, p in found.routes] == [(a.path, p) for a, p in routes]
    assert found.withdrawn == ()
    with_four = framed(attributes, b"\x18\x0a\x14\x00")
    assert decode_message(with_four, families=families).withdrawn  # here it counts


def test_what_decides_nothing_is_passed_on_as_it_came() -> None:
    """RFC 4271 section 5, 5.1.6, 5.1.7, RFC 4360, RFC 8092; and narrower for an old peer (RFC 6793)."""
    carried = (
        (0x40, 6, b""),
        (0xC0, 7, (4200000001).to_bytes(4, "big") + b"\x0a\0\0\1"),
        (0xC0, 16, bytes(8)),
        (0xC0, 32, bytes(12)),
        (0xC0, 99, b"?"),
    )
    policy = SessionPolicy(local_as=65010, peer_as=65002, passes_on=True)
    told = import_path(
        SessionPolicy(local_as=65010, peer_as=65001), OWN4, Path(1, (65001,), carried=carried)
    )
    made = export_path(policy, OWN4, told, HOP4.value)
    assert made.carried == carried
    for four_octets in (True, False):
        raw = Update((), Attributes(made), (OWN4,)).encode(four_octets=four_octets)
        ((found, _),) = decode_message(raw, four_octets=four_octets, internal=False).routes
        assert found.path.carried == (*carried[:-1], (0xE0, 99, b"?"))  # somebody did not know it
        assert (b"\x5b\xa0\x0a\0\0\1" in raw) is not four_octets  # AS_TRANS
    inside = export_path(SessionPolicy(local_as=65010, peer_as=65010), OWN4, told, HOP4.value)
    assert inside.carried == carried
