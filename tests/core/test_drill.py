"""Tables, traces, reach and drills on the model: against each other and against recomputing."""

from __future__ import annotations

import random
from dataclasses import replace

import pytest
import yaml

from obrin.cli.figures.grid import Look, grid_bytes
from obrin.cli.figures.outage import Bar, outage_bytes
from obrin.core.address.prefix import parse_prefix
from obrin.core.catalogue.offering import PRACTICE_CLOUD
from obrin.core.check.flows.failures import overloads, wider
from obrin.core.design.places import NetworkRef
from obrin.core.drill.breaking import breaking
from obrin.core.drill.detection import watchers
from obrin.core.drill.elements import Element, elements, lost_ways, parse_elements
from obrin.core.drill.sweep import ShortList, Sweep, failures
from obrin.core.errors import ObrinError
from obrin.core.reach.matrix import BROKEN, WISHED, matrix
from obrin.core.reach.model import ReachModel
from obrin.core.reach.paths import path_there_and_back
from obrin.core.reach.trace import there_and_back
from obrin.core.routing.difference import changes
from obrin.core.routing.forwarding import RouteKind
from obrin.core.routing.model import all_up, state_of, table_of
from obrin.core.routing.tables import IN_USE, SHARES, Row, sessions, table_names, table_rows
from tests.doubles import DESIGN, settled_of, swap
from tests.live.buildable import Drawn
from tests.live.changes import loaded

TWO_SITES = DESIGN.replace(
    """\
clouds:
""",
    """\
  pier:
    networks: {desks: 10.30.0.0/22}
    gateways:
      pier-gw:
        uplinks:
          fibre: {address: 192.0.2.20, provider: one, rate: 50 Mbit/s}
          radio: {address: 198.51.100.30, provider: two, rate: 10 Mbit/s}
      pier-gw2:
        uplinks:
          line: {address: 192.0.2.21, provider: three}
clouds:
""",
).replace(
    """\
expectations:
""",
    """\
  pier-apps:
    site: pier
    cloud: apps
    bgp: {hold-time: 30 s}
    tunnels:
      x: {gateway: pier-gw, uplink: fibre, instance: 1}
      y: {gateway: pier-gw, uplink: radio, instance: 2}
      z: {gateway: pier-gw2, uplink: line, instance: 2}
expectations:
  - {from: pier/desks, to: apps/web, flow: tcp/443, must: work, load: 20 Mbit/s}
  - {from: apps/web, to: pier/desks, flow: tcp/22, must: work}
""",
)


def test_every_table_says_what_is_used_and_why() -> None:
    settled = settled_of(TWO_SITES)
    stable = state_of(settled)
    for name in (*settled.gateways, *settled.clouds):
        found = table_rows(settled, name, stable)
        table = table_of(settled, name, all_up(settled))
        used = {r.prefix: r.via for r in found if r.state == IN_USE}
        assert used == {prefix: route.via for prefix, route in table.items()}
        assert all(r.why for r in found)
    losers = [r for r in table_rows(settled, "apps", stable) if r.state == "not used"]
    assert {r.why.rpartition(", ")[0] for r in losers} == {"lost: lower local preference"}
    web = {str(r.prefix): r for r in table_rows(settled, "apps/web", stable)}
    assert web["10.20.0.0/22"].why == "propagated from the cloud gateway"
    off = settled_of(swap(("web: {hosts: 100}", "web: {hosts: 100, propagation: false}")))
    assert "refused" in {r.state for r in table_rows(off, "apps/web", state_of(off))}
    assert "apps/web" in table_names(settled)
    told = {(t.by, t.to): t for t in sessions(stable)}
    assert [str(p) for p in told["quay-gw", "apps"].prefixes] == ["10.20.0.0/22"]
    assert not any(t.refused for t in told.values())


