"""The routing engine on networks made by hand and at random, against a plain simulation."""

from __future__ import annotations

import random

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from obrin.core.address.dual import Dual
from obrin.core.address.prefix import Address, Prefix, parse_prefix
from obrin.core.routing.forwarding import Route, RouteKind
from obrin.core.routing.held import UnstableError
from obrin.core.routing.network import Network
from obrin.core.routing.path import Peer
from obrin.core.routing.policy import (
    NO_ADVERTISE,
    NO_EXPORT,
    PrefixList,
    SessionPolicy,
)
from obrin.core.routing.session import Session
from obrin.core.routing.stable import Stable

P = parse_prefix
NET, OTHER = P("10.1.0.0/24"), P("10.1.1.0/24")
NUMBERS = {name: n for n, name in enumerate("abcdefghij", 1)}
ADDRESS = {name: 0x0A000000 + n for name, n in NUMBERS.items()}


def session(
    sender: str,
    receiver: str,
    via: str = "",
    own: tuple[Prefix, ...] = (),
    *,
    asn=None,
    accept=None,
    pref=100,
    passes=False,
    number=0,
    **more,
) -> Session:
    """From one to another; AS numbers are 65000 and the place in the alphabet, unless given."""
    numbers = {name: 65000 + n for name, n in NUMBERS.items()} | (asn or {})
    out = {k: more.pop(k) for k in list(more) if k in SessionPolicy.__slots__ and k != "limit"}
    limit = more.pop("limit", None)
    ends = numbers[sender], numbers[receiver]
    external = ends[0] != ends[1]
    way = via or f"{sender}{receiver}"
    address = ADDRESS[sender] + 16 * number
    return Session(
        via=way,
        sender=sender,
        receiver=receiver,
        export=SessionPolicy(local_as=ends[0], peer_as=ends[1], passes_on=passes, **out),
        accept=SessionPolicy(
            local_as=ends[1],
            peer_as=ends[0],
            accept=accept,
            local_pref=pref,
            limit=limit,
            attached=out.get("attached", False),
        ),
        peer=Peer(way, ends[0], Address(32, address), NUMBERS[sender], external),
        next_hop=Dual(ADDRESS[sender], more.pop("next_hop6", None)),
        announces=PrefixList(own),
        **more,
    )


def stable(*sessions: Session, fixed=None) -> Stable:
    return Stable(Network(sessions, fixed or {}))


def vias(state: Stable, router: str) -> dict[str, str]:
    return {str(p): r.via for p, r in state.table(router) if r.kind is not RouteKind.CONNECTED}


def test_what_is_passed_on_and_what_is_not() -> None:
    state = stable(
        session("a", "b", own=(NET,)),
        session("b", "c", passes=True),
        session("b", "d"),
        session("c", "a", passes=True),
    )
    assert vias(state, "c") == {"10.1.0.0/24": "bc"}
    assert vias(state, "d") == {}  # b does not pass on to d
    assert vias(state, "a") == {}  # its own
    heard = state.heard("c", NET)
    assert heard.decision.winner.path.as_path == (65002, 65001)
    assert heard.decision.winner.path.next_hop == ADDRESS["b"]


def test_a_loop_is_refused_and_said() -> None:
    same = {"c": 65001}
    state = stable(
        session("a", "b", own=(NET,)), session("b", "c", passes=True, asn=same), fixed={"c": ()}
    )
    ((_, why),) = state.heard("c", NET).refused
    assert "loop check" in why
    assert vias(state, "c") == {}


