"""Proposals, decisions, policy, tables, filters, traces, outages, packs."""

from __future__ import annotations

import dataclasses
import json

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obrin.core.address.prefix import Address, Prefix, parse_prefix
from obrin.core.design.places import NetworkRef
from obrin.core.design.values import parse_flow
from obrin.core.drill.outage import predict_outage
from obrin.core.handover.ends.proof import Configurations, unmirrored
from obrin.core.handover.pack import PackMaker, gateways_of, make_pack
from obrin.core.handover.secrets import Secrets
from obrin.core.ipsec.liveness import Bfd
from obrin.core.ipsec.proposal import Proposal, Transform, choose, mismatch
from obrin.core.ipsec.registry import ALGORITHMS, Kind, by_name, by_number
from obrin.core.ipsec.selectors import ANY_IPV4, Selector, narrow
from obrin.core.ipsec.suite import SHIPPED, make_suite
from obrin.core.reach.filters import Rule, RuleSet, filter_of, rules_for
from obrin.core.reach.matrix import matrix
from obrin.core.reach.model import ReachModel
from obrin.core.reach.paths import key_of, path_there_and_back
from obrin.core.reach.trace import there_and_back
from obrin.core.routing.decision import RULES, decide
from obrin.core.routing.forwarding import Route, RouteKind, forwarding_table
from obrin.core.routing.model import all_up, state_of, table_of
from obrin.core.routing.packet import PacketKey
from obrin.core.routing.path import AsSet, Candidate, Path, Peer, ases
from obrin.core.routing.policy import PrefixList, SessionPolicy, export_path, import_path
from obrin.core.settled.model import host_of
from tests.doubles import DESIGN, settled_of, swap

P = parse_prefix
KEYS = {"quay-apps/a": "A" * 30, "quay-apps/b": "B" * 30}


def test_names_and_numbers_agree() -> None:
    for algorithm in ALGORITHMS:
        assert by_name(algorithm.kind, algorithm.name.lower()) is algorithm
        assert by_number(algorithm.kind, algorithm.number, algorithm.key_bits) is algorithm
    assert by_name(Kind.GROUP, "31").name == "CURVE25519"
    assert by_number(77, 1, None) is None
    with pytest.raises(KeyError, match=r"known: |did you mean "):
        by_name(Kind.PRF, "PRF-X")


def test_suites_refuse_pairings_that_cannot_work() -> None:
    with pytest.raises(ValueError, match="leave integrity out"):
        make_suite(
            "x",
            encryption="AES-GCM-16-256",
            integrity="HMAC-SHA2-256-128",
            prf="PRF-HMAC-SHA2-256",
            group="31",
        )
    with pytest.raises(ValueError, match="needs an integrity"):
        make_suite("x", encryption="AES-CBC-256", prf="PRF-HMAC-SHA2-256", group="31")


def test_the_initiators_order_decides() -> None:
    high, modern, wide = (SHIPPED[n].ike.proposal() for n in ("high", "modern", "wide"))
    assert choose([wide, high], [high, wide]).transforms == choose([wide], [wide]).transforms
    assert choose([high], [modern]) is None
    assert mismatch([high], [modern]) == (Kind.PRF, Kind.GROUP)


def test_alternatives_inside_one_proposal_and_none_integrity() -> None:
    gcm, cbc = Transform(1, 20, 256), Transform(1, 12, 256)
    offered = Proposal(
        3, (gcm, cbc, Transform(3, 12), Transform(3, 0), Transform(5, 0)), 4, b"spi!"
    )
    own = Proposal(3, (cbc, Transform(3, 12), Transform(5, 0)))
    chosen = choose([offered], [own])
    assert set(chosen.transforms) == {cbc, Transform(3, 12), Transform(5, 0)}
    assert (chosen.number, chosen.spi) == (4, b"spi!")
    assert choose([offered], [Proposal(3, (gcm, Transform(5, 0)))]) is not None
    assert choose([Proposal(3, (gcm,))], [own]) is None


@given(
    st.lists(st.tuples(st.integers(0, 50), st.integers(0, 50)), min_size=1, max_size=4),
    st.lists(st.tuples(st.integers(0, 50), st.integers(0, 50)), min_size=1, max_size=4),
)
def test_narrowing_is_intersection(one, two) -> None:
    def selectors(pairs):
        return [Selector(32, min(p), max(p)) for p in pairs]

    def addresses(found):
        return {n for s in found for n in range(s.first, s.last + 1)}

    both = narrow(selectors(one), selectors(two))
    assert addresses(both) == addresses(selectors(one)) & addresses(selectors(two))
    assert narrow([ANY_IPV4], selectors(one)) == tuple(dict.fromkeys(selectors(one)))