def test_what_a_failure_changes_in_the_tables() -> None:
    settled = settled_of()
    before = table_rows(settled, "apps", state_of(settled))
    after = table_rows(settled, "apps", state_of(settled, {"quay-apps/b"}))
    found = {c.prefix: c for c in changes(before, after)}
    assert found["10.20.0.0/22"].what == "moves"
    assert found["10.20.0.0/22"].after == ("quay-apps/b",)
    assert changes(before, before) == []
    gone = {
        c.prefix: c.what
        for c in changes(before, table_rows(settled, "apps", state_of(settled, ())))
    }
    assert gone["10.20.0.0/22"] == "lost"


def test_a_route_that_comes_from_elsewhere_by_the_same_way_has_changed() -> None:
    """Static instead of BGP, another preference, another hold time: the way alone is not all."""

    def told(*change):
        settled = settled_of(swap(*change) if change else DESIGN)
        stable = state_of(settled)
        return [
            row for name in table_names(settled) for row in table_rows(settled, name, stable)
        ], watchers(settled)

    plain, noticed = told()
    for change, words in (
        ((("    bgp: {hold-time: 6 s}\n", "    routing: static\n"),), "static instead of bgp"),
        (
            (("hold-time: 6 s", "hold-time: 9 s"),),
            "BGP hold time 9 s (6 to 9 s) instead of BGP hold time 6 s",
        ),
    ):
        found, noticed_after = told(*change)
        assert {c.what for c in changes(plain, found)} <= {"differs", "moves"}
        how = [text for c in changes(plain, found, noticed, noticed_after) for text in c.how]
        assert any(words in text for text in how), how
    assert changes(plain, plain, noticed, noticed) == []


def test_static_and_shared_routes_stand_in_the_tables_too() -> None:
    static = ("    bgp: {hold-time: 6 s}\n", "    routing: static\n")
    settled = settled_of(swap(static))
    states = {
        r.via: r.state
        for r in table_rows(settled, "quay-gw", state_of(settled))
        if r.kind == "static"
    }
    assert states == {"quay-apps/a": IN_USE, "quay-apps/b": "not used"}
    share = [(f"instance: {n}}}", f"instance: {n}, role: shared}}") for n in (1, 2)]
    for more in ([], [static]):
        settled = settled_of(swap(*share, *more))
        kinds = ("static", "bgp")
        states = {
            r.via: r.state
            for r in table_rows(settled, "quay-gw", state_of(settled))
            if r.kind in kinds
        }
        assert states == {"quay-apps/a": IN_USE, "quay-apps/b": SHARES}


def survivors(settled, failed) -> frozenset[str]:
    """Labels of what none of the failed elements takes down."""
    return all_up(settled) - lost_ways(settled, failed)


def test_paths_tell_tunnels_sizes_and_where_it_stops() -> None:
    settled = settled_of(TWO_SITES)
    model = ReachModel(settled)
    wish = settled.expectations[0]
    found = path_there_and_back(model, (wish.source, None), (wish.destination, None), wish.flow)
    assert (found.good, found.tunnel_there, found.tunnel_back) == (
        True,
        "pier-apps/x",
        "pier-apps/x",
    )
    assert found.mtu == 1446
    stopped = path_there_and_back(
        model, (NetworkRef.of("quay/guests"), None), (NetworkRef.of("apps/web"), None), wish.flow
    )
    assert "filter" in stopped.there.dropped
    assert stopped.back is None
    # Only one end is told to prefer another tunnel: the two directions part.
    apart = settled_of(swap(("      x: {", "      x: {role: active, "), text=TWO_SITES))
    assert (
        path_there_and_back(
            ReachModel(apart), (wish.source, None), (wish.destination, None), wish.flow
        ).warnings
        == ()
    )


def test_elements_are_what_tunnels_depend_on() -> None:
    settled = settled_of(TWO_SITES)
    found = elements(settled)
    assert Element("provider", "three") in found
    assert survivors(settled, parse_elements(settled, ["instance:apps/2"])) == {
        "quay-apps/a",
        "pier-apps/x",
    }
    with pytest.raises(ObrinError, match="uplink:pier-gw/fibre"):
        parse_elements(settled, ["uplink:pier-gw/fiber"])


