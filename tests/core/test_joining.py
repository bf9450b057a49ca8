"""Hubs, circuits, preferences and route tables: what the design says, and what follows from it."""

from __future__ import annotations

import random
import re
from pathlib import Path

import pytest

import obrin
from obrin.core.catalogue.offering import PRACTICE_CLOUD
from obrin.core.check.whole import check
from obrin.core.design.document import load_design
from obrin.core.design.places import NetworkRef
from obrin.core.drill.elements import elements, lost_ways, parse_elements
from obrin.core.drill.sweep import Sweep, failures
from obrin.core.errors import DesignError
from obrin.core.handover.configured import device_config
from obrin.core.handover.pack import make_pack
from obrin.core.handover.secrets import Secrets
from obrin.core.handover.standard.device import encode
from obrin.core.reach.matrix import matrix
from obrin.core.reach.model import ReachModel
from obrin.core.reach.paths import path_there_and_back
from obrin.core.reach.trace import there_and_back
from obrin.core.routing.model import accepted_at_site, state_of
from obrin.core.routing.tables import sessions, table_names, table_rows
from obrin.core.settled.model import Settled, host_of
from obrin.core.settled.owners import owned, owned_at
from obrin.core.settled.telling import announced_by_site
from obrin.live.standard_modules import validate
from tests.doubles import settled_of, swap

CROSSING = re.sub(
    r"\nstack: dual.*|, site-end.*(?=})|    # peers beyond.*|   # peers beyond.*|        loopback: 10.255.0.3\n",
    "",
    (Path(obrin.__file__).parent / "demo" / "crossing.yaml").read_text(),
)


NO_BFD = ("    bfd: {interval: 300 ms}\n", "")


OFFICE = (
    "    owner: the accounts office        # who agreed to what joins it\n"
    "    accepted: 2026-10-05\n"
)


def test_another_owner_is_on_sheet_and_steps_until_they_accepted() -> None:
    theirs = (OFFICE, "    owner: Bay Freight\n")
    pack = make_pack(crossing(theirs), "ledger", Secrets({}))
    assert "Bay Freight" in pack.sheet
    assert "not yet" in pack.sheet
    assert "1. Have Bay Freight accept, at cloud ledger: its place at hub crossing" in pack.steps
    done = (OFFICE, theirs[1] + "    accepted: 2026-11-02\n")
    pack = make_pack(crossing(done), "ledger", Secrets({}))
    assert "2026-11-02" in pack.sheet
    assert "Have Bay Freight" not in pack.steps
    assert [o.name for o in owned_at(crossing(theirs), "crossing")] == ["ledger"]
    assert not owned_at(crossing(theirs), "sw-box")
    hub = crossing(("    region: east-3\n    hub:", "    region: east-3\n    owner: Bay\n    hub:"))
    (yard,) = owned_at(hub, "sw-box")
    assert yard.asks == ("link yard-crossing of slipway", "member timetable", "member ledger")
    whole = next(o for o in owned(hub) if o.name == "crossing").asks
    assert whole[2:4] == ("link yard-crossing of slipway", "circuit harbour-line of harbour-house")


def crossing(*changes: tuple[str, str]) -> Settled:
    return settled_of(swap(*changes, text=CROSSING))


def used(settled: Settled, table: str, lost: frozenset[str] = frozenset()) -> dict[str, str]:
    """Prefix to way, of what is in use and not a leg's own block."""
    whole = state_of(settled)
    found = table_rows(settled, table, type(whole)(whole.network, lost, whole))
    return {
        str(r.prefix): r.via
        for r in found
        if r.state == "in use" and not str(r.prefix).startswith("169.254")
    }


def ways(model: ReachModel, source: str, destination: str, number: int = 0) -> tuple[str, str]:
    flow = model.settled.expectations[number].flow
    found = path_there_and_back(
        model, (NetworkRef.of(source), None), (NetworkRef.of(destination), None), flow
    )
    return found.tunnel_there, found.tunnel_back


