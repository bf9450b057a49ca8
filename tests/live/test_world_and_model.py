"""The practice gateways' own tables against the model's, before and after every single failure."""

from __future__ import annotations

import random
from dataclasses import replace

import pytest

from obrin.core.address.prefix import Address
from obrin.core.check.tunnels.sessions import sessions
from obrin.core.design.places import NetworkRef
from obrin.core.drill.elements import Element, elements, lost_ways
from obrin.core.errors import Misfit
from obrin.core.routing.decision import Decision
from obrin.core.routing.forwarding import RouteKind
from obrin.core.routing.model import state_of
from obrin.core.routing.packet import PacketKey
from obrin.core.routing.path import Candidate
from obrin.core.routing.stable import Stable
from obrin.core.routing.tables import table_rows
from obrin.core.settled.model import Settled, host_of
from obrin.wire.bfd import BfdState
from tests.doubles import DESIGN, settled_of, swap
from tests.live.buildable import Drawn
from tests.live.test_virtual_world import as_expected
from tests.live.virtual_world import VirtualWorld

# The pier has three tunnels, two of which share; the yard is static and watched; the quay marks
# what it tells and tells one summary for two networks.
THREE_SITES = swap(
    (
        "    networks: {desks: 10.20.0.0/22, guests: 10.20.8.0/24}",
        "    networks: {desks: 10.20.0.0/22, tills: 10.20.4.0/22, guests: 10.20.8.0/24}",
    ),
    (
        "    networks: [desks]\n    bgp: {hold-time: 6 s}",
        "    networks: [desks, tills]\n    bgp: {hold-time: 6 s, summaries: 10.20.0.0/21, communities: [no-export]}",
    ),
    (
        "clouds:\n",
        """\
  pier:
    networks: {desks: 10.30.0.0/22, boats: 10.30.4.0/24}
    gateways:
      pier-gw:
        uplinks:
          fibre: {address: 192.0.2.20, provider: one}
          radio: {address: 198.51.100.30, provider: two}
  yard:
    networks: {shop: 10.40.0.0/24}
    gateways:
      yard-gw:
        uplinks:
          line: {address: 192.0.2.30, provider: one}
          mobile: {address: 198.51.100.40, provider: three, inside: 192.168.3.2}
clouds:
""",
    ),
    (
        "expectations:\n",
        """\
  pier-apps:
    site: pier
    cloud: apps
    bgp: {hold-time: 6 s}
    tunnels:
      x: {gateway: pier-gw, uplink: fibre, instance: 1, role: shared}
      y: {gateway: pier-gw, uplink: radio, instance: 2, role: shared}
      z: {gateway: pier-gw, uplink: radio, instance: 1}
  yard-apps:
    site: yard
    cloud: apps
    routing: static
    liveness: {delay: 2 s, wait: 500 ms, tries: 3}
    tunnels:
      m: {gateway: yard-gw, uplink: line, instance: 2}
      n: {gateway: yard-gw, uplink: mobile, instance: 1}
expectations:
""",
    ),
    text=DESIGN,
)
SETTLED = settled_of(THREE_SITES)


def same_everywhere(world: VirtualWorld, stable: Stable) -> None:
    """Routes, shares, every decision with its paths and losers, and the cloud's choice."""
    settled = world.settled
    for name, router in world.routers.items():
        model = {
            p: (r.kind, r.via, r.others)
            for p, r in stable.table(name)
            if r.kind is not RouteKind.CONNECTED
        }
        seen = {
            p: (r.kind, r.via, r.others)
            for p, r in router.table.items()
            if r.kind is not RouteKind.CONNECTED
        }
        assert {p: (k, {v, *o}) for p, (k, v, o) in seen.items()} == {
            p: (k, {v, *o}) for p, (k, v, o) in model.items()
        }
        for prefix, decision in router.bgp.speaker.decisions.items():
            expected = stable.heard(name, prefix).decision
            assert by_session(settled, decision) == by_session(settled, expected)
    for site in settled.sites:
        for network, prefix in settled.networks_at(site):
            found = stable.match("apps", host_of(prefix))
            chosen = world.cloud.choose("apps", PacketKey(Address(32, 0), host_of(prefix), 1))
            if found is None:
                assert chosen is None, (site, network)
            else:
                ways = {found[1].via, *found[1].others}
                assert chosen.replace(".", "/") in ways, (site, network)