def candidate(**values) -> Candidate:
    peer = Peer(
        "p",
        1,
        Address(32, values.pop("address", 5)),
        values.pop("router", 5),
        values.pop("ebgp", True),
    )
    path = {"next_hop": 1, "as_path": (1, 2), "med": 10} | values
    return Candidate(P("10.0.0.0/8"), Path(**path), peer)


@pytest.mark.parametrize(
    ("better", "rule"),
    [
        ({"local_pref": 101}, "higher local preference"),
        ({"as_path": (1,)}, "shorter AS path"),
        ({"med": 5}, "lower multi-exit discriminator"),
        ({"router": 4}, "lower router identifier"),
        ({"address": 4}, "lower peer address"),
    ],
)
def test_each_rule_decides_in_its_turn(better, rule: str) -> None:
    base = candidate()
    decision = decide([base, candidate(**better)])
    assert decision.losers == ((base, rule),)


def test_med_counts_only_between_paths_of_one_neighbour() -> None:
    one = candidate(as_path=(1, 9), med=50, router=1)
    two = candidate(as_path=(2, 9), med=5, router=2)
    assert decide([one, two]).winner is one


@given(st.permutations(range(6)))
def test_the_order_of_arrival_does_not_matter(order) -> None:
    paths = [candidate(local_pref=100 + n % 3, med=n, router=n, address=n) for n in range(6)]
    assert decide([paths[n] for n in order]).winner == decide(paths).winner
    assert len(RULES) == 8


def test_policy_loops_prepends_and_accepts() -> None:
    policy = SessionPolicy(
        local_as=1, peer_as=2, accept=PrefixList([P("10.0.0.0/8")]), local_pref=150
    )
    assert export_path(policy, P("10.0.0.0/8"), Path(9, (3,)), 7) == Path(7, (1, 3))
    assert import_path(policy, P("10.1.0.0/16"), Path(7, (2,))).local_pref == 150
    assert "loop check" in import_path(policy, P("10.0.0.0/8"), Path(7, (2, 1)))
    assert "not among" in import_path(policy, P("0.0.0.0/0"), Path(7, (2,)))
    internal = SessionPolicy(local_as=1, peer_as=1)
    assert export_path(internal, P("10.0.0.0/8"), Path(9, (3,)), 7) == Path(9, (3,))


def test_administrative_preference_then_metric() -> None:
    p = P("10.0.0.0/8")
    table = forwarding_table(
        [
            Route(p, RouteKind.BGP, "b"),
            Route(p, RouteKind.STATIC, "s2", 2),
            Route(p, RouteKind.STATIC, "s1", 1),
        ]
    )
    assert table.get(p).via == "s1"


@pytest.mark.parametrize("routing", ["bgp", "static"])
def test_tables_follow_the_tunnels_that_are_up(routing: str) -> None:
    settled = settled_of(swap(("    bgp: {hold-time: 6 s}", f"    routing: {routing}")))
    space, desks = settled.clouds["apps"].spaces.ipv4[0], P("10.20.0.0/22")
    both = all_up(settled)
    for up, via in ((both, "quay-apps/a"), (both - {"quay-apps/a"}, "quay-apps/b")):
        assert table_of(settled, "quay-gw", up).get(space).via == via
        assert table_of(settled, "apps", up).get(desks).via == via
    assert table_of(settled, "quay-gw", ()).get(space) is None
    assert table_of(settled, "apps", both).match(P("10.20.8.0/24").address_at(0)) is None


def test_the_model_says_why_a_route_lost() -> None:
    settled = settled_of()
    heard = state_of(settled).heard("quay-gw", settled.clouds["apps"].spaces.ipv4[0])
    assert [(c.peer.name, rule) for c, rule in heard.decision.losers] == [
        ("quay-apps/b", "higher local preference")
    ]
    assert heard.refused == ()


def test_filters_are_no_wider_than_the_expectations() -> None:
    settled = settled_of()
    desk, web = host_of(P("10.20.0.0/22")), host_of(settled.network(NetworkRef.of("apps/web")))
    for place in ("quay-gw", "apps"):
        rules = RuleSet(filter_of(settled, place))
        assert rules.match(PacketKey(desk, web, 6, 40000, 443))
        assert rules.match(PacketKey(web, desk, 6, 443, 40000))
        assert rules.match(PacketKey(desk, web, 1, 0, 0, 8))
        assert not rules.match(PacketKey(web, desk, 1, 0, 0, 8))  # they may not ping us
        assert not rules.match(PacketKey(desk, web, 6, 40000, 22))
        assert not rules.match(PacketKey(desk, web, 17, 1, 443))
        assert not rules.match(PacketKey(host_of(P("10.20.8.0/24")), web, 6, 40000, 443))


