"""The practice world against the model: the same reach, the same tables, the predicted outage."""

from __future__ import annotations

import random
from dataclasses import replace

import pytest

from obrin.core.address.prefix import Address
from obrin.core.check.flows.expectations import expectations
from obrin.core.design.places import NetworkRef
from obrin.core.drill.outage import predict_outage
from obrin.core.handover.pack import make_pack
from obrin.core.handover.secrets import Secrets
from obrin.core.handover.sheet.context import template_context
from obrin.core.ipsec.suite import SHIPPED
from obrin.core.reach.model import ReachModel
from obrin.core.reach.trace import probe_key, there_and_back, trace
from obrin.core.routing.forwarding import RouteKind
from obrin.core.routing.model import all_up, table_of
from obrin.core.routing.packet import TCP, PacketKey
from obrin.core.settled.model import host_of
from obrin.device.packets.packet_filter import PacketFilter
from obrin.live.practice.internet.internet import CLOUD
from obrin.live.secrets.authority import Authority, Lives
from obrin.live.secrets.material import certificate_files
from obrin.wire.packet import UDP, decode_packet
from tests.authority import NOW
from tests.doubles import DESIGN, settled_of, swap
from tests.live.virtual_world import VirtualWorld

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
        at_cloud = wish.source.place in world.settled.clouds
        ends = key.source, key.destination
        query = world.ask(*ends, key.protocol, key.destination_port, at_cloud=at_cloud)
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
    "static": (("    bgp: {hold-time: 6 s}", "    routing: static"),),
    "always": (
        ("    bgp: {hold-time: 6 s}", "    bgp: {hold-time: 6 s}\n    encapsulation: always"),
    ),
    "behind a translator": (BEHIND,),
    "site seen as another": (
        ("    networks: [desks]\n", "    networks: [desks]\n    seen-as: {desks: }\n"),
    ),
    "overlap, both seen as others": OVERLAP,
    "overlap, static": (*OVERLAP, ("    bgp: {hold-time: 6 s}", "    routing: static")),
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
        name: (("    bgp: {hold-time: 6 s}", f"    bgp: {{hold-time: 6 s}}\n    suite: {name}"),)
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
    model = table_of(settled, "quay-gw", up)
    own = world.routers["quay-gw"].table
    learned = {p: r.via for p, r in own.items() if r.kind is not RouteKind.CONNECTED}
    assert learned == {p: r.via for p, r in model.items() if r.kind is not RouteKind.CONNECTED}
    desk = host_of(settled.network(NetworkRef.of("quay/desks")))
    via = world.cloud.choose("apps", PacketKey(Address(32, 0), desk, 1))
    expected = table_of(settled, "apps", up).match(desk)[1].via
    assert via == expected.replace("/", ".")


@pytest.mark.parametrize("variant", ["plain", "static"])
def test_tables_are_the_models_before_and_after_each_failure(variant: str) -> None:
    changes = VARIANTS[variant]
    if variant == "static":
        changes = (
            (
                "    bgp: {hold-time: 6 s}",
                "    routing: static\n    liveness: {delay: 2 s, wait: 500 ms, tries: 3}",
            ),
        )
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
    (("bgp: {hold-time: 6 s}", "bgp: {hold-time: 6 s}"),),
    (("bgp: {hold-time: 6 s}", "bgp: {hold-time: 30 s}"),),
    (
        (
            "bgp: {hold-time: 6 s}",
            "bgp: {hold-time: 90 s}\n    liveness: {delay: 3 s, wait: 1 s, tries: 3}",
        ),
    ),
    (
        (
            "bgp: {hold-time: 6 s}",
            "routing: static\n    liveness: {delay: 2 s, wait: 500 ms, tries: 3}",
        ),
    ),
]


