"""Troubles of uplinks in the practice world: what they do, and what does not fall by them."""

from __future__ import annotations

import pytest

from obrin.core.design.places import NetworkRef
from obrin.core.settled.model import host_of
from obrin.live.practice.internet.weather import KINDS, Trouble, with_more
from obrin.wire.packet import TCP
from tests.cli.program import Folder
from tests.doubles import DESIGN, settled_of, swap
from tests.live.test_virtual_world import BEHIND, MORE
from tests.live.virtual_world import VirtualWorld
from tests.outputs import valid

LINE = "quay-gw/fibre"


def world_of(text: str = MORE) -> VirtualWorld:
    made = VirtualWorld(settled_of(text))
    made.run(8.0)
    return made


def answers(world: VirtualWorld, count: int = 20) -> int:
    """Of so many TCP connections from the site, each with two seconds."""
    desk, web = (
        host_of(world.settled.network(NetworkRef.of(n))) for n in ("quay/desks", "apps/web")
    )
    host = world.host(desk)
    return sum(
        world.asked(host, TCP, web, 443, seconds=2.0).answered_at is not None for _ in range(count)
    )


def up(world: VirtualWorld, label: str = "quay-apps/a") -> bool:
    router = world.routers["quay-gw"]
    return router.ike.tunnels[label].outbound is not None and router.bgp.sessions[label].established


@pytest.mark.parametrize(
    "troubles",
    [
        [("loss", "15%")],
        [("double", "50 %")],
        [("delay", "80 ms")],
        [("jitter", "200 ms")],
        [("loss", "5%"), ("double", "10%"), ("delay", "30ms"), ("jitter", "60ms")],
    ],
    ids=str,
)
def test_what_is_lost_late_or_doubled_is_lived_with(troubles) -> None:
    world = world_of()
    for kind, value in troubles:
        world.weather.set(LINE, kind, value)
    world.run(60.0)
    assert up(world)
    assert answers(world) >= 18
    for tunnel in world.routers["quay-gw"].ike.tunnels.values():
        tunnel.rekey_ike(world.now)
    world.run(60.0)
    assert up(world)
    world.weather.heal()
    world.run(30.0)
    assert answers(world) == 20


@pytest.mark.parametrize(
    ("kind", "value", "reason"),
    [
        ("one-way", "out", "only one direction passes"),
        ("one-way", "in", "only one direction passes"),
        ("block", "esp", "a port is blocked"),
        ("loss", "100%", "lost by chance"),
    ],
)
def test_what_stops_a_line_moves_its_flows_and_mends(kind: str, value: str, reason: str) -> None:
    world = world_of()
    world.weather.set(LINE, kind, value)
    world.run(20.0)
    assert not up(world)
    assert up(world, "quay-apps/b")
    assert answers(world, 3) == 3  # by the other line
    assert any(f"{reason} at {LINE}" == why for why in world.internet.lost)
    world.weather.heal()
    world.run(60.0)
    assert up(world)


def test_a_blocked_port_stops_what_begins_and_not_what_stands() -> None:
    world = world_of()
    world.weather.set(LINE, "block", "udp/500")
    world.run(20.0)
    assert up(world)  # ESP passes, and the BGP session in it
    tunnel = world.routers["quay-gw"].ike.tunnels["quay-apps/a"]
    tunnel.rekey_child(tunnel.outbound, world.now)
    world.run(30.0)
    assert not up(world)  # nobody answers there any more


def test_a_translator_that_forgets_is_found_again() -> None:
    world = world_of(swap(BEHIND, text=MORE))
    label = "quay-apps/a"
    before = world.routers["quay-gw"].ike.tunnels[label].current
    line = world.internet.lines[LINE]
    assert line.inward
    world.weather.set(LINE, "forget", "")
    assert not line.inward
    world.run(30.0)
    assert up(world)
    assert world.routers["quay-gw"].ike.tunnels[label].current is before  # RFC 7296 section 2.23
    assert answers(world) == 20


@pytest.mark.parametrize(
    ("kind", "value", "words"),
    [
        ("loss", "5", "not a share"),
        ("loss", "101%", "not a share"),
        ("delay", "5", "has no unit|is not a time"),
        ("delay", "1 h", "too long"),
        ("one-way", "up", "not a direction"),
        ("block", "tcp/500", "nothing to block"),
        ("block", "udp/0", "nothing to block"),
        ("forget", "all", "has no value"),
        ("rain", "", "there is no trouble"),
    ],
)
def test_what_is_no_trouble_is_refused(kind: str, value: str, words: str) -> None:
    with pytest.raises(ValueError, match=words):
        with_more(Trouble(), kind, value)


def test_words_say_what_was_asked_for() -> None:
    asked = {
        "loss": "5 %",
        "double": "2 %",
        "delay": "80 ms",
        "jitter": "40 ms",
        "one-way": "out",
        "block": "udp/4500",
    }
    assert {*asked, "forget", "large", "address"} == set(KINDS)
    trouble = Trouble()
    for kind, value in asked.items():
        trouble = with_more(trouble, kind, value)
    assert list(trouble.words()) == [f"{kind} {value}" for kind, value in asked.items()]


@pytest.mark.long
def test_from_the_command_line(tmp_path) -> None:
    folder = Folder(tmp_path)
    folder.write("design.yaml", DESIGN)
    folder.obrin("settle").good()
    folder.obrin("practice", "fault", "loss", "quay-gw/fibre", "5").bad(2, "not a share")
    folder.obrin("practice", "fault", "loss", "quay-gw/nowhere", "5%").bad(2, "there is no uplink")
    try:
        folder.obrin("practice", "start", "--speed", "3000").good()
        folder.obrin("practice", "fault", "delay", "quay-gw/fibre", "50 ms").good()
        folder.obrin("practice", "fault", "loss", "quay-gw/radio", "10%").good()
        folder.obrin("connect").good()
        folder.obrin("probe").good()
        told = folder.obrin("practice", "status", "--json").good().json
        troubles = valid("practice status", told)["faults"]["troubles"]
        assert troubles == ["delay 50 ms at quay-gw/fibre", "loss 10 % at quay-gw/radio"]
        folder.obrin("practice", "heal").good()
        assert "Cut: nothing." in folder.obrin("practice", "status").good().out
    finally:
        folder.obrin("practice", "stop")