@pytest.mark.parametrize(
    ("mark", "b", "c"), [(NO_EXPORT, True, False), (NO_ADVERTISE, True, False), (None, True, True)]
)
def test_well_known_communities_stop_where_they_should(mark, b, c) -> None:
    marks = () if mark is None else (mark,)
    state = stable(
        session("a", "b", own=(NET,), communities=marks),
        session("b", "c", passes=True),
        session("b", "d", passes=True, asn={"d": 65002}),
    )
    assert bool(vias(state, "b")) is b
    assert bool(vias(state, "c")) is c
    # Inside the AS of b, no-export does not matter and no-advertise does.
    inside = session("b", "d", passes=True, asn={"d": 65002}, next_hop_self=True)
    state = stable(session("a", "b", own=(NET,), communities=marks), inside)
    assert bool(vias(state, "d")) is (mark != NO_ADVERTISE)


def test_an_internal_peer_is_not_told_what_an_internal_peer_said() -> None:
    one_as = dict.fromkeys("bcd", 65100)
    state = stable(
        session("a", "b", own=(NET,), asn=one_as),
        session("b", "c", passes=True, asn=one_as, next_hop_self=True),
        session("c", "d", passes=True, asn=one_as, next_hop_self=True),
    )
    assert vias(state, "c") == {"10.1.0.0/24": "bc"}
    assert vias(state, "d") == {}
    assert "internal" in str(state.heard("d", NET).refused[0][1])


def test_a_next_hop_beyond_the_way_needs_a_route_of_its_own() -> None:
    """RFC 4271 section 9.1.2.1, also through a route that BGP brought."""
    one_as = {"b": 65100, "c": 65100}
    sessions = [
        session("a", "b", own=(NET,), asn=one_as),
        session("b", "c", passes=True, asn=one_as),
    ]
    assert vias(stable(*sessions), "c") == {}
    hop = Prefix(32, ADDRESS["a"], 32)
    fixed = {"c": [Route(hop, RouteKind.CONNECTED, "lan")]}
    state = stable(*sessions, fixed=fixed)
    assert vias(state, "c") == {"10.1.0.0/24": "bc"}
    assert vias(Stable(state.network, {"lan"}, state), "c") == {}
    # The next hop's route may come by BGP too, but not by the route that hangs on it.
    by_bgp = session("e", "c", own=(Prefix(32, ADDRESS["a"], 30),), asn=one_as)
    assert vias(stable(*sessions, by_bgp), "c")["10.1.0.0/24"] == "bc"
    circle = session("a", "b", own=(NET, Prefix(32, ADDRESS["a"], 30)), asn=one_as)
    assert vias(stable(circle, sessions[1]), "c") == {}


def test_the_nearer_next_hop_wins_among_internal_paths() -> None:
    one_as = dict.fromkeys("bcd", 65100)
    far = Prefix(32, ADDRESS["b"], 32)
    state = stable(
        session("a", "b", "one", (NET,), asn=one_as),
        session("a", "d", "two", (NET,), asn=one_as),
        session("b", "c", "bc", passes=True, asn=one_as, next_hop_self=True),
        session("d", "c", "dc", passes=True, asn=one_as),
        fixed={
            "c": [
                Route(Prefix(32, ADDRESS["a"], 32), RouteKind.CONNECTED, "lan"),
                Route(far, RouteKind.CONNECTED, "lan"),
            ]
        },
    )
    decision = state.heard("c", NET).decision
    assert decision.winner.peer.name == "bc"
    assert [rule for _, rule in decision.losers] == ["nearer next hop"]


def test_peers_beyond_the_way_need_routes_to_each_other() -> None:
    far = session(
        "a", "b", own=(NET,), far_peers=(Address(32, ADDRESS["b"]), Address(32, ADDRESS["a"]))
    )
    assert vias(stable(far), "b") == {}
    to_a = session("a", "b", "leg", (Prefix(32, ADDRESS["a"], 32),), metric=1)
    to_b = session("b", "a", "leg", (Prefix(32, ADDRESS["b"], 32),), metric=1)
    assert "10.1.0.0/24" not in vias(stable(far, to_a), "b")
    state = stable(far, to_a, to_b)
    assert vias(state, "b")["10.1.0.0/24"] == "ab"
    assert "10.1.0.0/24" not in vias(Stable(state.network, {"leg"}, state), "b")