OUTAGES += [
    (("bgp: {hold-time: 6 s}", "bgp: {hold-time: 30 s}\n    bfd: {interval: 300 ms}"),),
    (("bgp: {hold-time: 6 s}", "routing: static\n    bfd: {interval: 200 ms, multiplier: 4}"),),
]


@pytest.mark.parametrize("changes", OUTAGES, ids=range(len(OUTAGES)))
@pytest.mark.parametrize("moment", [0.0, 0.7, 1.9])
def test_the_measured_outage_is_the_predicted_one(changes, moment: float) -> None:
    world = world_of(*changes)
    world.run(moment)
    settled = world.settled
    predicted = predict_outage(settled, next(settled.tunnels()))
    desk, web = (
        host_of(settled.network(NetworkRef.of("quay/desks"))),
        host_of(settled.network(NetworkRef.of("apps/web"))),
    )
    assert world.longest_gap(desk, web, 1.0) <= 0.11
    world.cut("quay-apps/a")
    gap = world.longest_gap(desk, web, predicted.longest + 3.0)
    assert predicted.shortest - 0.2 <= gap <= predicted.longest + 0.2


POLICY = (
    (
        "        uplinks:\n          fibre",
        "        profile: policy-device\n        uplinks:\n          fibre",
    ),
    ("    bgp: {hold-time: 6 s}\n", "    routing: static\n"),
)


def test_a_device_that_holds_one_tunnel_keeps_a_spare_down_until_it_is_needed() -> None:
    world = world_of(*POLICY)
    settled, router = world.settled, world.routers["quay-gw"]
    first, spare = router.ike.tunnels.values()
    assert (first.established, spare.sas) == (True, [])
    assert all(as_expected(world))
    predicted = predict_outage(settled, next(settled.tunnels()))
    desk, web = (
        host_of(settled.network(NetworkRef.of("quay/desks"))),
        host_of(settled.network(NetworkRef.of("apps/web"))),
    )
    world.cut("quay-apps/a")
    gap = world.longest_gap(desk, web, predicted.longest + 3.0)
    assert predicted.shortest - 0.2 <= gap <= predicted.longest + 0.2
    assert (first.established, spare.established) == (False, True)
    assert all(as_expected(world))
    world.internet.heal()
    world.run(60.0)
    assert (first.established, spare.established) == (True, False)
    assert all(as_expected(world))


SHARE = tuple(
    (f"uplink: {uplink}, instance: {n}", f"uplink: {uplink}, instance: {n}, role: shared")
    for uplink, n in (("fibre", 1), ("radio", 2))
)


@pytest.mark.parametrize(
    "routing",
    [
        "bgp: {hold-time: 6 s}",
        "routing: static",
        "seen-as: {desks: 10.99.4.0/22}\n    cloud-seen-as: 10.98.0.0/22",
    ],
)
def test_shared_tunnels_carry_flows_together_and_each_both_ways(routing: str) -> None:
    world = world_of(*SHARE, ("bgp: {hold-time: 6 s}", routing))
    settled, router = world.settled, world.routers["quay-gw"]
    desk, _ = settled.host(NetworkRef.of("quay/desks"), "apps")
    _, web = settled.host(NetworkRef.of("apps/web"), "quay")
    model = ReachModel(settled)
    taken = set()
    for port in range(40000, 40032):
        key = PacketKey(desk, web, TCP, port, 443)
        there = trace(model, NetworkRef.of("quay/desks"), key)
        back = trace(model, NetworkRef.of("apps/web"), there.arrived.reply())
        (via,) = there.ways
        assert back.ways == there.ways
        assert router.way(router.table.match(key.destination)[1], key) == via
        answer = there.arrived.reply()
        assert world.cloud.choose("apps", answer) == via.replace("/", ".")
        taken.add(via)
    assert taken == {"quay-apps/a", "quay-apps/b"}
    assert all(as_expected(world))
    world.cut("quay-apps/a")
    world.run(40.0)
    assert all(as_expected(world))