def test_a_hubs_tables_hold_what_they_learn_and_sites_are_reported_what_theirs_holds() -> None:
    settled = crossing()
    assert {"crossing/networks", "crossing/head", "crossing/yard"} <= set(table_names(settled))
    spaces = {c: str(settled.clouds[c].spaces.ipv4[0]) for c in ("timetable", "ledger")}
    assert used(settled, "crossing/yard") == {spaces["ledger"]: "ledger@crossing"}
    assert set(used(settled, "sw-box")) == {"10.40.0.0/24", spaces["ledger"]}
    head = used(settled, "hh-east")
    assert head["10.30.1.0/24"] == head[spaces["timetable"]] == "harbour-line/circuit"
    assert "10.40.0.0/24" not in head
    networks = used(settled, "crossing/networks")
    assert networks["10.40.0.0/24"] == "yard-crossing/day"  # static, and passed on to the members
    assert used(settled, "ledger/accounts")["10.40.0.0/24"] == "ledger@crossing"


def test_without_tables_no_site_is_led_to_another() -> None:
    tables = CROSSING[
        CROSSING.index("      tables:\n        networks") : CROSSING.index(
            "    gateway:\n      zones"
        )
    ]
    settled = crossing((tables, ""))
    assert "10.30.1.0/24" not in used(settled, "hh-east")
    assert set(used(settled, "crossing/sites").values()) == {
        "timetable@crossing",
        "ledger@crossing",
    }
    assert "10.20.4.0/22" in used(settled, "crossing/members")
    wish = next(w for w in settled.expectations if str(w.destination) == "northquay/cameras")
    assert "no route" in there_and_back(ReachModel(settled), wish)[0].dropped


def test_the_preferred_way_comes_first_in_both_directions() -> None:
    line, tunnel = "harbour-line/circuit", "harbour-crossing/north"
    for changes, first, second in (
        ((), line, tunnel),
        (
            (("prefer: [harbour-line] ", "prefer: [harbour-crossing] "),),
            tunnel,
            "harbour-crossing/south",
        ),
        (
            (
                (
                    "    prefer: [harbour-line]            # the line first; the tunnels after it\n",
                    "",
                ),
            ),
            line,
            tunnel,
        ),
    ):
        settled = crossing(*changes)
        model = ReachModel(settled)
        there, back = ways(model, "harbour-house/counters", "timetable/booking")
        assert (there, back) == (f"{first} + timetable@crossing", f"timetable@crossing + {first}")
        after = ways(model.without([first]), "harbour-house/counters", "timetable/booking")
        assert after[0] == f"{second} + timetable@crossing"


SECOND_HUB = (
    ("clouds:\n", "clouds:\n  bridge: {hub: {members: [timetable, ledger]}}\n"),
    (
        "\nlinks:\n",
        "\nlinks:\n  quay-bridge:\n    site: northquay\n    cloud: bridge\n    tunnels:\n"
        "      b: {gateway: nq-box, uplink: mobile, instance: 1}\n"
        "      c: {gateway: nq-box, uplink: fibre, instance: 2}\n",
    ),
)


@pytest.mark.parametrize("first", ["quay-bridge", "quay-crossing"])
def test_of_two_hubs_the_preferred_one_leads_there_and_back(first: str) -> None:
    """No preference reaches the member; the longer AS path over the other hub does."""
    wish = ("    gateways:\n      nq-box:", f"    prefer: [{first}]\n    gateways:\n      nq-box:")
    settled = crossing(*SECOND_HUB, wish)
    there, back = ways(ReachModel(settled), "northquay/gates", "timetable/booking", 2)
    hub = settled.links[first].cloud
    assert there.startswith(f"{first}/")
    assert there.endswith(f"timetable@{hub}")
    assert back == " + ".join(reversed(there.split(" + ")))
    decision = (
        state_of(settled)
        .heard("timetable", settled.network(NetworkRef.of("northquay/gates")))
        .decision
    )
    assert [rule for _, rule in decision.losers] == ["shorter AS path"]
    other = {"quay-bridge": "quay-crossing", "quay-crossing": "quay-bridge"}[first]
    assert settled.links[other].prepend == 1
    sheet = make_pack(settled, "nq-box", _secrets(settled)).sheet
    assert "Own AS in front, more often" in sheet


def _secrets(settled: Settled) -> Secrets:
    return Secrets({t.label: "k" * 40 for t in settled.tunnels()}, {})


