"""Several child SAs in a tunnel, one for each pair of selectors (RFC 7296 sections 1.3.1 and 2.9)."""

from __future__ import annotations

import itertools
import random
from dataclasses import replace

import pytest

from obrin.core.address.prefix import Address, parse_prefix
from obrin.core.ipsec.selectors import ANY_IPV4, Selector, pairs
from obrin.core.ipsec.suite import SHIPPED
from obrin.wire.ike.codec.errors import IkeRefusal
from obrin.wire.ike.codec.numbers import Notify
from obrin.wire.ike.events import Refused
from obrin.wire.ike.exchanges import auth as exchange_auth
from obrin.wire.ike.exchanges import info as exchange_info
from obrin.wire.ike.exchanges.scope import covered
from tests.doubles import Net, pair

HERE = tuple(Selector.of(parse_prefix(f"10.{n}.0.0/16")) for n in (1, 2, 3))
THERE = tuple(
    Selector.of(parse_prefix(p)) for p in ("10.11.0.0/16", "10.12.0.0/16", "2001:db8::/48")
)
HERE6 = (*HERE[:2], Selector.of(parse_prefix("2001:db8:1::/48")))


def network(local, remote, *, own=False, theirs=False, narrower=None, suite="modern", **bad) -> Net:
    """`own` and `theirs`: whether the initiator and the responder hold one pair in a child SA."""
    ends = pair((SHIPPED[suite],), seed=bad.get("seed", 1))
    one, two = (end.tunnels["t"] for end in ends)
    one.config = replace(one.config, local_selectors=local, remote_selectors=remote, each_pair=own)
    two.config = replace(
        two.config,
        local_selectors=remote,
        remote_selectors=narrower or local,
        each_pair=theirs,
    )
    net = Net(*ends, **bad)
    for end in ends:
        end.start(0.0)
    return net


def held(net: Net) -> list:
    """The scopes at either end, as the initiator sees them."""
    one, two = (end.tunnels["t"] for end in net.ends)
    assert set(one.outbounds) == {scope[::-1] for scope in two.outbounds}
    return sorted(one.outbounds, key=str)


def crosses(net: Net, source: Address, destination: Address) -> bool:
    one, two = (end.tunnels["t"] for end in net.ends)
    for here, there, ends in ((one, two, (source, destination)), (two, one, (destination, source))):
        child = here.sending(*ends)
        if child is None:
            return False
        sealed = child.sealer.seal(b"packet")
        if there.children[sealed[:4]].opener.open(sealed) != (4, b"packet"):
            return False
    return True


def host(selector: Selector) -> Address:
    return Address(selector.bits, selector.first + 9)


@pytest.mark.parametrize("suite", ["modern", "high"])
@pytest.mark.parametrize(("own", "theirs"), [(True, True), (True, False), (False, True)])
def test_each_pair_has_a_child_sa_and_packets_go_by_theirs(own, theirs, suite) -> None:
    net = network(HERE6, THERE, own=own, theirs=theirs, suite=suite)
    net.run(30.0)
    expected = list(pairs(HERE6, THERE))
    assert len(expected) == 5
    assert held(net) == sorted(expected, key=str)
    for (mine,), (there,) in expected:
        assert crosses(net, host(mine), host(there))
    assert not crosses(net, host(HERE[2]), host(THERE[0]))
    assert not [e for e in net.events[0] + net.events[1] if isinstance(e, Refused)]


def test_without_the_need_there_is_one() -> None:
    net = network(HERE, THERE[:2])
    net.run(30.0)
    assert held(net) == [(HERE, THERE[:2])]


def test_what_the_responder_does_not_have_is_asked_once() -> None:
    net = network(HERE, THERE[:2], own=True, narrower=HERE[:2])
    net.run(300.0)
    assert len(held(net)) == 4
    refused = [e for e in net.events[0] if isinstance(e, Refused)]
    assert [e.notify for e in refused] == ["TS_UNACCEPTABLE"] * 2
    assert "10.3.0.0-10.3.255.255" in refused[0].text


@pytest.mark.parametrize("known", [1, 0])
def test_when_the_first_pair_is_not_to_be_had_the_next_is_asked_for(known: int) -> None:
    theirs = (HERE[2],) if known else (Selector.of(parse_prefix("10.99.0.0/16")),)
    net = network(HERE, THERE[:1], own=True, narrower=theirs)
    net.run(5.0)
    assert len(held(net)) == known
    if not known:
        assert net.names(0).count("IkeUp") > 1  # it starts anew, again and again
        return
    assert net.names(0).count("IkeUp") == 1
    assert crosses(net, host(HERE[2]), host(THERE[0]))


