"""The practice world against the model: the same reach, the same tables, the predicted outage."""

from __future__ import annotations

import random
from dataclasses import replace

import pytest

from obrin.core.address.prefix import Prefix
from obrin.core.check.expectations import expectations
from obrin.core.design.settled import host_of
from obrin.core.drill.outage import predict_outage
from obrin.core.ipsec.suite import SHIPPED
from obrin.core.reach.model import ReachModel
from obrin.core.reach.trace import probe_key, there_and_back
from obrin.core.routing.forwarding import RouteKind
from obrin.core.routing.model import all_up, cloud_table, site_table
from obrin.live.practice.internet import CLOUD
from obrin.wire.packet import UDP, decode_ipv4
from tests.doubles import DESIGN, settled_of, swap
from tests.live.virtual_world import VirtualWorld, cloud_via

MORE = (
    DESIGN
    + """\
  - {from: apps/web, to: quay/desks, flow: udp/5140, must: work}
  - {from: apps/web, to: quay/desks, flow: icmp, must: not}
  - {from: quay/desks, to: apps/web, flow: tcp/22, must: not}
"""
)
BEHIND = ("address: 192.0.2.10,", "address: 192.0.2.10, inside: 192.168.7.2,")


def world_of(*changes: tuple[str, str], text: str = MORE) -> VirtualWorld:
    world = VirtualWorld(settled_of(swap(*changes, text=text)))
    world.run(10.0)
    return world


def as_expected(world: VirtualWorld) -> list[bool]:
    found = []
    for wish in world.settled.expectations:
        key = probe_key(world.settled, wish)
        at_cloud = wish.source.partition("/")[0] in world.settled.clouds
        query = world.ask(*key[:3], key.destination_port, at_cloud=at_cloud)
        found.append((query.answered_at is not None) == (wish.must == "work"))
    return found


OVERLAP = (
    (
        "    subnets: {web: {hosts: 100}}",
        "    space: 10.20.0.0/20\n    subnets: {web: {hosts: 100}}",
    ),
    (
        "    networks: [desks]\n",
        "    networks: [desks]\n    seen-as: {desks: }\n    cloud-seen-as:\n",
    ),
)
VARIANTS = {
    "plain": (),
    "static": (("    bgp: {hold: 6 s}", "    routing: static"),),
    "always": (("    bgp: {hold: 6 s}", "    bgp: {hold: 6 s}\n    encapsulation: always"),),
    "behind a translator": (BEHIND,),
    "site seen as another": (
        ("    networks: [desks]\n", "    networks: [desks]\n    seen-as: {desks: }\n"),
    ),
    "overlap, both seen as others": OVERLAP,
    "overlap, static": (*OVERLAP, ("    bgp: {hold: 6 s}", "    routing: static")),
    "part of a network": (
        (
            "    networks: [desks]\n",
            "    networks: [desks]\n    only: {desks: [10.20.1.16/28, 10.20.3.1/32]}\n",
        ),
    ),
    "part of one seen as another": (
        (
            "    networks: [desks]\n",
            "    networks: [desks]\n    seen-as: {desks: }\n    only: {desks: 10.20.2.64/26}\n",
        ),
    ),
    "some hosts in an overlap": (
        (
            "    subnets: {web: {hosts: 100}}",
            "    space: 10.20.0.0/20\n    subnets: {web: {prefix: 10.20.12.0/24}}",
        ),
        ("    networks: [desks]\n", "    networks: [desks]\n    only: {desks: 10.20.1.16/28}\n"),
    ),
    "several spaces": (
        (
            "    subnets: {web: {hosts: 100}}",
            "    space: [10.70.0.0/25, 10.80.0.0/24]\n    subnets: {web: {hosts: 200}}",
        ),
    ),
    "four octet AS": (("        uplinks:", "        as: 4200000001\n        uplinks:"),),
    **{
        name: (("    bgp: {hold: 6 s}", f"    bgp: {{hold: 6 s}}\n    suite: {name}"),)
        for name in SHIPPED
    },
}


@pytest.mark.parametrize("variant", VARIANTS)
def test_every_expectation_holds_with_real_packets(variant: str) -> None:
    world = world_of(*VARIANTS[variant])
    assert all(as_expected(world))
    model = ReachModel(world.settled)
    for wish in world.settled.expectations:
        there, back = there_and_back(model, wish)
        assert (not there.dropped and not (back and back.dropped)) == (wish.must == "work"), wish
    assert "expectation-unmet" not in {f.code for f in expectations(world.settled)}