def test_a_policy_lets_nothing_else_into_the_tunnel() -> None:
    world = world_of(*POLICY)
    router, web = (
        world.routers["quay-gw"],
        host_of(world.settled.network(NetworkRef.of("apps/web"))),
    )
    guest = host_of(world.settled.network(NetworkRef.of("quay/guests")))
    router._filter = PacketFilter(None)  # the device's filter is open; the selectors still are not
    assert world.ask(guest, web, 1, 0).answered_at is None
    assert "not in the tunnel's traffic selectors" in [drop.reason for drop, _ in router.drops]


def test_tunnels_authenticate_by_certificate() -> None:
    settled = settled_of(
        swap(("    bgp:", "    authentication: certificate\n    bgp:"), BEHIND, text=MORE)
    )
    authority = Authority(name="test")
    authority.found(Lives(), NOW)
    for name, identities in settled.certified().items():
        authority.issue(name, identities, Lives(), NOW)
    world = VirtualWorld(settled, certificates=certificate_files(authority, settled, NOW))
    world.run(10.0)
    same_tables(world, all_up(settled))
    assert all(as_expected(world))
    assert all(t.config.key == b"" for t in world.routers["quay-gw"].ike.tunnels.values())


def test_a_new_secret_restarts_its_tunnel_and_no_other() -> None:
    world = world_of()
    settled, router = world.settled, world.routers["quay-gw"]
    desk, web = (
        host_of(settled.network(NetworkRef.of("quay/desks"))),
        host_of(settled.network(NetworkRef.of("apps/web"))),
    )
    kept, first = router.ike.tunnels["quay-apps/b"], router.ike.tunnels["quay-apps/a"]
    other = replace(router.config.tunnels["quay-apps/a"].peer, key=b"another")
    tunnels = {
        **router.config.tunnels,
        "quay-apps/a": replace(router.config.tunnels["quay-apps/a"], peer=other),
    }
    router.take(replace(router.config, tunnels=tunnels), world.now)
    assert router.ike.tunnels["quay-apps/b"] is kept
    assert router.ike.tunnels["quay-apps/a"] is not first
    world.run(10.0)  # the cloud has the old key still: the other tunnel carries
    assert kept.established
    assert not router.ike.tunnels["quay-apps/a"].established
    assert world.longest_gap(desk, web, 1.0) <= 0.11


@pytest.mark.parametrize("between", [0.05, 0.5, 5.0])
def test_a_key_replaced_at_one_end_and_later_at_the_other_cuts_nothing(between: float) -> None:
    """The order in which `keys rotate` gives keys, with any time between the two ends."""
    world = world_of()
    settled, router, label = world.settled, world.routers["quay-gw"], "quay-apps/a"
    desk, web = (
        host_of(settled.network(NetworkRef.of("quay/desks"))),
        host_of(settled.network(NetworkRef.of("apps/web"))),
    )
    fresh = "another-key-altogether-123"
    resource = world.store.resources["tunnels", "quay-apps.a"]
    resource.body = resource.body.model_copy(update={"pre_shared_key": fresh})
    world.rebuild()
    assert world.longest_gap(desk, web, between) <= 0.11
    assert not router.ike.tunnels[label].established
    own = router.config.tunnels[label]
    changed = replace(own, peer=replace(own.peer, key=fresh.encode()))
    router.take(
        replace(router.config, tunnels={**router.config.tunnels, label: changed}), world.now
    )
    assert world.longest_gap(desk, web, 10.0) <= 0.11
    assert router.ike.tunnels[label].established
    same_tables(world, all_up(settled))


def test_losing_an_uplink_moves_traffic_and_healing_moves_it_back() -> None:
    world = world_of()
    world.internet.cut_lines.add("quay-gw/fibre")
    world.run(12.0)
    assert all(as_expected(world))
    assert world.routers["quay-gw"].states["quay-apps/b"].packets_out > 0
    world.internet.heal()
    world.run(60.0)
    same_tables(world, all_up(world.settled))