def test_internal_bgp_brings_what_the_other_gateway_learns() -> None:
    settled = crossing()
    space = str(settled.clouds["ledger"].spaces.ipv4[0])
    assert used(settled, "hh-west")[space] == "lan:hh-east"
    lost = lost_ways(settled, parse_elements(settled, ["gateway:hh-east"]))
    assert "lan:hh-east" in lost
    assert used(settled, "hh-west", lost)[space] == "harbour-crossing/south"
    alone = crossing(("    internal-bgp: true ", "    internal-bgp: false "))
    assert used(alone, "hh-west")[space] == "harbour-crossing/south"


def test_a_subnets_own_routes_come_before_propagated_ones_at_equal_length() -> None:
    own = "        propagation: false\n        routes: {10.0.0.0/8: crossing, 0.0.0.0/0: nowhere}"
    asks = (
        "expectations:\n",
        "expectations:\n  - {from: timetable/archive, to: northquay/gates, flow: icmp}\n",
    )
    for routes, stops in (
        ("{10.0.0.0/8: crossing}", ""),
        ("{10.30.0.0/24: nowhere}", "nowhere"),  # as long as the propagated one
        ("{10.30.0.0/16: nowhere}", ""),  # shorter
        ("{10.30.0.0/25: nowhere}", "nowhere"),
    ):
        settled = crossing((own, f"        routes: {routes}"), asks)
        there, _ = there_and_back(ReachModel(settled), settled.expectations[0])
        assert stops in there.dropped
        assert bool(stops) == bool(there.dropped)
    off = crossing((own, "        propagation: false"), asks)
    assert "propagation is off" in there_and_back(ReachModel(off), off.expectations[0])[0].dropped
    cut = crossing(
        (own, "        routes: {10.0.0.0/8: crossing}\n        propagation: false"), asks
    )
    model = ReachModel(cut).without(["timetable@crossing"])
    assert "is down" in there_and_back(model, cut.expectations[0])[0].dropped
    states = {
        str(r.prefix): r.state
        for r in table_rows(
            crossing((own, "        routes: {10.30.0.0/24: nowhere}")),
            "timetable/archive",
            state_of(settled),
        )
    }
    assert states["10.40.0.0/24"] == "in use"


def test_a_hub_leads_between_its_members_and_drills_know_it() -> None:
    settled = crossing()
    sweep = Sweep(settled, PRACTICE_CLOUD)
    one = sweep.try_one(parse_elements(settled, ["hub:crossing"]))
    assert len(one.lost) == len(sweep.flows) == 8
    line = sweep.try_one(parse_elements(settled, ["provider:sea-cable"]))
    assert {(m.before, m.after, round(m.seconds, 3)) for m in line.moved} == {
        ("harbour-line/circuit", "harbour-crossing/north", 0.9)
    }
    slow = Sweep(crossing(NO_BFD), PRACTICE_CLOUD)
    moved = slow.try_one(parse_elements(slow.settled, ["circuit:harbour-line"])).moved
    assert {(m.seconds, m.noticed.name) for m in moved} == {(9.0, "BGP hold time 9 s")}
    zone = sweep.try_one(parse_elements(settled, ["zone:east-3/a"]))
    assert zone.keeps_the_promise
    gateway = sweep.try_one(parse_elements(settled, ["gateway:hh-east"]))
    assert gateway.too_much == ("uplink hh-west/radio gets 360 Mbit/s, it carries 200",)


def test_a_sweep_over_hubs_is_what_recomputing_from_nothing_finds() -> None:
    for settled in (crossing(), crossing(*SECOND_HUB)):
        sweep = Sweep(settled, PRACTICE_CLOUD)
        rng = random.Random(5)
        tried = [*failures(elements(settled), 1)]
        tried += rng.sample([*failures(elements(settled), 2)], 150)
        tried += [tuple(rng.sample(elements(settled), 3)) for _ in range(60)]
        for failed in tried:
            fresh = ReachModel(settled)
            lost = lost_ways(settled, failed)
            fresh.stable = type(fresh.stable)(fresh.stable.network, lost)
            after = sweep.changed(failed)
            for number, (before, wish) in enumerate(sweep.flows):
                way = after.get(number, before)
                there, back = there_and_back(fresh, wish)
                stopped = there.dropped or (back.dropped if back else "")
                assert bool(way.stopped) == bool(stopped), failed
                if not stopped:
                    assert (way.there, way.back) == (there.ways, back.ways), failed


