"""A change to one link leaves every other link alone: its SAs, its session, each of its packets."""

from __future__ import annotations

import pytest

from obrin.core.catalogue.offering import PRACTICE_CLOUD
from obrin.core.design.places import NetworkRef
from obrin.core.settle.choices import Choice
from obrin.core.settle.settle import settle
from obrin.core.settled.model import host_of
from tests.doubles import design_of, settled_of
from tests.live.virtual_world import VirtualWorld

DESIGN = """\
obrin: 1
name: test
sites:
  quay:
    networks: {desks: 10.20.0.0/22, guests: 10.20.8.0/24}
    gateways:
      quay-gw:
        as: 64600
        uplinks:
          fibre: {address: 192.0.2.10, provider: one}
          radio: {address: 198.51.100.20, provider: two}
  pier:
    networks: {huts: 10.30.0.0/24}
    gateways:
      pier-gw:
        uplinks:
          fibre: {address: 192.0.2.30, provider: one}
clouds:
  apps:
    subnets: {web: {hosts: 100}}
    gateway: {instances: 2, class: cutter}
  books:
    subnets: {data: {hosts: 50}}
    gateway: {instances: 2, class: cutter}
links:
  changed:
    site: quay
    cloud: apps
    networks: [desks]
    routing: bgp
    bgp: {hold-time: 6 s}
    tunnels:
      a: {gateway: quay-gw, uplink: fibre, instance: 1}
      b: {gateway: quay-gw, uplink: radio, instance: 2}
  same-site:
    site: quay
    cloud: books
    networks: [desks]
    bgp: {hold-time: 6 s}
    tunnels:
      a: {gateway: quay-gw, uplink: fibre, instance: 1}
  same-cloud:
    site: pier
    cloud: apps
    routing: static
    tunnels:
      a: {gateway: pier-gw, uplink: fibre, instance: 1}
expectations:
  - {from: quay/desks, to: apps/web, flow: icmp, must: work}
  - {from: quay/desks, to: books/data, flow: icmp, must: work}
  - {from: pier/huts, to: apps/web, flow: icmp, must: work}
"""
STREAMS = [("quay/desks", "books/data"), ("pier/huts", "apps/web")]
# what is changed: texts replaced in the design
CHANGES = {
    "static instead of BGP": [
        (
            "routing: bgp\n    bgp: {hold-time: 6 s}\n    tunnels:\n      a: {gateway: quay-gw, uplink: fibre, instance: 1}\n      b",
            "routing: static\n    tunnels:\n      a: {gateway: quay-gw, uplink: fibre, instance: 1}\n      b",
        )
    ],
    "another hold time": [
        ("routing: bgp\n    bgp: {hold-time: 6 s}", "routing: bgp\n    bgp: {hold-time: 9 s}")
    ],
    "another suite": [
        (
            "routing: bgp\n    bgp: {hold-time: 6 s}",
            "routing: bgp\n    suite: wide\n    bgp: {hold-time: 6 s}",
        )
    ],
    "always encapsulated": [
        ("routing: bgp\n    bgp", "routing: bgp\n    encapsulation: always\n    bgp")
    ],
    "another liveness": [
        ("routing: bgp\n    bgp", "routing: bgp\n    liveness: {delay: 20 s}\n    bgp")
    ],
    "watched by BFD": [("routing: bgp\n    bgp", "routing: bgp\n    bfd: {}\n    bgp")],
    "one tunnel less": [("      b: {gateway: quay-gw, uplink: radio, instance: 2}\n", "")],
    "another uplink": [
        (
            "      b: {gateway: quay-gw, uplink: radio, instance: 2}",
            "      b: {gateway: quay-gw, uplink: fibre, instance: 2}",
        )
    ],
    "another inside block": [
        (
            "      b: {gateway: quay-gw, uplink: radio, instance: 2}",
            "      b: {gateway: quay-gw, uplink: radio, instance: 2, inside: 169.254.77.0/30}",
        )
    ],
    "other networks": [
        (
            "    networks: [desks]\n    routing: bgp",
            "    networks: [desks, guests]\n    routing: bgp",
        )
    ],
    "other preference": [
        (
            "      a: {gateway: quay-gw, uplink: fibre, instance: 1}\n      b: {gateway: quay-gw, uplink: radio, instance: 2}",
            "      b: {gateway: quay-gw, uplink: radio, instance: 2}\n      a: {gateway: quay-gw, uplink: fibre, instance: 1}",
        )
    ],
    "shared": [
        (
            "      a: {gateway: quay-gw, uplink: fibre, instance: 1}\n      b: {gateway: quay-gw, uplink: radio, instance: 2}",
            "      a: {gateway: quay-gw, uplink: fibre, instance: 1, role: shared}\n      b: {gateway: quay-gw, uplink: radio, instance: 2, role: shared}",
        )
    ],
    "another rule": [
        (
            "flow: icmp, must: work}\n  - {from: quay/desks, to: books",
            "flow: tcp/443, must: work}\n  - {from: quay/desks, to: books",
        )
    ],
    "a subnet more": [
        ("subnets: {web: {hosts: 100}}", "subnets: {web: {hosts: 100}, extra: {hosts: 20}}")
    ],
    "a network at the site": [
        ("guests: 10.20.8.0/24}", "guests: 10.20.8.0/24, yard: 10.20.9.0/24}")
    ],
    "the link gone": [
        (DESIGN[DESIGN.index("  changed:") : DESIGN.index("  same-site:")], ""),
        ("  - {from: quay/desks, to: apps/web, flow: icmp, must: work}\n", ""),
    ],
}