def test_the_second_end_notices_too_and_both_forget_the_dead_sa() -> None:
    world = world_of(("bgp: {hold-time: 6 s}", "bgp: {hold-time: 6 s}\n    liveness: {delay: 2 s}"))
    world.cut("quay-apps/a")
    world.run(30.0)
    assert world.routers["quay-gw"].ike.tunnels["quay-apps/a"].outbound is None
    assert world.instance(1).ike.tunnels["quay-apps.a"].outbound is None
    texts = [text for _, _, text in world.routers["quay-gw"].life.history]
    assert any("the peer did not answer" in text for text in texts)


def test_rekeys_lose_nothing() -> None:
    world = world_of()
    router = world.routers["quay-gw"]
    desk, web = (
        host_of(world.settled.network(NetworkRef.of(n))) for n in ("quay/desks", "apps/web")
    )
    for tunnel in router.ike.tunnels.values():
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
    world.rebuild()
    world.run(10.0)
    assert world.routers["quay-gw"].ike.tunnels["quay-apps/a"].outbound is None
    states = world.routers["quay-gw"].states["quay-apps/a"]
    if end == "cloud":
        states = world.instance(1).states["quay-apps.a"]
    assert states.refusal is not None
    assert end == "site" or "pre-shared keys differ" in states.refusal.text
    assert "AUTHENTICATION_FAILED" in states.refusal.text
    assert all(as_expected(world))  # the other tunnel carries it all


def test_what_drops_a_packet_is_named_as_the_model_names_it() -> None:
    world = world_of()
    wish = world.settled.expectations[2]
    key = probe_key(world.settled, wish)
    world.ask(key.source, key.destination, key.protocol, key.destination_port)
    there, _ = there_and_back(ReachModel(world.settled), wish)
    (drop,) = [d for d, _ in world.routers["quay-gw"].drops if d.key.source == key.source]
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
            seen.append(decode_packet(onward[1]))
        return onward

    world.internet.carry = watch
    world.run(10.0)
    path = world.routers["quay-gw"].ike.tunnels["quay-apps/a"].path
    assert path.local_translated
    assert path.encapsulate
    public = [p for p in seen if p.source.value == 0xC000020A]
    assert public
    assert {p.protocol for p in public} == {UDP}
    assert not any(p.source.value == 0xC0A80702 for p in seen)  # the inside address stays inside
    assert not world.routers["quay-gw"].ike.tunnels["quay-apps/b"].path.encapsulate


def test_new_filter_rules_are_taken_in_place() -> None:
    world = world_of()
    router = world.routers["quay-gw"]
    before = router.ike.tunnels["quay-apps/a"].current
    router.take(replace(router.config, rules=()), world.now)
    assert router.ike.tunnels["quay-apps/a"].current is before
    assert not all(as_expected(world))  # now everything is dropped


def test_no_transit_between_the_site_networks_that_do_not_use_the_link() -> None:
    world = world_of()
    guests = host_of(world.settled.network(NetworkRef.of("quay/guests")))
    assert world.cloud.choose("apps", PacketKey(Address(32, 0), guests, 1)) is None


def lossy_hours(seed: int, seconds: float) -> None:
    """An internet that loses a tenth of everything, and short lifetimes: nothing wears out."""
    short = (
        "\nlinks:\n",
        "\nsuites:\n  short:\n    ike: {encryption: AES-GCM-16-128, prf: "
        "PRF-HMAC-SHA2-256, group: 31, lifetime: 15 min}\n    esp: {encryption: "
        "AES-GCM-16-128, pfs: 31, lifetime: 4 min}\nlinks:\n",
    )
    world = world_of(short, ("bgp: {hold-time: 6 s}", "bgp: {hold-time: 30 s}\n    suite: short"))
    rng, carry = random.Random(seed), world.internet.carry
    loss = 0.1
    world.internet.carry = lambda cable, data: None if rng.random() < loss else carry(cable, data)
    world.run(seconds)
    loss = 0.0
    world.run(120.0)
    assert all(as_expected(world))
    same_tables(world, all_up(world.settled))
    for router in (world.routers["quay-gw"], world.instance(1), world.instance(2)):
        for tunnel in router.ike.tunnels.values():
            assert len(tunnel.sas) == len(tunnel.children) == 1
        assert len(router.esp.inbound) == len(router.ike.tunnels)


