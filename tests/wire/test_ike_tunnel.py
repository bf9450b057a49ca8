"""Tunnels step by step in virtual time: handshake, refusals, rekeys, liveness, bad networks."""

from __future__ import annotations

import dataclasses

import pytest

from obrin.core.ipsec.selectors import Selector
from obrin.core.ipsec.suite import SHIPPED, make_suite
from obrin.wire.ike import admission
from obrin.wire.ike.codec.message import decode_header
from obrin.wire.ike.codec.numbers import Exchange
from obrin.wire.ike.config import Identity
from obrin.wire.ike.endpoint import Endpoint
from obrin.wire.ike.exchanges import info as exchange_info
from obrin.wire.ike.transitions import TRANSITIONS, IllegalStep, State, Step, advance
from tests.doubles import CLOUD, SITE, Net, pair, seeded

SUITES = list(SHIPPED.values())


def started(one: Endpoint, two: Endpoint, **net) -> Net:
    net = Net(one, two, **net)
    one.start(0.0)
    net.run(0.5)
    return net


def tunnels(net: Net):
    return net.ends[0].tunnels["t"], net.ends[1].tunnels["t"]


def crosses(net: Net) -> bool:
    """Whether a packet gets through in both directions."""
    one, two = tunnels(net)
    if one.outbound is None or two.outbound is None:
        return False
    for here, there in ((one, two), (two, one)):
        sealed = here.outbound.sealer.seal(b"packet")
        child = there.children.get(sealed[:4])
        if child is None or child.opener.open(sealed) != (4, b"packet"):
            return False
    return True


@pytest.mark.parametrize("always", [False, True])
@pytest.mark.parametrize("suite", SUITES, ids=lambda s: s.name)
def test_four_messages_make_a_tunnel(suite, always: bool) -> None:
    net = started(*pair((suite,), always_encapsulate=always))
    assert len(net.sent) == 4
    assert [
        decode_header(
            d.data[-int.from_bytes(d.data[24:28], "big") :] if d.source[1] == 500 else d.data[4:]
        ).exchange
        for d in net.sent
    ] == [34, 34, 35, 35]
    assert {d.source[1] for d in net.sent[2:]} == {4500 if always else 500}
    assert net.names(0) == net.names(1) == ["IkeUp", "ChildUp"]
    assert crosses(net)
    one, two = tunnels(net)
    assert one.outbound.esn is suite.esp.esn
    assert one.current.keys == two.current.keys


def test_state_table_allows_what_its_essay_says() -> None:
    assert advance(State.IDLE, Step.SEND_INIT) is State.INIT_SENT
    assert all(Step.CLOSE in steps for steps in TRANSITIONS.values())
    with pytest.raises(IllegalStep):
        advance(State.IDLE, Step.AUTHENTICATED)


def test_keys_that_differ_fail_at_ike_auth_and_say_so() -> None:
    net = started(*pair(other_key=b"K" * 32))
    assert not tunnels(net)[0].established
    assert "AUTHENTICATION_FAILED" in net.texts(0)
    assert "pre-shared keys differ" in net.texts(1)
    assert b"K" * 32 not in net.texts(1).encode()
    net.run(5.0)
    assert net.texts(0).count("AUTHENTICATION_FAILED") >= 2  # it tries again


def test_a_wrong_identity_is_named() -> None:
    one, two = pair()
    config = two.tunnels["t"].config
    other = dataclasses.replace(config, remote_identity=Identity.of("gw.example"))
    net = started(one, Endpoint([other], seeded(9)))
    assert "this tunnel expects gw.example" in net.texts(1)


def test_suites_that_do_not_meet() -> None:
    net = started(*pair((SHIPPED["high"],), (SHIPPED["wide"],)))
    assert "NO_PROPOSAL_CHOSEN" in net.texts(0)
    assert not tunnels(net)[1].sas


def test_child_suites_that_do_not_meet_leave_nothing() -> None:
    other = make_suite(
        "x",
        encryption="AES-GCM-16-256",
        prf="PRF-HMAC-SHA2-256",
        group="CURVE25519",
        esp_encryption="AES-GCM-16-128",
    )
    net = started(*pair((SHIPPED["modern"],), (other,)))
    assert "NO_PROPOSAL_CHOSEN" in net.texts(0)
    assert "IkeUp" in net.names(0)
    assert not crosses(net)


def test_wrong_first_group_is_put_right_by_invalid_ke() -> None:
    """The initiator guesses its first suite's group; the responder wants the second's."""
    net = started(*pair((SHIPPED["high"], SHIPPED["modern"]), (SHIPPED["modern"],)))
    assert crosses(net)
    assert len(net.sent) == 6
    assert tunnels(net)[0].current.algorithm(4).name == "CURVE25519"