def test_a_sweep_is_what_recomputing_from_nothing_finds() -> None:
    """All singles and pairs, and some triples, each against a fresh model."""
    share = [(f"instance: {n}}}", f"instance: {n}, role: shared}}") for n in (1, 2)]
    for text in (
        TWO_SITES,
        swap(*share),
        DESIGN.replace("bgp: {hold-time: 6 s}", "routing: static"),
    ):
        settled = settled_of(text)
        sweep = Sweep(settled, PRACTICE_CLOUD)
        rng = random.Random(1)
        tried = [(), *failures(elements(settled), 2)]
        tried += [tuple(rng.sample(elements(settled), 3)) for _ in range(60)]
        rng.shuffle(tried)
        for failed in tried:
            model = ReachModel(settled, survivors(settled, failed))
            after = sweep.changed(failed)
            assert list(after) == sorted(after)
            for number, (before, wish) in enumerate(sweep.flows):
                way = after.get(number, before)
                there, back = there_and_back(model, wish)
                stopped = there.dropped or (back.dropped if back else "")
                assert way.stopped == stopped
                if not stopped:
                    assert (way.there, way.back) == (there.ways, back.ways)


def test_single_points_the_short_list_and_outages() -> None:
    settled = settled_of(TWO_SITES)
    sweep = Sweep(settled, PRACTICE_CLOUD)
    outcomes = [sweep.try_one(f) for f in failures(elements(settled), 2)]
    points = {str(o.failed[0]) for o in outcomes if len(o.failed) == 1 and o.lost}
    assert points == {"gateway:quay-gw", "cloud:apps"}
    listed = ShortList()
    short = {frozenset(map(str, o.failed)) for o in outcomes if listed.takes(o)}
    assert {"uplink:quay-gw/fibre", "uplink:quay-gw/radio"} in short
    assert not any(len(s) > 1 and s & points for s in short)
    moved = sweep.try_one(parse_elements(settled, ["tunnel:quay-apps/a"]))
    assert (moved.lost, moved.seconds) == ((), 6.0)
    assert moved.moved[0].after == "quay-apps/b"
    nothing = sweep.try_one(parse_elements(settled, ["tunnel:quay-apps/b"]))
    assert (nothing.moved, nothing.lost) == ((), ())


def test_loads_are_held_against_what_is_left() -> None:
    settled = settled_of(TWO_SITES)
    sweep = Sweep(settled, PRACTICE_CLOUD)
    assert sweep.try_one(()).too_much == ()
    outcome = sweep.try_one(parse_elements(settled, ["uplink:pier-gw/fibre"]))
    assert outcome.too_much == ("uplink pier-gw/radio gets 20 Mbit/s, it carries 10",)
    assert not outcome.keeps_the_promise


def test_reach_tells_what_passes_and_what_nobody_asked_for() -> None:
    found = {
        (str(c.source), str(c.destination)): c
        for c in matrix(ReachModel(settled_of()), closed=True)
    }
    cell = found["quay/desks", "apps/web"]
    assert (set(cell.allowed), cell.wider, cell.verdict) == ({"tcp/443", "icmp"}, (), WISHED)
    assert found["quay/guests", "apps/web"].verdict == ""
    assert found["apps/web", "quay/desks"].allowed == ()
    wide = swap(
        (
            "        uplinks:\n",
            "        filters: [{allow: any, from: 10.20.0.0/16, to: apps}]\n        uplinks:\n",
        ),
        (
            "    subnets: {web: {hosts: 100}}",
            "    filters: [{allow: tcp/400-500, from: 10.20.0.0/16, to: apps/web}]\n    subnets: {web: {hosts: 100}}",
        ),
    )
    found = {
        (str(c.source), str(c.destination)): c
        for c in matrix(ReachModel(settled_of(wide)), closed=True)
    }
    cell = found["quay/desks", "apps/web"]
    assert cell.wider == ("tcp/400-500",)
    assert cell.broken == ("icmp must work",)
    assert cell.verdict == BROKEN
    # Guests pass both filters. The cloud has no way back to them, but their packets arrive.
    assert found["quay/guests", "apps/web"].wider == ("tcp/400-500",)