def test_sessions_tell_of_refusals_and_limits() -> None:
    settled = crossing(("      nq-box:\n", "      nq-box:\n        maximum-prefixes: 3\n"))
    told = {(t.tunnel, t.by, t.to): t for t in sessions(state_of(settled))}
    assert (
        "more than 3 prefixes" in told["quay-crossing/north", "crossing/quay", "nq-box"].refused[0]
    )
    assert "10.64.0.0/21" not in used(settled, "nq-box")
    fine = crossing(("      nq-box:\n", "      nq-box:\n        maximum-prefixes: 4\n"))
    assert "10.64.0.0/21" in used(fine, "nq-box")


def test_summaries_left_to_obrin_stand_for_what_is_reported_and_nothing_else() -> None:
    auto = (
        "  quay-crossing:\n    site: northquay\n    cloud: crossing\n    bgp: {hold-time: 6 s}\n",
        "  quay-crossing:\n    site: northquay\n    cloud: crossing\n"
        "    bgp: {hold-time: 6 s, summaries: auto, cloud-summaries: auto}\n",
    )
    link = crossing(auto).links["quay-crossing"]
    assert list(map(str, announced_by_site(link))) == ["10.30.0.0/20"]
    told = accepted_at_site(crossing(auto), link)
    assert list(map(str, told)) == ["10.20.0.0/21", "10.64.0.0/21", "10.64.32.0/22"]
    agent = ("\nclouds:\n", "\nelsewhere: {agent: 10.30.4.0/24}\nclouds:\n")
    taken = crossing(auto, agent).links["quay-crossing"]
    assert list(map(str, taken.summaries)) == ["10.30.0.0/23"]
    assert list(map(str, announced_by_site(taken))) == ["10.30.0.0/23", "10.30.8.0/24"]
    codes = {f.code for f in check(crossing(auto, agent))}
    assert not {code for code in codes if code.startswith("summary")}
    with pytest.raises(DesignError, match=r"'all' is not a prefix. Write .* or 'auto'"):
        crossing((auto[0], auto[1].replace("summaries: auto, c", "summaries: all, c")))


def test_summaries_and_marks_of_a_link() -> None:
    settled = crossing(
        (
            "  quay-crossing:\n    site: northquay\n    cloud: crossing\n    bgp: {hold-time: 6 s}",
            "  quay-crossing:\n    site: northquay\n    cloud: crossing\n    bgp: {hold-time: 6 s, summaries: 10.30.0.0/16, "
            "cloud-summaries: 10.64.0.0/10, communities: [no-export]}",
        ),
    )
    assert used(settled, "crossing/networks")["10.30.0.0/16"] == "quay-crossing/north"
    assert "10.30.0.0/24" not in used(settled, "crossing/networks")
    assert "10.30.0.0/16" in used(settled, "timetable")  # a member is inside the hub's AS
    assert "10.30.0.0/16" not in used(settled, "hh-east")  # beyond it nobody hears of it
    at_quay = used(settled, "nq-box")
    assert at_quay["10.64.0.0/10"] == "quay-crossing/north"
    assert "10.64.0.0/21" not in at_quay
    assert at_quay["10.20.0.0/22"] == "quay-crossing/north"


def test_what_nobody_asked_for_is_seen_between_sites_too() -> None:
    open_house = (
        "      hh-east:\n",
        "      hh-east:\n        filters: [{allow: any, from: harbour-house, to: 0.0.0.0/0}]\n",
    )
    open_quay = (
        "      nq-box:\n",
        "      nq-box:\n        filters: [{allow: any, from: 0.0.0.0/0, to: northquay}]\n",
    )
    settled = crossing(open_house, open_quay)
    wider = {(str(c.source), str(c.destination)) for c in matrix(ReachModel(settled)) if c.wider}
    assert ("harbour-house/counters", "northquay/gates") in wider
    assert "reach-wider" in codes(open_house, open_quay)
    leak = (
        "{from: northquay/gates, to: harbour-house/counters, flow: tcp/443, must: not}",
        "{from: harbour-house/counters, to: northquay/gates, flow: tcp/443, must: not}",
    )
    assert "expectation-leak" in codes(open_house, open_quay, leak)
    assert "expectation-leak" not in codes(open_house, leak)