def test_static_routes_come_first_share_at_equal_metric_and_are_passed_on() -> None:
    state = stable(
        session("a", "b", "s1", (NET,), metric=1),
        session("a", "b", "s2", (NET,), metric=1),
        session("a", "b", "s3", (NET,), metric=2),
        session("a", "b", "bgp", (NET,)),
        session("b", "c", passes=True),
    )
    route = state.route("b", NET)
    assert (route.kind, route.via, route.others) == (RouteKind.STATIC, "s1", ("s2",))
    heard = state.heard("c", NET).decision.winner.path
    assert (heard.as_path, heard.origin) == ((65002,), 2)
    down = Stable(state.network, {"s1", "s2", "s3"}, state)
    assert down.route("b", NET).kind is RouteKind.BGP


def test_a_summary_stands_for_what_is_inside_while_something_is() -> None:
    wide = P("10.1.0.0/16")
    state = stable(
        session("a", "b", own=(NET,)),
        session("d", "b", own=(OTHER,)),
        session("b", "c", own=(wide,), passes=True, summaries=(wide,)),
    )
    assert vias(state, "c") == {"10.1.0.0/16": "bc"}
    assert any("inside the summary" in why for _, why in state.heard("c", NET).refused)
    assert vias(Stable(state.network, {"ab"}, state), "c") == {"10.1.0.0/16": "bc"}
    assert vias(Stable(state.network, {"ab", "db"}, state), "c") == {}


def test_prefixes_that_look_alike_but_for_a_summary_are_reported_apart() -> None:
    wide, beside = P("10.1.0.0/16"), P("10.3.0.0/16")
    state = stable(
        session("a", "b", own=(NET,)),
        session("e", "b", own=(beside,)),
        session("b", "c", own=(wide,), passes=True, summaries=(wide,)),
    )
    expected = {"10.1.0.0/16": "bc", "10.3.0.0/16": "bc"}
    assert vias(state, "c") == expected
    groups = {str(p): h.via for kinds, h in state.groups("c") for k in kinds for p in k.prefixes}
    assert groups == expected


def test_default_origination_is_the_widest_summary() -> None:
    everything = P("0.0.0.0/0")
    state = stable(
        session("a", "b", own=(NET,)),
        session("b", "c", own=(everything,), passes=True, summaries=(everything,)),
    )
    assert vias(state, "c") == {"0.0.0.0/0": "bc"}
    assert state.match("c", NET.address_at(0))[1].via == "bc"


def test_a_session_over_its_limit_ends() -> None:
    many = tuple(P(f"10.2.{n}.0/24") for n in range(5))
    state = stable(session("a", "b", own=many, limit=4), session("c", "b", own=(NET,), limit=4))
    assert [s.via for s in state.over_limit()] == ["ab"]
    assert vias(state, "b") == {"10.1.0.0/24": "cb"}
    assert not stable(session("a", "b", own=many, limit=5)).over_limit()


def test_prepending_decides_where_no_preference_reaches() -> None:
    state = stable(
        session("a", "b", own=(NET,), prepend=1),
        session("a", "c", own=(NET,)),
        session("b", "d", passes=True),
        session("c", "d", passes=True),
    )
    decision = state.heard("d", NET).decision
    assert (decision.winner.peer.name, decision.losers[0][1]) == ("cd", "shorter AS path")


def test_discriminators_count_between_paths_of_one_neighbour() -> None:
    one_as = {"b": 65100, "c": 65100}
    sessions = [
        session("a", "b", "ab", (NET,), asn=one_as),
        session("a", "c", "ac", (NET,), asn=one_as),
        session("b", "d", "bd", passes=True, med=20, asn=one_as),
        session("c", "d", "cd", passes=True, med=10, asn=one_as),
    ]
    state = stable(*sessions)
    assert vias(state, "d") == {"10.1.0.0/24": "cd"}
    assert vias(Stable(state.network, {"ac"}, state), "d") == {"10.1.0.0/24": "bd"}