ports = st.integers(1, 30)
nearby = st.builds(
    lambda v, n: Prefix(32, v >> (32 - n) << (32 - n), n), st.integers(0, 255), st.integers(26, 32)
)


@given(
    st.lists(
        st.builds(
            Rule,
            name=st.just("r"),
            source=nearby,
            destination=nearby,
            protocol=st.sampled_from([None, 1, 6, 17]),
            source_ports=st.just((0, 65535)),
            destination_ports=st.tuples(ports, ports).map(sorted).map(tuple),
        ),
        max_size=12,
    ),
    st.builds(
        PacketKey,
        st.builds(Address, st.just(32), st.integers(0, 255)),
        st.builds(Address, st.just(32), st.integers(0, 255)),
        st.sampled_from([1, 6, 17]),
        ports,
        ports,
    ),
)
def test_a_rule_set_finds_the_first_rule_that_matches(rules, key) -> None:
    assert RuleSet(rules).match(key) is next((r for r in rules if r.matches(key)), None)


@given(st.sampled_from(["tcp", "udp"]), ports, ports, st.sampled_from(["tcp", "udp"]), ports, ports)
def test_could_match_is_the_union_of_matches(p1, a, b, p2, c, d) -> None:
    one, two = P("10.0.0.0/24"), P("10.1.0.0/24")
    rule, reply = rules_for("r", one, two, parse_flow(f"{p1}/{min(a, b)}-{max(a, b)}"))
    flow = parse_flow(f"{p2}/{min(c, d)}-{max(c, d)}")
    keys = [
        PacketKey(one.address_at(0), two.address_at(0), flow.protocol, 50000, port)
        for port in range(flow.first_port, flow.last_port + 1)
    ]
    assert rule.could_match(one, two, flow) == any(rule.matches(k) for k in keys)
    assert not reply.could_match(two, one, flow)
    assert all(reply.matches(k.reply()) for k in keys if rule.matches(k))
    assert Rule(name="any", source=one, destination=two).could_match(one, two, flow)


def test_traces_name_every_hop_and_the_place_that_drops() -> None:
    settled = settled_of()
    work, _, guests = settled.expectations
    there, back = there_and_back(ReachModel(settled), work)
    assert not there.dropped
    assert not back.dropped
    assert any("route" in hop and "quay-apps/a" in hop for hop in there.hops)
    there, back = there_and_back(ReachModel(settled), guests)
    assert there.dropped.startswith("filter at quay-gw")
    assert back is None
    there, _ = there_and_back(ReachModel(settled, ()), work)
    assert there.dropped.startswith("no route to")


@pytest.mark.parametrize(
    ("change", "low", "high", "by"),
    [
        (("bgp: {hold-time: 6 s}", "bgp: {hold-time: 6 s}"), 4.0, 6.0, "BGP hold time 6 s"),
        (("bgp: {hold-time: 6 s}", "bgp: {hold-time: 180 s}"), 15.0, 25.0, "dead-peer detection"),
        (
            (
                "bgp: {hold-time: 6 s}",
                "routing: static\n    liveness: {delay: 2 s, wait: 1 s, tries: 3}",
            ),
            7.0,
            9.0,
            "dead-peer detection",
        ),
    ],
)
def test_predicted_outages(change, low: float, high: float, by: str) -> None:
    settled = settled_of(swap(change))
    outage = predict_outage(settled, next(settled.tunnels()))
    assert (outage.shortest, outage.longest, outage.detected_by) == (low, high, by)
    assert outage.taken_over_by == "quay-apps/b"


def test_one_tunnel_alone_has_no_end_to_its_outage() -> None:
    settled = settled_of(swap(("      b: {gateway: quay-gw, uplink: radio, instance: 2}\n", "")))
    outage = predict_outage(settled, next(settled.tunnels()))
    assert outage.longest is None
    assert "no other tunnel" in str(outage)


@pytest.mark.parametrize("routing", ["bgp", "static"])
def test_packs_mirror_each_other_and_hold_no_secret(routing: str) -> None:
    settled = settled_of(swap(("    bgp: {hold-time: 6 s}", f"    routing: {routing}")))
    assert PackMaker(settled).mirror_faults() == []
    assert gateways_of(settled) == ["quay-gw", "apps"]
    for name in gateways_of(settled):
        pack = make_pack(settled, name, Secrets(KEYS))
        for text in pack.open_files().values():
            assert not any(key in text for key in KEYS.values())
        assert all(key in json.dumps(pack.keys) for key in KEYS.values())
        for hole in ("None", "TODO", "{{", "...", "<", "blank"):
            assert hole not in pack.sheet + pack.steps, hole
        for tunnel in settled.tunnels():
            for value in (
                tunnel.label,
                str(tunnel.cloud_address),
                str(tunnel.uplink.address),
                str(tunnel.inside.ipv4.length),
            ):
                assert value in pack.sheet
    with pytest.raises(KeyError):
        make_pack(settled, "quay-gw", Secrets())


