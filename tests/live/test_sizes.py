"""Packets as large as the path, on the practice link: told, clamped, lost in silence."""

from __future__ import annotations

import pytest

from obrin.core.address.prefix import parse_address
from obrin.core.design.places import NetworkRef
from obrin.core.settled.model import host_of
from obrin.wire.icmp import too_big
from obrin.wire.packet import ESP, ICMP, TCP, UDP, Packet
from tests.cli.program import Folder
from tests.doubles import DESIGN, settled_of, swap
from tests.live.test_virtual_world import BEHIND, MORE
from tests.live.virtual_world import VirtualWorld
from tests.outputs import valid

NARROWER = (
    "{address: 192.0.2.10, provider: one}",
    "{address: 192.0.2.10, provider: one, mtu: 1492}",
)


def inside(mtu: int) -> int:
    """By AES-GCM: outer header, SPI and sequence, IV, ICV; then whole words with the trailer."""
    return (mtu - 20 - 8 - 8 - 16) // 4 * 4 - 2


@pytest.mark.parametrize("at_cloud", [False, True])
def test_a_sender_hears_what_would_pass(at_cloud: bool) -> None:
    world = VirtualWorld(settled_of(swap(NARROWER, text=MORE)))
    world.run(8.0)
    desk, web = (
        host_of(world.settled.network(NetworkRef.of(n))) for n in ("quay/desks", "apps/web")
    )
    asker, other = (web, desk) if at_cloud else (desk, web)
    protocol, port = (UDP, 5140) if at_cloud else (ICMP, 0)
    hosts = world.cloud.hosts["apps"] if at_cloud else world.sites["quay-gw"].hosts
    most = inside(1492)
    for size in (most, most + 1):
        query = hosts.get(asker).ask(protocol, other, port, world.now, size)
        world.run(1.0)
        assert (query.answered_at is not None) == (size == most), size
        assert query.too_big == (0 if size == most else most)
    assert "larger than the path" not in str(world.internet.lost)
    router = world.routers["quay-gw"] if not at_cloud else None
    if router is not None:
        reasons = [drop.reason for drop, _ in router.drops]
        assert f"larger than the {most} bytes of tunnel quay-apps/a" in reasons


def test_tcp_agrees_on_segments_that_fit() -> None:
    world = VirtualWorld(settled_of(swap(NARROWER, text=MORE)))
    world.run(8.0)
    desk, web = (
        host_of(world.settled.network(NetworkRef.of(n))) for n in ("quay/desks", "apps/web")
    )
    query = world.ask(desk, web, TCP, 443, at_cloud=False)
    assert query.answered_at
    assert query.connection.mss == inside(1492) - 40


def hosts_of(world: VirtualWorld):
    return [host_of(world.settled.network(NetworkRef.of(n))) for n in ("quay/desks", "apps/web")]


@pytest.mark.parametrize("oversize", ["refuse", "fragment"])
@pytest.mark.parametrize("at_cloud", [False, True])
def test_what_may_be_cut_crosses_in_parts_where_the_design_says_so(at_cloud, oversize) -> None:
    text = swap(("    bgp:", f"    oversize: {oversize}\n    bgp:"), text=MORE)
    world = VirtualWorld(settled_of(text))
    world.run(8.0)
    desk, web = hosts_of(world)
    asker, other = (web, desk) if at_cloud else (desk, web)
    protocol, port = (UDP, 5140) if at_cloud else (ICMP, 0)
    hosts = world.cloud.hosts["apps"] if at_cloud else world.sites["quay-gw"].hosts
    for may_fragment in (False, True):
        query = hosts.get(asker).ask(
            protocol, other, port, world.now, 1500, may_fragment=may_fragment
        )
        world.run(1.0)
        crosses = may_fragment and oversize == "fragment"
        assert (query.answered_at is not None) is crosses
        assert bool(query.too_big) is not crosses
    assert "larger than the path" not in str(world.internet.lost)


@pytest.mark.parametrize("behind", [False, True])
@pytest.mark.parametrize("at_cloud", [False, True])
def test_the_way_outside_says_what_it_carries_and_the_sender_hears_of_it(at_cloud, behind) -> None:
    world = VirtualWorld(settled_of(swap(*([BEHIND] if behind else []), text=MORE)))
    world.run(8.0)
    for line in world.internet.lines:
        world.internet.narrow_lines[line] = True
    desk, web = hosts_of(world)
    asker, other = (web, desk) if at_cloud else (desk, web)
    protocol, port = (UDP, 5140) if at_cloud else (ICMP, 0)
    hosts = world.cloud.hosts["apps"] if at_cloud else world.sites["quay-gw"].hosts
    most = inside(1280 - (8 if behind else 0))

    def ask(size: int):
        query = hosts.get(asker).ask(protocol, other, port, world.now, size)
        world.run(1.0)
        return query

    first, second = ask(1400), ask(1400)
    assert (first.answered_at, first.too_big) == (None, 0)  # lost, and the gateway was told
    assert (second.answered_at, second.too_big) == (None, most)
    assert ask(most).answered_at is not None
    world.internet.heal()
    assert ask(1400).too_big == most
    world.run(600.0)
    assert ask(1400).answered_at is not None  # more is tried again


def test_nobody_else_makes_the_way_smaller() -> None:
    """Errors that quote no SPI of ours, come about another peer, or claim next to nothing."""
    world = VirtualWorld(settled_of(MORE))
    world.run(8.0)
    site, name = world.sites["quay-gw"], "quay-apps/a"
    router = site.router
    spi = next(child.spi_out for of, child in router.esp.inbound.values() if of == name)
    path = router.ike.tunnels[name].path
    own, cloud = parse_address(path.local[0]), parse_address(path.remote[0])
    elsewhere = parse_address("203.0.113.99")

    def told(spi: bytes, peer, mtu: int) -> int:
        quoted = Packet(own, peer, ESP, spi + bytes(100))
        site.receive(too_big(quoted, mtu, elsewhere).encode(), world.now)
        return router.esp.ways.within(name, 1400, world.now)

    assert told(b"\1\2\3\4", cloud, 1200) == 1400
    assert told(spi, elsewhere, 1200) == 1400
    assert told(spi, cloud, 1200) == inside(1200)
    assert told(spi, cloud, 1) == inside(576)


@pytest.mark.long
def test_probe_finds_the_largest_packets_and_a_path_that_loses_them(tmp_path) -> None:
    folder = Folder(tmp_path)
    folder.write("design.yaml", swap(NARROWER, text=DESIGN))
    folder.obrin("settle").good()
    try:
        folder.obrin("practice", "start", "--speed", "3000").good()
        folder.obrin("connect").good()
        told = valid("probe --sizes", folder.obrin("probe", "--sizes", "--json").good().json)
        most = inside(1492)
        assert [(t["flow"], t["largest"], t["expected"]) for t in told] == [
            ("tcp/443", most, most),
            ("icmp", most, most),
        ]
        assert told[1]["beyond"] == f"the answer was that {most} would pass"
        folder.obrin("practice", "fault", "large", "quay-gw/nowhere").bad(2, "there is no uplink")
        folder.obrin("practice", "fault", "large", "quay-gw/fibre").good()
        faults = folder.obrin("practice", "status", "--json").good().json
        assert valid("practice status", faults)["faults"]["narrow"] == ["quay-gw/fibre"]
        run = folder.obrin("probe", "--sizes").bad(1, "lost in silence", "NOT AS WISHED")
        assert str(inside(1280)) in run.out
        folder.obrin("practice", "heal").good()
        folder.obrin("probe", "--sizes").good()
    finally:
        folder.obrin("practice", "stop")