def same_tables(world: VirtualWorld, up: frozenset[str]) -> None:
    """What the practice routers hold is what the model says they hold."""
    settled = world.settled
    model = site_table(settled, "quay-gw", up)
    own = world.nodes["quay-gw"].table
    learned = {p: r.via for p, r in own.items() if r.kind is not RouteKind.CONNECTED}
    assert learned == {p: r.via for p, r in model.items() if r.kind is not RouteKind.CONNECTED}
    desk = host_of(settled.network("quay/desks"))
    chosen = world.fabric.choose("apps", desk)
    expected = cloud_table(settled, "apps", up).match(desk)[1].via
    assert cloud_via(chosen.node, desk) == expected.replace("/", ".")


@pytest.mark.parametrize("variant", ["plain", "static"])
def test_tables_are_the_models_before_and_after_each_failure(variant: str) -> None:
    changes = VARIANTS[variant]
    if variant == "static":
        changes = (("    bgp: {hold: 6 s}",
                    "    routing: static\n    liveness: {delay: 2 s, wait: 500 ms, tries: 3}"),)  # fmt: skip
    world = world_of(*changes)
    both = all_up(world.settled)
    same_tables(world, both)
    for label in ("quay-apps/a", "quay-apps/b"):
        world.cut(label)
        world.run(12.0)
        same_tables(world, both - {label})
        assert all(as_expected(world))
        world.internet.heal()
        world.run(40.0)
        same_tables(world, both)


OUTAGES = [
    (("bgp: {hold: 6 s}", "bgp: {hold: 6 s}"),),
    (("bgp: {hold: 6 s}", "bgp: {hold: 30 s}"),),
    (("bgp: {hold: 6 s}", "bgp: {hold: 90 s}\n    liveness: {delay: 3 s, wait: 1 s, tries: 3}"),),
    (("bgp: {hold: 6 s}", "routing: static\n    liveness: {delay: 2 s, wait: 500 ms, tries: 3}"),),
]


@pytest.mark.parametrize("changes", OUTAGES, ids=range(len(OUTAGES)))
@pytest.mark.parametrize("moment", [0.0, 0.7, 1.9])
def test_the_measured_outage_is_the_predicted_one(changes, moment: float) -> None:
    world = world_of(*changes)
    world.run(moment)
    settled = world.settled
    predicted = predict_outage(settled, next(settled.tunnels()))
    desk, web = host_of(settled.network("quay/desks")), host_of(settled.network("apps/web"))
    assert world.longest_gap(desk, web, 1.0) <= 0.11
    world.cut("quay-apps/a")
    gap = world.longest_gap(desk, web, predicted.longest + 3.0)
    assert predicted.shortest - 0.2 <= gap <= predicted.longest + 0.2


def test_losing_an_uplink_moves_traffic_and_healing_moves_it_back() -> None:
    world = world_of()
    world.internet.cut_lines.add("quay-gw/fibre")
    world.run(12.0)
    assert all(as_expected(world))
    assert world.nodes["quay-gw"].states["quay-apps/b"].packets_out > 0
    world.internet.heal()
    world.run(60.0)
    same_tables(world, all_up(world.settled))


def test_the_second_end_notices_too_and_both_forget_the_dead_sa() -> None:
    world = world_of(("bgp: {hold: 6 s}", "bgp: {hold: 6 s}\n    liveness: {delay: 2 s}"))
    world.cut("quay-apps/a")
    world.run(30.0)
    assert world.nodes["quay-gw"].ike.tunnels["quay-apps/a"].outbound is None
    assert world.instance(1).ike.tunnels["quay-apps.a"].outbound is None
    texts = [text for _, _, text in world.nodes["quay-gw"].history]
    assert any("the peer did not answer" in text for text in texts)


def test_rekeys_lose_nothing() -> None:
    world = world_of()
    node = world.nodes["quay-gw"]
    desk, web = (host_of(world.settled.network(n)) for n in ("quay/desks", "apps/web"))
    for tunnel in node.ike.tunnels.values():
        tunnel.rekey_child(tunnel.outbound, world.now)
    assert world.longest_gap(desk, web, 2.0) <= 0.11
    for instance in (1, 2):
        for tunnel in world.instance(instance).ike.tunnels.values():
            tunnel.rekey_ike(world.now)
            tunnel.rekey_child(tunnel.outbound, world.now)
    assert world.longest_gap(desk, web, 2.0) <= 0.11