def test_a_lossy_hour_wears_nothing_out() -> None:
    lossy_hours(1, 3600.0)


@pytest.mark.slow
@pytest.mark.parametrize("seed", range(2, 12))
def test_a_lossy_day_wears_nothing_out(seed: int) -> None:
    lossy_hours(seed, 86400.0)


@pytest.mark.parametrize(
    "changes",
    [
        (),
        (("address: 192.0.2.10,", "address: 192.0.2.10, inside: 192.168.7.2, forwards: true,"),),
        (("    bgp: {hold-time: 6 s}", "    routing: static"),),
    ],
)
def test_the_cloud_starts_where_the_design_says_so(changes) -> None:
    """Also from behind a translator that passes IKE on, and with the inside block turned round."""
    starts = ("instance: 1}", "instance: 1, initiator: cloud, inside-first: site}")
    world = world_of(starts, *changes)
    assert all(as_expected(world))
    site = world.routers["quay-gw"].ike.tunnels["quay-apps/a"]
    assert site.current is not None
    assert not site.current.initiator
    assert world.routers["quay-gw"].ike.tunnels["quay-apps/b"].current.initiator
    assert world.settled.tunnel("quay-apps/a").site_inside.value % 4 == 1


def test_what_lies_behind_an_inner_router_is_reached_by_it() -> None:
    networks = "networks: {desks: 10.20.0.0/22, guests: 10.20.8.0/24}"
    yard = "yard: {prefix: 10.20.12.0/24, behind: 10.20.0.250}"
    text = swap(
        (networks, networks.replace("}", f", {yard}}}")),
        ("networks: [desks]", "networks: [desks, yard]"),
        text=MORE,
    )
    world = world_of(text=text + "  - {from: quay/yard, to: apps/web, flow: tcp/443}\n")
    assert all(as_expected(world))
    there, back = there_and_back(ReachModel(world.settled), world.settled.expectations[-1])
    assert there.hops[1] == "inner router 10.20.0.250 of quay"
    assert back is not None
    assert back.hops[-2] == "inner router 10.20.0.250 of quay"
    site = world.routers["quay-gw"]
    told = {(p, r.kind.label) for p, r in site.table.items()}
    model = {
        (p, r.kind.label)
        for p, r in table_of(world.settled, "quay-gw", all_up(world.settled)).items()
    }
    assert told == model
    pack = make_pack(world.settled, "quay-gw", Secrets(dict.fromkeys(site.states, "k" * 20)))
    assert "by a static route to the inner router 10.20.0.250 in desks" in str(pack.sheet)
    assert "static routes to 10.20.12.0/24 by the inner router" in pack.steps
    context = template_context(world.settled, "quay-gw", None)
    assert [n["name"] for n in context["networks"]] == ["desks", "guests"]
    assert [n["router"] for n in context["inner_networks"]] == ["10.20.0.250"]


def test_a_translator_that_passes_nothing_keeps_the_cloud_out() -> None:
    behind = ("address: 192.0.2.10,", "address: 192.0.2.10, inside: 192.168.7.2,")
    world = world_of(("instance: 1}", "instance: 1, initiator: cloud}"), behind)
    assert world.routers["quay-gw"].ike.tunnels["quay-apps/a"].current is None
    assert "no mapping in the translator of quay-gw/fibre" in world.internet.lost
    assert all(as_expected(world))  # by the other one