def changed(what: str) -> str:
    text = DESIGN
    for old, new in CHANGES[what]:
        assert text.count(old) == 1, (what, old)
        text = text.replace(old, new)
    return text


def choices_of(text: str) -> dict[str, Choice]:
    return settle(design_of(text), {}, PRACTICE_CLOUD)


@pytest.mark.parametrize("what", CHANGES)
def test_streams_over_untouched_links_lose_nothing(what: str) -> None:
    before = choices_of(DESIGN)
    settled = settled_of(DESIGN, before)
    world = VirtualWorld(settled)
    world.run(30.0)
    pairs = [
        tuple(host_of(settled.network(NetworkRef.of(name))) for name in pair) for pair in STREAMS
    ]
    kept = [
        (
            router.ike.tunnels[label],
            router.ike.tunnels[label].current,
            router.ike.tunnels[label].outbound,
        )
        for router, label in (
            (world.routers["quay-gw"], "same-site/a"),
            (world.routers["pier-gw"], "same-cloud/a"),
            (world.cloud.instances["books-1"].router, "same-site.a"),
            (world.cloud.instances["apps-1"].router, "same-cloud.a"),
        )
    ]
    session = world.routers["quay-gw"].bgp.sessions["same-site/a"]
    asked = 0

    def tick() -> None:
        nonlocal asked
        for source, destination in pairs:
            host = world.host(source)
            query = host.ask(1, destination, 0, world.now)
            world.move()
            assert query.answered_at is not None, (what, asked, source)
            host.forget(query)
            asked += 1
        world.run(0.05)

    for _ in range(5):
        tick()
    after = settled_of(changed(what), before)
    world.change_to(after, tick)
    for _ in range(400):
        tick()
    for tunnel, sa, child in kept:
        assert (tunnel.current, tunnel.outbound) == (sa, child), what
        assert tunnel.established
    assert world.routers["quay-gw"].bgp.sessions["same-site/a"] is session
    assert session.established
    assert asked > 800
    if what not in ("the link gone", "another rule"):
        desks, web = (host_of(after.network(NetworkRef.of(n))) for n in ("quay/desks", "apps/web"))
        assert world.ask(desks, web, 1, 0, at_cloud=False).answered_at is not None, what


def test_a_longer_list_of_prefixes_is_reported_without_a_new_session() -> None:
    before = choices_of(DESIGN)
    world = VirtualWorld(settled_of(DESIGN, before))
    world.run(30.0)
    sessions = dict(world.routers["quay-gw"].bgp.sessions)
    world.change_to(settled_of(changed("other networks"), before), lambda: world.run(0.05))
    world.run(5.0)
    assert world.routers["quay-gw"].bgp.sessions == sessions
    assert all(s.established for s in sessions.values())
    guests = host_of(world.settled.network(NetworkRef.of("quay/guests")))
    assert world.cloud.instances["apps-1"].router.table.match(guests) is not None
    world.change_to(settled_of(DESIGN, before), lambda: world.run(0.05))
    world.run(5.0)
    assert world.routers["quay-gw"].bgp.sessions == sessions
    assert world.cloud.instances["apps-1"].router.table.match(guests) is None