def test_a_rule_for_one_host_is_seen_at_either_end() -> None:
    at_cloud = swap(
        (
            "        uplinks:\n",
            "        filters: [{allow: any, from: 10.20.0.0/16, to: apps}]\n        uplinks:\n",
        ),
        (
            "    subnets: {web: {hosts: 100}}",
            "    filters: [{allow: tcp/22, from: 10.20.0.77/32, to: apps/web}]\n    subnets: {web: {hosts: 100}}",
        ),
    )
    found = {
        (str(c.source), str(c.destination)): c
        for c in matrix(ReachModel(settled_of(at_cloud)), closed=True)
    }
    assert "tcp/22" in found["quay/desks", "apps/web"].wider


def test_what_differs_on_the_same_way_is_said() -> None:
    row = Row(
        table="quay-gw",
        prefix=parse_prefix("10.0.0.0/8"),
        kind="bgp",
        via="a",
        next_hop="",
        as_path=(65001,),
        local_pref=100,
        state=IN_USE,
        why="",
    )
    others = {
        "static instead of bgp": replace(row, kind="static"),
        "preference 90 instead of 100": replace(row, local_pref=90),
        "AS path empty instead of 65001": replace(row, as_path=()),
    }
    for words, other in others.items():
        (change,) = changes([row], [other])
        assert change.how == (words,)
    (new,) = changes([], [row])
    (gone,) = changes([row], [])
    assert (new.what, gone.what) == ("new", "lost")


def test_connected_routes_are_never_moved_by_failures() -> None:
    settled = settled_of(TWO_SITES)
    for failed in failures(elements(settled), 1):
        table = table_of(settled, "pier-gw", survivors(settled, failed))
        own = [p for p, r in table.items() if r.kind is RouteKind.CONNECTED and r.via == "desks"]
        assert [str(p) for p in own] == ["10.30.0.0/22"]


def test_wider_reach_is_reported_at_the_filters_that_let_it_through() -> None:
    own = "        filters: [{{allow: any, from: {site}, to: apps}}]\n        uplinks:\n"
    text = swap(
        (
            "    subnets: {web: {hosts: 100}}",
            "    filters: [{allow: tcp/1-65535, from: 10.0.0.0/8, to: apps}]\n"
            "    subnets: {web: {hosts: 100}}",
        ),
        text=TWO_SITES,
    )
    for site in ("quay", "pier"):
        gateway = f"      {site}-gw:\n"
        text = text.replace(gateway + "        uplinks:\n", gateway + own.format(site=site))
    found = list(wider(settled_of(text)))
    assert {f.place[:2] for f in found} == {("sites", "quay"), ("sites", "pier")}
    assert all(f" from {f.place[1]}/" in f.cause for f in found)


def test_checks_tell_of_reach_and_load() -> None:
    wide = swap(
        (
            "        uplinks:\n",
            "        filters: [{allow: any, from: quay, to: apps}]\n        uplinks:\n",
        ),
        (
            "    subnets: {web: {hosts: 100}}",
            "    filters: [{allow: tcp, from: quay, to: apps}]\n    subnets: {web: {hosts: 100}}",
        ),
    )
    wide = wide.replace("allow: tcp,", "allow: tcp/1-65535,")
    assert [f.code for f in wider(settled_of(wide))] == ["reach-wider"]
    assert list(wider(settled_of())) == []
    found = [f.code for f in overloads(settled_of(TWO_SITES), PRACTICE_CLOUD)]
    assert set(found) == {"overload-after-failure"}
    heavy = TWO_SITES.replace("load: 20", "load: 60")
    assert "overload" in [f.code for f in overloads(settled_of(heavy), PRACTICE_CLOUD)]
    assert list(overloads(settled_of(), PRACTICE_CLOUD)) == []