def test_ipv6_goes_where_the_way_has_ipv6_addresses() -> None:
    six = P("2001:db8:1::/64")
    state = stable(
        session("a", "b", own=(NET, six), next_hop6=0x20010DB8 << 96 | 1),
        session("b", "c", passes=True),
        session("b", "d", passes=True, next_hop6=9),
    )
    assert vias(state, "b") == {"10.1.0.0/24": "ab", "2001:db8:1::/64": "ab"}
    assert vias(state, "c") == {"10.1.0.0/24": "bc"}
    assert state.match("d", six.address_at(5))[1].via == "bd"
    assert state.heard("d", six).decision.winner.path.next_hop == 9


def test_routers_that_prefer_each_other_in_a_circle_never_settle() -> None:
    """Each of three prefers the way round over the direct one."""
    sessions = [session("a", r, own=(NET,)) for r in "bcd"]
    sessions += [
        session("b", "c", passes=True, pref=200),
        session("c", "d", passes=True, pref=200),
        session("d", "b", passes=True, pref=200),
    ]
    with pytest.raises(UnstableError, match=r"10\.1\.0\.0/24 never settle.*order of preference"):
        vias(stable(*sessions), "b")


def test_classes_are_prefixes_that_go_alike() -> None:
    many = tuple(P(f"10.2.{n}.0/24") for n in range(50))
    network = stable(
        session("a", "b", own=many),
        session("c", "b", own=(NET, OTHER), accept=PrefixList([NET])),
    ).network
    assert sorted(len(kind.prefixes) for kind in network.classes) == [1, 1, 50]


@pytest.mark.parametrize("size", [3, 8, 9])
def test_in_a_ring_everybody_chooses_once_and_the_shorter_way_round(size: int, monkeypatch) -> None:
    names = "abcdefghi"[:size]
    own = {name: P(f"10.9.{n}.0/24") for n, name in enumerate(names)}
    ring = [(names[n - 1], name) for n, name in enumerate(names)]
    state = stable(
        *(
            session(*pair, "".join(sorted(pair)), (own[pair[0]],), passes=True)
            for a, b in ring
            for pair in ((a, b), (b, a))
        )
    )
    choose, chosen = Stable._choose, []
    monkeypatch.setattr(Stable, "_choose", lambda *a: chosen.append(a[1]) or choose(*a))
    for here, name in enumerate(names):
        decided = {
            p: len(state.heard(name, p).decision.winner.path.as_path)
            for p in own.values()
            if p != own[name]
        }
        assert decided == {
            own[other]: min((there - here) % size, (here - there) % size)
            for there, other in enumerate(names)
            if other != name
        }
    assert len(chosen) <= size * (size + 1)


# At random

ROUTERS = "abcdef"


@st.composite
def networks(draw) -> list[Session]:
    """Hubs b and c pass on to everybody; preferences lead away from the origin, so they settle."""
    made = []
    wide = P("10.0.0.0/8")
    preferences = draw(st.sampled_from([[100], [100, 150]]))
    for one in ROUTERS:
        for other in ROUTERS:
            if one == other or not draw(st.booleans()):
                continue
            for number in range(draw(st.integers(1, 2))):
                own = tuple(
                    draw(st.sets(st.sampled_from([NET, OTHER, P("10.3.0.0/16")]), max_size=2))
                )
                accept = draw(st.sampled_from([None, PrefixList([NET]), PrefixList([wide])]))
                summary = (
                    (P("10.1.0.0/16"),) if one in "bcd" and draw(st.integers(0, 3)) == 0 else ()
                )
                made.append(
                    session(
                        one,
                        other,
                        f"{one}{other}{number}",
                        own if one in "aef" else summary,
                        summaries=summary,
                        passes=one in "bcd",
                        accept=accept,
                        pref=draw(st.sampled_from(preferences)) if other in "aef" else 100,
                        prepend=draw(st.integers(0, 1)),
                        number=number,
                    )
                )
    return made