def test_a_broken_mirror_is_noticed() -> None:
    settled = settled_of()
    tunnel = next(settled.tunnels())
    data = Configurations(settled)
    one, two = (data.ends(place)[tunnel.label] for place in (tunnel.gateway, tunnel.cloud))
    assert not list(unmirrored(one, two))
    for change in (
        {"remote_as": 1},
        {"hold": 7},
        {"initiator": True},
        {"local_prefixes": ()},
        {"local_ends": (Address(32, 1),)},
        {"remote_address": Address(32, 2)},
        {"bfd": Bfd()},
    ):
        assert list(unmirrored(one, dataclasses.replace(two, **change))), change


def test_the_lowest_static_metric_wins_and_equal_ones_share() -> None:
    prefix = P("10.0.0.0/8")
    ways = [
        Route(prefix, RouteKind.STATIC, f"w{n}", metric) for n, metric in enumerate((2, 1, 1, 3))
    ]
    route = forwarding_table(ways).get(prefix)
    assert (route.via, route.others, route.metric) == ("w1", ("w2",), 1)
    assert {route.via_for(key) for key in some_keys()} == {"w1", "w2"}


def some_keys() -> list[PacketKey]:
    ends = Address(32, 1), Address(32, 2)
    return [PacketKey(*ends, 6, port, 443) for port in range(40000, 40016)]


def test_words_of_paths_and_lists() -> None:
    assert str(AsSet((9, 7))) == "{7,9}"
    assert list(ases((65001, AsSet((9, 7))))) in ([65001, 7, 9], [65001, 9, 7])
    assert repr(PrefixList((P("10.0.0.0/8"),))) == "PrefixList(10.0.0.0/8)"
    policy = SessionPolicy(local_as=1, peer_as=2)
    refused = import_path(policy, P("10.0.0.0/8"), Path(1, as_path=(3,)))
    assert refused == "its AS path does not begin with the peer's AS 2"


def test_a_packet_to_one_address_is_translated_with_its_network() -> None:
    settled = settled_of(swap(("    bgp:", "    cloud-seen-as: 10.98.0.0/22\n    bgp:")))
    desks, web = NetworkRef.of("quay/desks"), NetworkRef.of("apps/web")
    flow, real = parse_flow("tcp/443"), settled.network(web).address_at(7)
    found = path_there_and_back(ReachModel(settled), (desks, None), (web, real), flow)
    assert found.there.arrived.destination == real
    assert found.good
    sender = settled.network(desks).address_at(9)
    assert key_of(settled, (desks, sender), (web, None), flow).source == sender


def test_hosts_stand_inside_their_networks() -> None:
    for length in range(20, 33):
        prefix = Prefix(32, 0x0A000000, length)
        assert prefix.holds(host_of(prefix))
    assert DESIGN


def test_a_rule_is_for_its_own_family() -> None:
    """The same numbers in another family are another address."""
    rules = RuleSet([Rule(name="all", source=Prefix(32, 0, 0), destination=Prefix(32, 0, 0))])
    key, other = (PacketKey(Address(bits, 1), Address(bits, 2), 6) for bits in (32, 128))
    assert rules.match(key) is not None
    assert rules.match(other) is None
    assert other.reply().source == Address(128, 2)
    assert "::1 > ::2" in str(other)


def test_a_packet_that_arrives_at_somebody_else_has_not_arrived() -> None:
    """The cloud's subnet lies inside the site's own network: hosts never send beyond it."""
    inside = ("web: {hosts: 100}", "web: {prefix: 10.20.1.0/24}")
    settled = settled_of(
        swap(inside, ("  apps:\n    subnets", "  apps:\n    space: 10.20.0.0/16\n    subnets"))
    )
    model = ReachModel(settled)
    there, back = there_and_back(model, settled.expectations[0])
    assert (there.dropped, back) == ("10.20.1.10 is taken for a host of quay, not of apps", None)
    cells = {(str(c.source), str(c.destination)): c for c in matrix(model, closed=True)}
    assert cells["quay/desks", "apps/web"].broken == ("tcp/443 must work", "icmp must work")
    assert cells["quay/desks", "apps/web"].allowed == ()