def codes(*changes: tuple[str, str]) -> set[str]:
    settled = crossing(*changes)
    return {f.code for f in check(settled, PRACTICE_CLOUD, _secrets(settled))}


QUAY_LINK = "    site: northquay\n    cloud: crossing\n    bgp: {hold-time: 6 s}"
PLAIN_LINK = (
    "  harbour-crossing:\n    site: harbour-house\n    cloud: crossing\n    bgp: {hold-time: 6 s}"
)
DIRECT = (
    "\nlinks:\n",
    "\nlinks:\n  quay-direct:\n    site: northquay\n    cloud: timetable\n    tunnels:\n"
    "      d: {gateway: nq-box, uplink: fibre, instance: 1}\n"
    "      e: {gateway: nq-box, uplink: mobile, instance: 2}\n",
)
SEEDED = {
    "preference-unheeded: a longer prefix": (
        "preference-unheeded",
        ((PLAIN_LINK, PLAIN_LINK + "\n    only: {offices: 10.20.4.0/24}"),),
        ((PLAIN_LINK, PLAIN_LINK + "\n    only: {offices: 10.20.4.0/22}"),),
    ),
    "preference-unheeded: a summary on the preferred link": (
        "preference-unheeded",
        (
            *SECOND_HUB,
            (
                "    cloud: bridge\n",
                "    cloud: bridge\n    bgp: {cloud-summaries: 10.64.0.0/10}\n",
            ),
            (
                "    gateways:\n      nq-box:",
                "    prefer: [quay-bridge]\n    gateways:\n      nq-box:",
            ),
        ),
        (
            *SECOND_HUB,
            (
                "    gateways:\n      nq-box:",
                "    prefer: [quay-bridge]\n    gateways:\n      nq-box:",
            ),
        ),
    ),
    "preference-unheeded: the cloud's own gateway answers first": (
        "preference-unheeded",
        (
            DIRECT,
            (
                "    gateways:\n      nq-box:",
                "    prefer: [quay-crossing]\n    gateways:\n      nq-box:",
            ),
        ),
        (
            DIRECT,
            (
                "    gateways:\n      nq-box:",
                "    prefer: [quay-direct]\n    gateways:\n      nq-box:",
            ),
        ),
    ),
    "preference-unheeded: static": (
        "preference-unheeded",
        ((PLAIN_LINK, PLAIN_LINK.replace("bgp: {hold-time: 6 s}", "routing: static")),),
        (),
    ),
    "route-limit": (
        "route-limit",
        (("      nq-box:\n", "      nq-box:\n        maximum-prefixes: 3\n"),),
        (("      nq-box:\n", "      nq-box:\n        maximum-prefixes: 4\n"),),
    ),
    "default-route": (
        "default-route",
        ((QUAY_LINK, QUAY_LINK.replace("6 s}", "6 s, cloud-summaries: 0.0.0.0/0}")),),
        ((QUAY_LINK, QUAY_LINK.replace("6 s}", "6 s, cloud-summaries: 10.64.0.0/10}")),),
    ),
    "transit-unasked": (
        "transit-unasked",
        (("learns: [ledger]}", "learns: [ledger, quay-crossing]}"),),
        (
            ("learns: [ledger]}", "learns: [ledger, quay-crossing]}"),
            (
                "expectations:\n",
                "expectations:\n  - {from: slipway/workshop, to: northquay/gates, flow: icmp}\n",
            ),
        ),
    ),
    "internal-as": (
        "internal-as",
        (
            ("      hh-east:\n", "      hh-east:\n        as: 64700\n"),
            ("      hh-west:\n", "      hh-west:\n        as: 64701\n"),
        ),
        (
            ("      hh-east:\n", "      hh-east:\n        as: 64700\n"),
            ("      hh-west:\n", "      hh-west:\n        as: 64700\n"),
        ),
    ),
    "static-unmonitored": (
        "static-unmonitored",
        (
            ("    rate: 1 Gbit/s\n    hold-time: 9 s", "    rate: 1 Gbit/s\n    routing: static"),
            NO_BFD,
        ),
        (("    rate: 1 Gbit/s\n    hold-time: 9 s", "    rate: 1 Gbit/s\n    routing: static"),),
    ),
    "circuit-alone": (
        "circuit-alone",
        (
            (
                "circuits:\n",
                "circuits:\n  yard-line: {site: slipway, gateway: sw-box, cloud: timetable}\n",
            ),
        ),
        (
            (
                "circuits:\n",
                "circuits:\n  yard-line: {site: slipway, gateway: sw-box, cloud: crossing}\n",
            ),
            (
                "        head: {for: [harbour-line, ",
                "        head: {for: [yard-line, harbour-line, ",
            ),
        ),
    ),
    "zone-shared": ("zone-shared", (("zones: [a, b]", "zones: [a, a]"),), ()),
    "paths-part": (
        "paths-part",
        (
            DIRECT,
            (
                "    gateways:\n      nq-box:",
                "    prefer: [quay-direct]\n    gateways:\n      nq-box:",
            ),
            ("        hosts: 400\n", "        hosts: 400\n        table: quiet\n"),
        ),
        (
            DIRECT,
            (
                "    gateways:\n      nq-box:",
                "    prefer: [quay-direct]\n    gateways:\n      nq-box:",
            ),
        ),
    ),
    "as-equal-ends": (
        "as-equal-ends",
        (
            ("      zones: [a, b]", "      zones: [a, b]\n      as: 64900"),
            ("      hh-east:\n", "      hh-east:\n        as: 64900\n"),
        ),
        (
            ("      zones: [a, b]", "      zones: [a, b]\n      as: 64901"),
            ("      hh-east:\n", "      hh-east:\n        as: 64900\n"),
        ),
    ),
    "space-overlap": (
        "space-overlap",
        (
            (
                "  timetable:                          # booking applications\n",
                "  timetable:\n    space: 10.99.0.0/20\n",
            ),
            (
                "  ledger:                             # accounts\n",
                "  ledger:\n    space: 10.99.0.0/20\n",
            ),
        ),
        (
            (
                "  timetable:                          # booking applications\n",
                "  timetable:\n    space: 10.99.0.0/20\n",
            ),
            (
                "  ledger:                             # accounts\n",
                "  ledger:\n    space: 10.99.16.0/20\n",
            ),
        ),
    ),
}