def test_pfs_at_one_end_only_shows_at_the_first_rekey() -> None:
    without = make_suite(
        "nopfs", encryption="AES-GCM-16-256", prf="PRF-HMAC-SHA2-256", group="CURVE25519", pfs=None
    )
    net = started(*pair((SHIPPED["modern"],), (without,)))
    assert crosses(net)  # up at first
    one, _ = tunnels(net)
    one.rekey_child(one.outbound, net.now)
    net.run(1.0)
    assert "NO_PROPOSAL_CHOSEN" in net.texts(0)


def test_selectors_that_do_not_mirror() -> None:
    other = Selector(32, 1, 2)
    one, two = pair()
    config = dataclasses.replace(
        two.tunnels["t"].config,
        local_selectors=(other,),
        remote_selectors=(Selector(32, 0x0A000000, 0x0AFFFFFF),),
    )
    net = started(one, Endpoint([config], seeded(4)))
    assert tunnels(net)[0].outbound.remote == (other,)  # narrowed to what both have
    config = dataclasses.replace(config, local_selectors=())
    net = started(pair()[0], Endpoint([config], seeded(5)))
    assert "TS_UNACCEPTABLE" in net.texts(0)


@pytest.mark.parametrize("who", [0, 1])
def test_either_end_rekeys_child_and_ike_without_losing_a_packet(who: int) -> None:
    net = started(*pair())
    for round_ in range(3):
        tunnel = tunnels(net)[who]
        old = tunnel.outbound.spi_out
        tunnel.rekey_child(tunnel.outbound, net.now)
        net.run(net.now + 1)
        assert tunnel.outbound.spi_out != old
        assert crosses(net), round_
        spi = tunnel.current.spi_i
        tunnel.rekey_ike(net.now)
        net.run(net.now + 1)
        assert tunnel.current.spi_i != spi
        assert crosses(net)
    for tunnel in tunnels(net):
        assert len(tunnel.children) == len(tunnel.sas) == 1


def test_both_ends_rekey_at_once() -> None:
    net = started(*pair(seed=3))
    for seed in range(6):
        for tunnel in tunnels(net):
            tunnel.rekey_child(tunnel.outbound, net.now)
        net.run(net.now + 5)
        assert crosses(net), seed
        assert [len(t.children) for t in tunnels(net)] == [1, 1]
        for tunnel in tunnels(net):
            tunnel.rekey_ike(net.now)
        net.run(net.now + 5)
        assert [len(t.sas) for t in tunnels(net)] == [1, 1]
        assert crosses(net), seed


def test_hours_of_lifetimes_pass() -> None:
    suite = make_suite(
        "short",
        encryption="AES-GCM-16-128",
        prf="PRF-HMAC-SHA2-256",
        group="CURVE25519",
        ike_lifetime=3600.0,
        esp_lifetime=900.0,
    )
    net = started(*pair((suite,)))
    for _ in range(6):
        net.run(net.now + 3600)
        assert crosses(net)
    assert "IkeDown" not in net.names(0)
    assert net.names(0).count("ChildUp") > 20


def bad_network(seed: int) -> None:
    """Losses may cost a tunnel; once they end, everything is as on a good network."""
    one, two = pair(seed=seed)
    net = started(one, two, loss=0.3, delay=0.2, double=0.2, seed=seed)
    for step in range(20):
        net.run(net.now + 3)
        tunnel = tunnels(net)[step % 2]
        if tunnel.outbound is not None and step % 3 == 0:
            tunnel.rekey_child(tunnel.outbound, net.now)
        if tunnel.established and step % 5 == 0:
            tunnel.rekey_ike(net.now)
    net.calm()
    net.run(net.now + 120)
    assert crosses(net)
    for tunnel in tunnels(net):
        assert len(tunnel.sas) == len(tunnel.children) == 1
        assert not tunnel.rekeys
    sent = len(net.sent)
    net.run(net.now + 9)
    assert len(net.sent) - sent < 10


@pytest.mark.parametrize("seed", range(12))
def test_a_bad_network_leaves_no_trace(seed: int) -> None:
    bad_network(seed)


@pytest.mark.slow
@pytest.mark.parametrize("seed", range(12, 600))
def test_a_bad_network_leaves_no_trace_soak(seed: int) -> None:
    bad_network(seed)


def test_silence_is_noticed_when_the_liveness_says() -> None:
    net = started(*pair())
    net.cut = True
    liveness = tunnels(net)[0].config.liveness
    low, high = liveness.detection()
    assert (low, high) == (15.0, 25.0)
    net.run(net.now + high - 0.6)
    assert tunnels(net)[0].established
    net.run(net.now + 1.2)
    assert "the peer did not answer" in net.texts(0)
    assert not any(t.established for t in tunnels(net))
    net.cut = False
    net.run(net.now + 20)
    assert crosses(net)  # the initiator starts anew by itself