@pytest.mark.parametrize("end", ["site", "cloud"])
def test_keys_that_differ_keep_the_tunnel_down_and_say_so(end: str) -> None:
    settled = settled_of(MORE)
    world = VirtualWorld(settled)
    body = world.store.resources["tunnels", "quay-apps.a"].body
    changed = body.model_copy(update={"pre_shared_key": "another-key-altogether-123"})
    world.store.resources["tunnels", "quay-apps.a"].body = changed
    world.fabric.rebuild(world.now)
    world.run(10.0)
    assert world.nodes["quay-gw"].ike.tunnels["quay-apps/a"].outbound is None
    refusal = world.nodes["quay-gw"].states["quay-apps/a"].last_refusal
    if end == "cloud":
        refusal = world.instance(1).states["quay-apps.a"].last_refusal
        assert "pre-shared keys differ" in refusal
    assert "AUTHENTICATION_FAILED" in refusal
    assert all(as_expected(world))  # the other tunnel carries it all


def test_what_drops_a_packet_is_named_as_the_model_names_it() -> None:
    world = world_of()
    wish = world.settled.expectations[2]
    key = probe_key(world.settled, wish)
    world.ask(key.source, key.destination, key.protocol, key.destination_port)
    there, _ = there_and_back(ReachModel(world.settled), wish)
    (drop,) = [d for d, _ in world.nodes["quay-gw"].drops if d.key.source == key.source]
    assert drop.place in there.dropped
    assert "filter" in drop.reason
    assert "filter" in there.dropped


def test_a_translator_is_found_and_only_udp_crosses_it() -> None:
    seen = []
    world = VirtualWorld(settled_of(swap(BEHIND, text=MORE)))
    carry = world.internet.carry

    def watch(cable: str, data: bytes):
        onward = carry(cable, data)
        if onward is not None and onward[0] == CLOUD:
            seen.append(decode_ipv4(onward[1]))
        return onward

    world.internet.carry = watch
    world.run(10.0)
    path = world.nodes["quay-gw"].ike.tunnels["quay-apps/a"].path
    assert path.local_translated
    assert path.encapsulate
    public = [p for p in seen if p.source == 0xC000020A]
    assert public
    assert {p.protocol for p in public} == {UDP}
    assert not any(p.source == 0xC0A80702 for p in seen)  # the inside address stays inside
    assert not world.nodes["quay-gw"].ike.tunnels["quay-apps/b"].path.encapsulate


def test_new_filter_rules_are_taken_in_place() -> None:
    world = world_of()
    node = world.nodes["quay-gw"]
    before = node.ike.tunnels["quay-apps/a"].current
    assert node.take_rules(replace(node.config, rules=()))
    assert node.ike.tunnels["quay-apps/a"].current is before
    assert not all(as_expected(world))  # now everything is dropped
    assert not node.take_rules(replace(node.config, static=((Prefix(32, 0, 0), "x", 1),)))


def test_no_transit_between_the_site_networks_that_do_not_use_the_link() -> None:
    world = world_of()
    guests = host_of(world.settled.network("quay/guests"))
    assert world.fabric.choose("apps", guests) is None


def lossy_hours(seed: int, seconds: float) -> None:
    """An internet that loses a tenth of everything, and short lifetimes: nothing wears out."""
    short = ("\nlinks:\n", "\nsuites:\n  short:\n    ike: {encryption: AES-GCM-16-128, prf: "
             "PRF-HMAC-SHA2-256, group: 31, lifetime: 15 min}\n    esp: {encryption: "
             "AES-GCM-16-128, pfs: 31, lifetime: 4 min}\nlinks:\n")  # fmt: skip
    world = world_of(short, ("bgp: {hold: 6 s}", "bgp: {hold: 30 s}\n    suite: short"))
    rng, carry = random.Random(seed), world.internet.carry
    loss = 0.1
    world.internet.carry = lambda cable, data: None if rng.random() < loss else carry(cable, data)
    world.run(seconds)
    loss = 0.0
    world.run(120.0)
    assert all(as_expected(world))
    same_tables(world, all_up(world.settled))
    for node in (world.nodes["quay-gw"], world.instance(1), world.instance(2)):
        for tunnel in node.ike.tunnels.values():
            assert len(tunnel.sas) == len(tunnel.children) == 1
        assert len(node._inbound) == len(node.ike.tunnels)


def test_a_lossy_hour_wears_nothing_out() -> None:
    lossy_hours(1, 3600.0)


@pytest.mark.slow
@pytest.mark.parametrize("seed", range(2, 12))
def test_a_lossy_day_wears_nothing_out(seed: int) -> None:
    lossy_hours(seed, 86400.0)