@pytest.mark.parametrize("case", SEEDED)
def test_every_finding_has_its_seeded_mistake_and_is_silent_on_the_twin(case: str) -> None:
    code, wrong, right = SEEDED[case]
    assert code in codes(*wrong)
    assert code not in codes(*right)


MISTAKES = {
    "there is no cloud network 'tmetable'": (
        "members: [timetable, ledger]",
        "members: [tmetable, ledger]",
    ),
    "there is no member, link or circuit of crossing 'yard'": (
        "for: [yard-crossing]",
        "for: [yard]",
    ),
    "yard-crossing has no route table at crossing": (
        "        yard: {for: [yard-crossing], learns: [ledger]}\n",
        "",
    ),
    "has two route tables, networks and head": (
        "head: {for: [harbour-line,",
        "head: {for: [ledger, harbour-line,",
    ),
    "there is no gateway of harbour-house 'hh-est'": (
        "    gateway: hh-east\n",
        "    gateway: hh-est\n",
    ),
    "there is no route table of timetable 'quit'": ("table: quiet}", "table: quit}"),
    "there is no target of a route 'croissant'": ("10.0.0.0/8: crossing", "10.0.0.0/8: croissant"),
    "10.0.0.1/8' has bits set": ("10.0.0.0/8: crossing", "10.0.0.1/8: crossing"),
    "there is no link or circuit of harbour-house 'quay-crossing'": (
        "prefer: [harbour-line]",
        "prefer: [quay-crossing]",
    ),
    "1 zones for 2 instances": ("zones: [a, b]", "zones: [a]"),
    "cloud ledger has no subnets": ("    subnets:\n      accounts: {hosts: 60}\n", ""),
    "crossing is a hub and has subnets": (
        "    hub:\n      members",
        "    subnets: {x: {hosts: 5}}\n    hub:\n      members",
    ),
    "is a link and a circuit": ("  harbour-line:\n    site", "  yard-crossing:\n    site"),
    "hold time of 2 s is not allowed": ("    hold-time: 9 s", "    hold-time: 2 s"),
    "hubs do not translate": (PLAIN_LINK, PLAIN_LINK + "\n    cloud-seen-as:"),
}