def test_a_responder_that_takes_no_offer_of_several(monkeypatch) -> None:
    real = exchange_auth.taken

    def strict(config, offered, before):
        if len(offered[0]) * len(offered[1]) > 1:
            raise IkeRefusal(Notify.SINGLE_PAIR_REQUIRED, "one pair at a time")
        return real(config, offered, before)

    monkeypatch.setattr(exchange_auth, "taken", strict)
    net = network(HERE[:2], THERE[:2])
    net.run(30.0)
    assert held(net) == sorted(pairs(HERE[:2], THERE[:2]), key=str)


@pytest.mark.parametrize("seed", range(12))
def test_on_a_bad_network_all_of_them_come_and_are_rekeyed(seed: int) -> None:
    rng = random.Random(seed)
    own = rng.random() < 0.5
    theirs = not own or rng.random() < 0.5
    net = network(HERE, THERE, own=own, theirs=theirs, loss=0.15, delay=0.2, double=0.1, seed=seed)
    expected = sorted(pairs(HERE, THERE), key=str)
    net.run(120.0)
    for _ in range(6):
        for end in rng.sample(net.ends, 2):
            tunnel = end.tunnels["t"]
            for child in rng.sample(list(tunnel.outbounds.values()), min(2, len(tunnel.outbounds))):
                tunnel.rekey_child(child, net.now)
            if rng.random() < 0.3:
                tunnel.rekey_ike(net.now)
        net.run(net.now + 60.0)
    net.calm()
    net.run(net.now + 180.0)
    assert held(net) == expected
    one, two = (end.tunnels["t"] for end in net.ends)
    assert len(one.children) == len(two.children) == len(expected)
    assert all(crosses(net, host(mine), host(there)) for (mine,), (there,) in expected)


@pytest.mark.parametrize("at", [0, 1])
def test_one_that_is_deleted_comes_again_and_the_others_stay(at: int) -> None:
    net = network(HERE[:2], THERE[:2], own=True)
    net.run(30.0)
    before = dict(net.ends[0].tunnels["t"].outbounds)
    tunnel = net.ends[at].tunnels["t"]
    lost = next(iter(tunnel.outbounds.values()))
    exchange_info.delete_child(tunnel, lost, net.now)
    net.run(net.now + 30.0)
    assert held(net) == sorted(before, key=str)
    after = net.ends[0].tunnels["t"].outbounds
    scope = lost.scope if at == 0 else lost.scope[::-1]
    assert [s for s in before if before[s] is not after[s]] == [scope]


def test_a_tunnel_that_starts_again_asks_for_the_pairs_that_are_left() -> None:
    """The peer has dropped the first of them meanwhile."""
    net = network(HERE[:2], THERE[:1], own=True, theirs=True)
    net.run(5.0)
    assert len(held(net)) == 2
    one, two = (end.tunnels["t"] for end in net.ends)
    two.config = replace(two.config, remote_selectors=HERE[1:2])
    assert one.current is not None
    exchange_info.delete_sa(one, one.current, net.now, restart=True)
    net.run(net.now + 20.0)
    assert held(net) == [((HERE[1],), (THERE[0],))]
    assert net.texts(0).count("TS_UNACCEPTABLE") == 1


def test_a_peer_cannot_ask_for_what_is_carried_already() -> None:
    net = network(HERE[:2], THERE[:2])
    net.run(5.0)
    one = net.ends[0].tunnels["t"]
    one.config = replace(one.config, each_pair=True)
    one.outbounds.clear()  # it has forgotten what it has
    one.create_at = net.now
    net.run(net.now + 5.0)
    assert "NO_ADDITIONAL_SAS" in net.texts(0)
    assert len(net.ends[1].tunnels["t"].children) == 1


def test_what_covers_what() -> None:
    whole, small = (ANY_IPV4,), (HERE[0],)
    assert covered((small, small), [(whole, whole)])
    assert not covered((whole, small), [(small, whole)])
    assert covered((HERE, THERE[:2]), [((h,), (t,)) for h, t in itertools.product(HERE, THERE)])
    assert not covered((HERE, THERE), [((h,), THERE) for h in HERE[:2]])