def test_traffic_is_a_sign_of_life() -> None:
    net = started(*pair())
    before = len(net.sent)
    for _ in range(10):
        for tunnel in tunnels(net):
            tunnel.heard(net.now)
        net.run(net.now + 9)
    assert len(net.sent) == before


@pytest.mark.parametrize("who", [0, 1])
def test_a_tunnel_that_lost_its_child_starts_anew(who: int) -> None:
    net = started(*pair())
    tunnel = tunnels(net)[who]
    exchange_info.delete_child(tunnel, tunnel.outbound, net.now)
    net.run(net.now + 0.5)
    assert not crosses(net)
    net.run(net.now + 5)
    assert crosses(net)
    assert [len(t.sas) for t in tunnels(net)] == [1, 1]


def test_pfs_at_one_end_dies_at_expiry_and_comes_back_without_it() -> None:
    """What forward secrecy at one end only looks like from outside: up, then gone at the first rekey, then up again."""
    life = {
        "encryption": "AES-GCM-16-256",
        "prf": "PRF-HMAC-SHA2-256",
        "group": "31",
        "esp_lifetime": 600.0,
    }
    net = started(*pair((make_suite("a", **life),), (make_suite("b", pfs=None, **life),)))
    net.run(599.0)
    assert crosses(net)
    net.run(600.6)
    assert not crosses(net)
    net.run(620.0)
    assert crosses(net)
    assert "its lifetime ended" in net.texts(0)


def test_tunnels_are_added_taken_away_and_configured_anew_while_others_run() -> None:
    net = Net(*pair())
    net.run(5.0)
    one, two = net.ends
    config = one.tunnels["t"].config
    one.reconfigure(dataclasses.replace(config, restart_delay=2.0), net.now)
    net.run(10.0)
    assert one.tunnels["t"].config.restart_delay == 2.0
    assert one.tunnels["t"].established
    one.remove("t", "not configured any more", net.now)
    net.run(11.0)
    assert not one.tunnels
    assert not two.tunnels["t"].established
    assert "not configured any more" in net.texts(0)
    one.add(config, net.now)
    net.run(20.0)
    assert two.tunnels["t"].established


def test_close_tells_the_peer() -> None:
    net = started(*pair())
    net.ends[0].close(net.now)
    net.run(net.now + 1)
    assert not any(t.sas or t.children for t in tunnels(net))
    assert "the peer deleted it" in net.texts(1)
    net.run(net.now + 60)
    assert not tunnels(net)[0].sas  # closed for good


def test_a_peer_that_restarts_is_believed_and_the_old_sa_goes() -> None:
    one, two = pair()
    started(one, two)
    fresh = Endpoint([one.tunnels["t"].config], seeded(77))
    again = Net(fresh, two)
    fresh.start(0.0)
    again.run(1.0)
    assert crosses(again)
    assert len(two.tunnels["t"].sas) == 1


def test_replayed_and_stray_messages_change_nothing() -> None:
    net = started(*pair())
    responder = net.ends[1]
    sent = len(net.sent)
    for datagram in list(net.sent):
        for end in net.ends:
            end.receive(datagram.data, datagram.destination, datagram.source, net.now)
    net.run(net.now + 0.5)
    assert crosses(net)
    assert len(net.sent) <= sent + 4  # at most answers that are repeated
    responder.receive(b"\xff", (CLOUD, 4500), (SITE, 4500), net.now)
    responder.receive(b"junk" * 20, (CLOUD, 500), (SITE, 500), net.now)
    assert responder.discarded >= 2


def test_a_flood_is_asked_for_cookies(monkeypatch) -> None:
    monkeypatch.setattr(admission, "UNPROVEN", 0)
    net = started(*pair())
    assert crosses(net)
    assert len(net.sent) == 6
    assert decode_header(net.sent[1].data).exchange == Exchange.IKE_SA_INIT


def test_half_open_sas_go_away() -> None:
    one, two = pair()
    one.start(0.0)
    (datagram,) = one.datagrams()
    two.receive(datagram.data, datagram.destination, datagram.source, 0.0)
    two.handle_timer(two.next_timer())
    assert len(two.tunnels["t"].sas) == 1
    two.handle_timer(two.next_timer())
    assert not two.tunnels["t"].sas


def test_no_secret_in_any_repr() -> None:
    net = started(*pair(key=b"very-secret-key-of-the-tunnel"))
    for tunnel in tunnels(net):
        text = repr(tunnel) + repr(tunnel.current) + repr(tunnel.outbound) + repr(tunnel.config)
        keys = tunnel.current.keys
        for secret in (b"very-secret", keys.d, keys.ei, tunnel.outbound.keys_in.encryption):
            assert repr(secret)[2:-1] not in text