@pytest.mark.parametrize("words", MISTAKES)
def test_a_name_that_means_nothing_is_reported_with_its_place(words: str) -> None:
    with pytest.raises(DesignError) as caught:
        load_design(swap(MISTAKES[words], text=CROSSING), "d.yaml")
    assert words in str(caught.value)
    assert "d.yaml:" in str(caught.value)


def test_sheets_hold_circuits_hubs_and_neighbours() -> None:
    settled = crossing()
    packs = {name: make_pack(settled, name, _secrets(settled)) for name in ("hh-east", "crossing")}
    for words in ("### Circuits", "169.254.1.26/30", "### Internal BGP", "hh-west"):
        assert words in packs["hh-east"].sheet
    assert "### Route tables of the hub" in packs["crossing"].sheet
    neighbours = packs["hh-east"].config["obrin-bgp:bgp"]["neighbor"]
    assert "10.30.1.0/24" in neighbours[0]["accept"]
    circuit = packs["hh-east"].config["obrin-circuits:circuits"]["circuit"][0]
    assert circuit["remote-address"] == "169.254.1.25"
    assert [n["name"] for n in neighbours[-2:]] == ["harbour-line/circuit", "hh-west"]
    for pack in packs.values():
        validate(pack.config)
    assert host_of(settled.network(NetworkRef.of("ledger/accounts")))


def test_internal_sessions_stand_in_the_standard_data_where_loopbacks_carry_them() -> None:
    config = device_config(crossing(), "hh-east")
    session = next(n for n in config.speaker.neighbours if n.internal)
    assert [str(a) for a in (session.local_address, session.remote_address)] == [
        "10.255.0.1",
        "10.255.0.2",
    ]
    assert [str(hop) for hop in session.next_hops] == ["10.255.0.1"]
    validate(encode(config))
    bare = ("        loopback: 10.255.0.2\n", "")
    assert "internal-loopback" not in codes(bare)
    without = device_config(crossing(bare), "hh-east").speaker.neighbours
    session = next(n for n in without if n.internal)
    assert str(session.remote_address).startswith("192.168.255."), "settled where none is given"


def test_hosts_firewalls_have_the_last_word_and_let_answers_in() -> None:
    shut = (
        "      archive: {hosts: 50, table: quiet}\n",
        "      archive: {hosts: 50, table: quiet, hosts-accept: [udp/53]}\n",
    )
    own = "[tcp/443, {allow: tcp/22, from: harbour-house/offices/10.20.4.20}]"
    booking = (own, "[%s]")
    for accepts, good in (
        ("tcp/443, tcp/22", True),
        ("tcp/20-500", True),
        ("icmp, udp/443", False),
        ("", False),
    ):
        settled = crossing((booking[0], booking[1] % accepts), shut)
        there, _ = there_and_back(ReachModel(settled), settled.expectations[0])
        assert bool(there.dropped) is not good
        assert good or "the firewall of the hosts in timetable/booking" in there.dropped
        asks = next(w for w in settled.expectations if str(w.source) == "timetable/booking")
        assert not any(t.dropped for t in there_and_back(ReachModel(settled), asks))
    assert "expectation-unmet" in codes((booking[0], booking[1] % "udp/443"))
    assert "expectation-unmet" not in codes((own, "[tcp/443, tcp/22]"))
    accepts = ("desks: 10.20.0.0/22", "desks: {prefix: 10.20.0.0/22, hosts-accept: [icmp]}")
    settled = settled_of(swap(accepts))
    (gate,) = device_config(
        settled, "quay-gw"
    ).host_firewalls  # the pack tells who looks after the hosts
    assert (gate.network, [str(rule.flow) for rule in gate.rules]) == ("desks", ["icmp"])