def by_session(settled: Settled, decision: Decision) -> list[tuple[Candidate, str]]:
    """The winner, then the losers with their rules; each session once, however many tunnels it has."""
    names = {
        name: session.first.label
        for tunnel in settled.tunnels()
        for session in settled.sessions_over(tunnel)
        for name in (tunnel.label, session.label)
    }
    found: dict[Address, tuple[Candidate, str]] = {}
    for candidate, rule in ((decision.winner, "won"), *decision.losers):
        peer = replace(candidate.peer, name=names[candidate.peer.name])
        found.setdefault(peer.address, (replace(candidate, peer=peer, cost=0), rule))
    winner, *losers = found.values()
    return [winner, *sorted(losers, key=lambda pair: pair[0].peer.address)]


@pytest.fixture(scope="module")
def world() -> VirtualWorld:
    made = VirtualWorld(SETTLED)
    made.run(15.0)
    return made


WHOLE = state_of(SETTLED)


def test_with_everything_up(world: VirtualWorld) -> None:
    same_everywhere(world, WHOLE)
    told = WHOLE.heard("apps", settled_summary()).decision.winner.path
    assert told.communities
    assert (
        WHOLE.route("apps", SETTLED.network(NetworkRef.of("quay/desks"))) is None
    )  # the summary stands for it
    assert WHOLE.match("apps", host_of(SETTLED.network(NetworkRef.of("quay/desks")))) is not None


def settled_summary():
    return SETTLED.links["quay-apps"].summaries[0]


@pytest.mark.parametrize("element", elements(SETTLED), ids=str)
def test_after_a_failure_and_after_it_is_mended(world: VirtualWorld, element: Element) -> None:
    lost = lost_ways(SETTLED, [element])
    assert lost
    failed_and_mended(world, WHOLE, lost, 15.0, 60.0)


def failed_and_mended(
    world: VirtualWorld, whole: Stable, lost: frozenset[str], after: float, mended: float
) -> None:
    """The world is as the model says, seconds after these ways are cut and after they are healed."""
    for label in lost:
        world.cut(label)
    world.run(after)
    same_everywhere(world, Stable(whole.network, lost, whole))
    world.internet.heal()
    world.run(mended)
    same_everywhere(world, whole)


def all_watched(world: VirtualWorld) -> bool:
    """Whether BFD is up wherever it is wanted."""
    instances = [instance.router for instance in world.cloud.instances.values()]
    return all(
        session.state is BfdState.UP
        for router in (*world.routers.values(), *instances)
        for session in router.bfd.sessions.values()
    )


def in_agreement(seed: int, failures: int) -> None:
    """Before, during and after failures of a drawn design; and its flows, with real packets."""
    drawn = Drawn(seed)
    settled = settled_of(drawn.text)
    made = VirtualWorld(settled)
    made.run(12.0)
    whole = state_of(settled)
    same_everywhere(made, whole)
    assert all(as_expected(made)), drawn.text
    assert all_watched(made), drawn.text
    every = list(elements(settled))
    for element in random.Random(seed).sample(every, min(failures, len(every))):
        failed_and_mended(made, whole, lost_ways(settled, [element]), 12.0, 12.0)


@pytest.mark.parametrize("first", range(0, 60, 10))
def test_drawn_designs_of_both_families(first: int) -> None:
    for seed in range(first, first + 10):
        in_agreement(seed, failures=1)


@pytest.mark.slow
@pytest.mark.parametrize("first", range(1000, 2500, 50))
def test_many_drawn_designs_and_all_their_failures(first: int) -> None:
    for seed in range(first, first + 50):
        in_agreement(seed, failures=99)


