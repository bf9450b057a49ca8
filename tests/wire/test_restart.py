"""A peer that restarts: its routes are kept as long as it asked, and no longer (RFC 4724)."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obrin.core.address.dual import Dual
from obrin.core.address.prefix import parse_address, parse_prefix
from obrin.core.routing.path import Path
from obrin.core.routing.policy import SessionPolicy
from obrin.wire.bgp.attributes import Attributes
from obrin.wire.bgp.messages import (
    Keepalive,
    MessageReader,
    Notification,
    Open,
    Update,
    decode_message,
)
from obrin.wire.bgp.multiprotocol import Reach
from obrin.wire.bgp.restart import WAIT, Restart, decode
from obrin.wire.bgp.session import SessionConfig
from obrin.wire.bgp.speaker import Speaker

HOP4, HOP6 = parse_address("169.254.1.2"), parse_address("fd00:1::2")
FOUR, SIX, MORE = (parse_prefix(t) for t in ("10.20.0.0/22", "2001:db8::/48", "10.21.0.0/22"))
BOTH = Restart(60, ((32, True), (128, True)))


class Stranger:
    """A peer of whom we see only the octets."""

    def __init__(self) -> None:
        self.speaker = Speaker()
        ends = parse_address("169.254.1.1"), HOP4
        self.session = self.speaker.add(
            SessionConfig(
                name="t",
                local_as=65000,
                peer_as=65001,
                router_id=1,
                local_address=ends[0],
                peer_address=ends[1],
                next_hops=Dual(ends[0], parse_address("fd00:1::1")),
            ),
            SessionPolicy(local_as=65000, peer_as=65001),
            (parse_prefix("10.64.0.0/16"),),
        )

    def comes(self, now: float, restart: Restart | None) -> list[object]:
        """It connects and says who it is; what it is told."""
        if not self.session.wants_connection:
            self.session.start(now)
        self.session.connected(now)
        self.session.output()
        said = Open(asn=65001, hold=90, router_id=2, families=(32, 128), restart=restart)
        self.hears(now, said, Keepalive())
        reader = MessageReader()
        reader.feed(self.session.output())
        return [decode_message(raw) for raw in iter(reader.next, None)]

    def hears(self, now: float, *messages) -> None:
        for message in messages:
            self.session.receive(message.encode(), now)
        self.speaker.update(now)

    def tells(self, now: float) -> None:
        path = Path(HOP4.value, (65001,))
        self.hears(now, Update((), Attributes(path), (FOUR, MORE), reach=Reach(HOP6, (SIX,))))

    def breaks_off(self, now: float) -> None:
        self.session.closed("peer reset", now)
        self.speaker.update(now)

    @property
    def routes(self) -> set:
        return set(self.speaker.decisions)


def known(restart: Restart | None) -> Stranger:
    peer = Stranger()
    peer.comes(0.0, restart)
    peer.tells(0.0)
    assert peer.routes == {FOUR, MORE, SIX}
    peer.breaks_off(10.0)
    return peer


def test_nothing_is_kept_for_a_peer_that_does_not_ask() -> None:
    assert known(None).routes == known(Restart()).routes == set()


def test_routes_stay_until_the_peer_told_all_again() -> None:
    peer = known(BOTH)
    assert peer.routes == {FOUR, MORE, SIX}
    told = peer.comes(20.0, BOTH)
    # We have told all as well, in each family (section 4.1).
    assert [m.ends for m in told if isinstance(m, Update)] == [0, 32, 128]
    path = Attributes(Path(HOP4.value, (65001,)))
    peer.hears(21.0, Update((), path, (FOUR,)))
    assert peer.routes == {FOUR, MORE, SIX}
    peer.hears(22.0, Update(ends=32))
    assert peer.routes == {FOUR, SIX}
    peer.hears(23.0, Update(ends=128))
    assert peer.routes == {FOUR}
    assert peer.speaker.next_timer() == float("inf")


@pytest.mark.parametrize(
    ("back", "left"),
    [
        (Restart(60, ((32, True), (128, False))), {FOUR, MORE}),
        (Restart(60, ((32, True),)), {FOUR, MORE}),
        (None, set()),
    ],
)
def test_what_it_did_not_forward_meanwhile_goes_at_once(back, left) -> None:
    peer = known(BOTH)
    peer.comes(20.0, back)
    assert peer.routes == left


def test_it_has_as_long_as_it_asked_for() -> None:
    for away in (True, False):
        peer = known(BOTH)
        if not away:
            peer.comes(20.0, BOTH)
        limit = 70.0 if away else 20.0 + WAIT
        assert peer.speaker.next_timer() == limit
        for now, left in ((limit - 1, {FOUR, MORE, SIX}), (limit, set())):
            peer.speaker.handle_timer(now)
            peer.speaker.update(now)
            assert peer.routes == left


def test_nothing_is_kept_after_a_notification_or_when_the_way_is_dead() -> None:
    one, two = Stranger(), Stranger()
    for peer in (one, two):
        peer.comes(0.0, BOTH)
        peer.tells(0.0)
    one.hears(5.0, Notification(6, 2))
    two.session.closed("the tunnel went down", 5.0, for_good=True)
    two.speaker.update(5.0)
    assert one.routes == two.routes == set()


def test_the_octets_of_the_capability() -> None:
    """RFC 4724 section 3: flags and time in two bytes, four for each family."""
    said = Open(asn=1, hold=9, router_id=1, families=(32, 128), restart=BOTH)
    assert bytes.fromhex("40 0a 003c 0001 01 80 0002 01 80") in said.encode()
    assert decode_message(said.encode()) == said
    assert decode(bytes.fromhex("803c 0001 01 00 0003 01 80")) == Restart(60, ((32, False),))
    assert Update(ends=32).encode()[19:] == bytes(4)
    assert Update(ends=128).encode()[19:] == bytes.fromhex("0000 0006 80 0f 03 0002 01")


@given(st.binary(max_size=30))
def test_hostile_capabilities_raise_nothing(data: bytes) -> None:
    decode(data)