def test_single_tunnels_and_single_connections_have_limits_of_their_own() -> None:
    """20 Mbit/s over the pier's fibre (50) or radio (10); the class lets a tunnel and a flow less."""

    def said(per_tunnel: float | None, per_flow: float | None, largest: str) -> set[str]:
        text = TWO_SITES.replace("load: 20 Mbit/s", f"load: 20 Mbit/s, largest: {largest} Mbit/s")
        classes = tuple(
            replace(c, per_tunnel=per_tunnel, per_flow=per_flow) for c in PRACTICE_CLOUD.classes
        )
        sweep = Sweep(settled_of(text), replace(PRACTICE_CLOUD, classes=classes))
        return set(sweep.try_one(()).too_much)

    flow = "one connection of tcp/443 pier/desks > apps/web"
    assert said(None, None, "5") == said(20, 5, "5") == set()
    assert said(15, None, "5") == {"tunnel pier-apps/x gets 20 Mbit/s, it carries 15"}
    assert said(None, 4, "5") == {f"{flow} gets 5 Mbit/s, it carries 4"}
    assert said(None, None, "60") == {f"{flow} gets 60 Mbit/s, it carries 50"}
    sweep = Sweep(settled_of(TWO_SITES), PRACTICE_CLOUD)
    fullest = sweep.try_one(()).fullest
    assert (fullest.name, fullest.share) == ("uplink pier-gw/fibre", 0.4)


def test_what_shared_tunnels_carry_is_spread_over_those_that_are_up() -> None:
    text = TWO_SITES
    for name, uplink, number in (("x", "fibre", 1), ("y", "radio", 2)):
        line = f"      {name}: {{gateway: pier-gw, uplink: {uplink}, instance: {number}}}"
        text = swap((line, line.replace("}", ", role: shared}")), text=text)
    sweep = Sweep(settled_of(text), PRACTICE_CLOUD)
    assert sweep.try_one(()).too_much == ()  # 10 Mbit/s on each; the radio carries 10
    assert sweep.try_one(()).fullest.name == "uplink pier-gw/radio"
    alone = sweep.try_one(parse_elements(sweep.settled, ["uplink:pier-gw/fibre"]))
    assert alone.too_much == ("uplink pier-gw/radio gets 20 Mbit/s, it carries 10",)


def test_outages_are_drawn_from_a_tenth_of_a_second_to_minutes() -> None:
    bars = [
        Bar("tunnel:a/b", 0.6, 0.9, False, "1 flow"),
        Bar("gateway:c", 0, 0, True, "2 flows lost"),
        Bar("cloud:d", 0.0, 0.05, False, "at once"),
    ]
    assert outage_bytes("T", bars, "png").startswith(b"\x89PNG")
    drawn = outage_bytes("T", bars * 30, "svg")
    assert drawn == outage_bytes("T", bars * 30, "svg")
    assert outage_bytes("T", [], "svg").startswith(b"<?xml")


def test_figures_are_drawn_at_five_and_at_two_hundred() -> None:
    looks = {"yes": Look("#2f6f8f", "Y", "yes"), "no": Look("#b3263f", "X", "no", "xx")}
    for count in (5, 200):
        names = [f"place/network-{n}" for n in range(count)]
        cells = {(n, (n * 7) % count): ("yes" if n % 2 else "no", "tcp/443") for n in range(count)}
        drawn = grid_bytes("T", "note", names, names, cells, looks, "png")
        assert drawn.startswith(b"\x89PNG")
        width, height = (int.from_bytes(drawn[i : i + 4], "big") for i in (16, 20))
        assert width >= 1280
        assert height >= 800


@pytest.mark.parametrize("seed", range(14))
def test_the_short_list_of_larger_failures_is_that_of_trying_all(seed: int) -> None:
    data = Drawn(seed).data
    if seed % 2:  # loads that two moves together may be too much for
        loaded(data)
    sweep = Sweep(settled_of(yaml.safe_dump(data, sort_keys=False)), PRACTICE_CLOUD)
    known = sweep.elements()[: 14 if seed % 2 else 24]
    short, every = ShortList(), list[tuple[Element, ...]]()
    for failed in failures(known, 3):
        if short.takes(sweep.try_one(failed)):
            every.append(failed)
    found = list(breaking(sweep, known, 3))
    assert found == every
    assert all(sweep.breaks(failed) for failed in found)