BEYOND = swap(
    (
        "        uplinks:\n          fibre: {address: 192.0.2.10",
        "        loopback: 10.250.0.1\n        uplinks:\n          fibre: {address: 192.0.2.10",
    ),
    (
        "    bgp: {hold-time: 6 s}",
        "    bgp: {hold-time: 6 s, site-end: loopback, cloud-end: gateway-subnet}",
    ),
)


def test_a_session_beyond_the_tunnel_uses_the_host_route_and_no_other() -> None:
    settled = settled_of(BEYOND)
    made = VirtualWorld(settled)
    made.run(12.0)
    router = made.routers["quay-gw"]
    for tunnel in settled.tunnels():
        config = router.bgp.sessions[tunnel.label].config
        assert (config.local_address, config.peer_address) == tunnel.peers
        assert config.multihop
        found, route = router.table.match(config.peer_address)
        assert (found.length, route.via) == (32, tunnel.label)
    rows = table_rows(settled, "quay-gw", state_of(settled))
    assert {r.why for r in rows if r.prefix.length == 32} == {
        "leads to the BGP peer beyond the tunnel"
    }
    assert all(as_expected(made))


ONE = swap(
    ("uplink: radio, instance: 2", "uplink: radio, instance: 1"),
    ("{hold-time: 6 s, site-end", "{hold-time: 20 s, site-end"),
    ("    cloud: apps\n", "    cloud: apps\n    liveness: {delay: 2 s, wait: 500 ms, tries: 3}\n"),
    text=BEYOND,
)


def test_one_session_goes_over_whichever_tunnel_is_up() -> None:
    settled = settled_of(ONE)
    assert "peer-two-ways" not in {f.code for f in sessions(settled)}
    made = VirtualWorld(settled)
    made.run(12.0)
    (session,) = made.routers["quay-gw"].bgp.sessions.values()
    assert session.established
    (told,) = {s.label: s for t in settled.tunnels() for s in settled.sessions_over(t)}.values()
    assert [t.label for t in told.tunnels] == ["quay-apps/a", "quay-apps/b"]
    log = made.routers["quay-gw"].bgp.speaker.log
    before = list(log)
    made.cut("quay-apps/a")
    made.run(15.0)
    same_everywhere(made, Stable(state_of(settled).network, ["quay-apps/a"], state_of(settled)))
    assert log == before  # it never ended
    assert all(as_expected(made))


def test_one_session_for_both_families_over_two_tunnels_loses_one_with_its_next_hop() -> None:
    codes = {f.code for f in sessions(settled_of(ONE.replace("obrin: 1", "obrin: 1\nstack: dual")))}
    assert "next-hop-one-way" in codes
    assert "next-hop-one-way" not in {f.code for f in sessions(settled_of(ONE))}


def test_a_session_that_is_over_before_its_tunnel_is_known_dead() -> None:
    codes = {f.code for f in sessions(settled_of(ONE.replace("hold-time: 20 s", "hold-time: 6 s")))}
    assert codes == {"session-over-first"}
    assert not list(sessions(settled_of(ONE)))


def test_two_sessions_to_one_instance_cannot_both_end_beyond_their_tunnels() -> None:
    one = ONE.replace("site-end: loopback, ", "")
    assert "peer-two-ways" in {f.code for f in sessions(settled_of(one))}
    assert "peer-two-ways" not in {f.code for f in sessions(settled_of(BEYOND))}
    made = VirtualWorld(settled_of(one))
    made.run(20.0)
    both = made.routers["quay-gw"].bgp.sessions.values()
    assert not all(session.established for session in both)  # what the finding says


def test_a_session_cannot_end_where_no_address_is() -> None:
    with pytest.raises(Misfit, match="loopbacks are IPv4"):
        settled_of(BEYOND.replace("obrin: 1", "obrin: 1\nstack: ipv6"))
    settled = settled_of(BEYOND.replace("        loopback: 10.250.0.1\n", ""))
    assert settled.gateways["quay-gw"].loopback is not None, "one is settled where it is needed"