def plain(sessions: list[Session], lost: set[str]) -> dict[str, dict[Prefix, tuple]]:
    """Every prefix on its own, every router in turn, until nothing changes."""
    alive = [s for s in sessions if s.via not in lost]
    owners: dict[Prefix, set[str]] = {}
    for s in sessions:
        for prefix in s.announces:
            owners.setdefault(prefix, set()).add(s.sender)
    tables: dict[str, dict[Prefix, tuple]] = {r: {} for r in ROUTERS}
    for prefix, mine in sorted(owners.items(), key=lambda item: -item[0].length):
        for _ in range(30):
            before = {r: t.get(prefix) for r, t in tables.items()}
            for router in ROUTERS:
                found = []
                for s in alive:
                    if s.receiver != router or router in mine:
                        continue
                    if any(w != prefix and w.covers(prefix) for w in s.export.summaries):
                        continue
                    if prefix in s.announces:
                        if prefix in s.export.summaries and not any(
                            prefix != p
                            and prefix.covers(p)
                            and (p in tables[s.sender] or s.sender in owners[p])
                            for p in owners
                        ):
                            continue
                        path = ()
                    elif s.export.passes_on and prefix in tables[s.sender]:
                        best = tables[s.sender][prefix]
                        if best[-1] == s.via:
                            continue
                        path = best[-2]
                    else:
                        continue
                    path = (s.export.local_as,) * (1 + s.export.prepend) + path
                    if s.accept.local_as in path:
                        continue
                    if s.accept.accept is not None and not any(
                        p.covers(prefix) for p in s.accept.accept
                    ):
                        continue
                    found.append(
                        (
                            -s.accept.local_pref,
                            len(path),
                            s.peer.router_id,
                            s.peer.address,
                            path,
                            s.via,
                        )
                    )
                tables[router].pop(prefix, None)
                if found:
                    tables[router][prefix] = min(found)
            if before == {r: t.get(prefix) for r, t in tables.items()}:
                break
        else:
            raise UnstableError("never settles")
    return tables


def found_by(state: Stable) -> dict[str, dict[Prefix, str]]:
    return {r: {p: route.via for p, route in state.table(r)} for r in ROUTERS}


@settings(max_examples=60, deadline=None)
@given(networks(), st.randoms(use_true_random=False))
def test_the_engine_finds_what_a_plain_simulation_finds(sessions, rng: random.Random) -> None:
    """With all up and with losses, whatever the order in which routers speak; the groups are the
    tables; and an answer stands on a session that is up."""
    everything = sorted({s.via for s in sessions})
    whole = Stable(Network(sessions, dict.fromkeys(ROUTERS, ())))
    for lost in (
        set(),
        set(rng.sample(everything, min(1, len(everything)))),
        set(rng.sample(everything, min(4, len(everything)))),
    ):
        try:
            expected = {
                r: {p: best[-1] for p, best in t.items()} for r, t in plain(sessions, lost).items()
            }
        except UnstableError:
            return
        state = Stable(whole.network, lost, whole)
        assert found_by(state) == expected
        assert found_by(Stable(whole.network, lost)) == expected
        for router in ROUTERS:
            groups = {
                p: held.via
                for kinds, held in state.groups(router)
                for k in kinds
                for p in k.prefixes
            }
            assert groups == expected[router]
            assert not lost & set(groups.values())
        back = {r: list(found) for r, found in found_by(state).items()}
        turned = Network([*reversed(sessions)], dict.fromkeys(reversed(ROUTERS), ()))
        assert {r: list(found) for r, found in found_by(Stable(turned, lost)).items()} == back
