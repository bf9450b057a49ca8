"""What designs, settled files and single values refuse: one table for each, a line for each rule."""

from __future__ import annotations

from collections.abc import Callable
from datetime import date
from typing import Any

import pytest

from obrin.core.address.prefix import Address, Prefix, host_prefix, parse_prefix
from obrin.core.catalogue.offering import PRACTICE_CLOUD
from obrin.core.design import values
from obrin.core.design.document import load_design
from obrin.core.design.places import NetworkRef
from obrin.core.design.positions import Locator
from obrin.core.design.reader import MAX_BYTES, read_values
from obrin.core.design.starting import fault_of
from obrin.core.errors import DesignError, SettleError
from obrin.core.settle.choices import Choice, format_choices
from obrin.core.settle.judge import judge_choices
from obrin.core.settle.settle import settle
from obrin.core.settled.building import build_settled
from tests.doubles import DESIGN, design_of, swap

SUITE = "suites: {mine: {ike: {encryption: %s, prf: %s, group: %s}, esp: {encryption: %s}}}\n"
HUB = "  mid: {hub: {members: [apps]%s}}\n"
CIRCUIT = (
    "circuits: {line: {site: quay, gateway: quay-gw, cloud: apps, inside: 169.254.9.0/30%s}}\n"
)


def after(anchor: str, more: str) -> tuple[str, str]:
    return anchor, anchor + more


def first(text: str) -> tuple[str, str]:
    """Before the sites."""
    return "sites:\n", text + "sites:\n"


APPS, LINK, WEB = "  apps:\n", "    cloud: apps\n", "{web: {hosts: 100}}"
GW = "      quay-gw:\n"
# (what is changed, what the one message says, where in the file)
MISTAKES: list[tuple[tuple[str, str], str, str]] = [
    (
        first(SUITE % ("AES-GCM-16-256", "PRF-HMAC-SHA9", "CURVE25519", "AES-GCM-16-256")),
        "PRF-HMAC-SHA9",
        "mine:",
    ),
    (
        after(APPS, "    gateway: {addresses: [192.0.2.1]}\n"),
        "1 addresses for 2 instances",
        "addresses",
    ),
    (after(APPS, "    gateway: {profile: nothing}\n"), "no profile 'nothing'", "profile"),
    (after(APPS, "    gateway: {offers: [nothing]}\n"), "no suite 'nothing'", "offers"),
    (after(GW, "        offers: [nothing]\n"), "no suite 'nothing'", "offers"),
    (
        after(GW, "        filters: [{allow: icmp, from: quay/bogus, to: apps}]\n"),
        "no place or prefix 'quay/bogus'",
        "from: quay/bogus",
    ),
    (("quay-gw", "apps"), "'apps' is already the name of cloud apps", "apps:"),
    (
        after(APPS, "    gateway: {instances: 1}\n"),
        "has 1 instance, this tunnel wants number 2",
        "instance: 2",
    ),
    (first("roles: {r: {hosts: 9, length: 24}}\n"), "say the same thing twice", "r:"),
    ((WEB, "{web: {hosts: 100, length: 24}}"), "say the same thing twice", "web:"),
    ((WEB, "{web: {role: odd}}"), "no role 'odd'", "odd"),
    (
        first(
            "pools: {a: {prefixes: 10.0.0.0/8, for: sites}, b: {prefixes: 10.1.0.0/16, for: clouds}}\n"
        ),
        "10.1.0.0/16 of pool 'b' overlaps 10.0.0.0/8 of pool 'a'",
        "b: {prefix",
    ),
    (
        first("pools: {a: {prefixes: [10.0.0.0/8, 10.1.0.0/16], for: sites}}\n"),
        "10.1.0.0/16 and 10.0.0.0/8 of pool 'a' overlap",
        "a: {prefix",
    ),
    (
        first("pools: {a: {prefixes: 10.0.0.0/8, for: sites, region: odd}}\n"),
        "no region 'odd'",
        "odd",
    ),
    (after(LINK, "    seen-as: {odd: 10.9.0.0/24}\n"), "no network of quay 'odd'", "odd:"),
    (
        after(LINK, "    only: {guests: [10.20.8.0/25]}\n"),
        "'guests' does not use this link",
        "guests: [10",
    ),
    (
        after("clouds:\n", HUB % ", tables: {t: {for: [odd, apps]}}"),
        "no member, link or circuit of mid 'odd'",
        "odd",
    ),
    (
        after("clouds:\n", HUB % ", tables: {t: {for: [apps]}, u: {for: [apps]}}"),
        "apps has two route tables, t and u",
        "apps]}}",
    ),
    (
        after("clouds:\n", HUB % ", tables: {t: {for: [quay-apps], learns: []}}"),
        "apps has no route table at mid",
        "tables",
    ),
    (after("clouds:\n", "  mid: {hub: {members: [odd]}}\n"), "no cloud network 'odd'", "odd"),
    (first(CIRCUIT.replace("line:", "quay-apps:") % ""), "is a link and a circuit", "quay-apps"),
    (first(CIRCUIT.replace("cloud: apps", "cloud: odd") % ""), "no cloud 'odd'", "odd"),
    (first(CIRCUIT.replace("site: quay", "site: odd") % ""), "no site 'odd'", "odd"),
    (first(CIRCUIT.replace("quay-gw", "odd") % ""), "no gateway of quay 'odd'", "odd"),
    (first(CIRCUIT % ", networks: [odd]"), "no network of quay 'odd'", "odd]"),
    (first(CIRCUIT % ", hold-time: 2 s"), "a BGP hold time of 2 s is not allowed", "hold-time"),
    (
        (WEB, "{web: {hosts: 100, table: t}}\n    tables: {t: {routes: [nowhere]}}"),
        "write each route as 'prefix: target'",
        "routes",
    ),
    (
        (WEB, "{web: {hosts: 100, table: t}}\n    tables: {t: {routes: {10.9.0.0/16: odd}}}"),
        "no target of a route 'odd'",
        "10.9.0.0/16",
    ),
    (after(APPS, "    space: []\n"), "the list of prefixes is empty", "space"),
    (after(APPS, "    space: [10.9.0.0/16, 'fd00::/48']\n"), "IPv4 and IPv6 are mixed", "space"),
    (after(APPS, "    space6: 10.9.0.0/16\n"), "10.9.0.0/16 is IPv4", "space6"),
    (after(APPS, "    space6: [10.9.0.0/16]\n"), "10.9.0.0/16 is IPv4", "space6"),
    (after(APPS, "    space: 'fd00::/48'\n"), "fd00::/48 is IPv6", "space"),
    (after(APPS, "    space: 5\n"), "5 is not a prefix", "space"),
    (after(APPS, "    growth: much\n"), "'much' is not a growth", "growth"),
    (after(APPS, "    growth: 99 doublings\n"), "more than anybody needs", "growth"),
    (("hold-time: 6 s", "hold-time: 99999999 d"), "more than a hundred years", "hold-time"),
    (("address: 192.0.2.10", "address: 7"), "7 is not an address", "address: 7"),
    (("from: quay/guests", "from: 7"), "7 is not a network", "from: 7"),
    (after(LINK, "    until: soon\n"), "soon", "until"),
    (first("as-numbers: {sites: [x-y]}\n"), "not a range of AS numbers", "x-y"),
    (first("as-numbers: {sites: [9-5]}\n"), "does not rise", "9-5"),
    (("networks: [desks]", "networks: {desks: 1}"), "networks", "networks: {desks: 1}"),
    (("name: test", "name: [test]"), "name", "name"),
    (
        after("      a: {gateway: quay-gw, uplink: fibre, instance: 1", ", odd: 1"),
        "'odd' is not a key",
        "odd",
    ),
    (("flow: icmp,", "flow: icmp, odd: 1,"), "'odd' is not a key", "odd"),
    (after(LINK, "    bfd: {odd: 1}\n"), "odd", "bfd"),
    (("obrin: 1", "obrin: 1\npolicy: {odd: 1}"), "'odd' is not a key", "odd"),
    (("networks: [desks]", "networks: []"), "'networks' is empty", "networks: []"),
]


@pytest.mark.parametrize(("change", "words", "place"), MISTAKES, ids=lambda v: str(v)[:40])
def test_every_rule_says_what_and_where_and_how(change, words: str, place: str) -> None:
    text = swap(change)
    with pytest.raises(DesignError) as error:
        load_design(text, "d")
    found = [p for p in error.value.problems if words in p.what]
    assert found, [p.what for p in error.value.problems]
    assert found[0].fix
    line = int(found[0].where.split(":")[1])
    assert place in text.splitlines()[line - 1]


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("a" * (MAX_BYTES + 1), "larger than"),
        ("a: \x00", "not"),
        ("? &k [1]\n: 2", "one word"),
        ("a: {b: 1\nc: 2\n", "the braces are not closed"),
        ("a: [1, 2\nc: 2\n", "the brackets are not closed"),
        ("a: b: c\n", "a colon stands where no key is"),
        ("a: 1\n b: 2\n", "a colon stands where no key is|a key was expected"),
        ("a:\n  - 1\n  b: 2\n", "an entry of the list was expected"),
        ("a: 1\nb\nc: 2\n", "a colon is missing"),
        ("a: 'x\n", "the quotes are not closed"),
        ("a: @x\n", "no value can begin with this"),
        ('a: "\\q"\n', "an escape that YAML does not have"),
        ("a: [,]\n", "a value is missing"),
        ("a: 1\n- b\n", "a key was expected|does not belong"),
        ("a: b\x07\n", "cannot be in a text"),
    ],
)
def test_texts_that_cannot_be_read(text: str, words: str) -> None:
    with pytest.raises(DesignError, match=words):
        read_values(text, "f")


def test_keys_and_positions_of_unusual_texts() -> None:
    assert read_values("x: &n 5\ny: *n\n*n : 6\n", "f") == {"x": 5, "y": 5, "5": 6}
    assert Locator("a: &m {b: 1}\nc: *m\n", "f").where(("c", "b")) == "f:1:8"
    assert Locator("a: [", "f").where(("a",)) == "f:1:1"


# A value that cannot be one, for each kind of blank; and one that can.
JUDGED: list[tuple[str, Any, str, Any]] = [
    ("clouds.apps.gateway.as", "many", "is not an AS number", 65010),
    ("clouds.apps.gateway.as", 0, "they go from 1", 4200000000),
    ("clouds.apps.gateway.as", 10**30, "more than 20 digits", 64512),
    ("sites.quay.gateways.quay-gw.as", 23456, "RFC 6793", 64513),
    ("clouds.apps.gateway.class", "raft", "is not a capacity class", "cutter"),
    ("links.quay-apps.suite", 5, "is not a suite", "high"),
    ("clouds.apps.gateway.addresses", "192.0.2.1", "is not a list of addresses", ["192.0.2.1"]),
    ("clouds.apps.gateway.addresses", ["192.0.2.1", "192.0.2.1"], "stands twice", ["192.0.2.1"]),
    ("clouds.apps.gateway.addresses", ["224.0.0.9"], "which is multicast", ["192.0.2.1"]),
    ("sites.quay.gateways.quay-gw.loopback", "127.0.0.1", "which is loopback", "10.9.9.9"),
    ("sites.quay.gateways.quay-gw.loopback", 7, "7 is not an address", "10.9.9.9"),
    ("sites.quay.gateways.quay-gw.loopback", "fe80::1", "no router passes on", "10.9.9.9"),
    ("ula", "2001:db8::/48", "is not a /48 of fc00::/7", "fd12:3456:789a::/48"),
    ("links.quay-apps.tunnels.a.inside", "169.254.9.0/28", "length is 30 or 31", "169.254.9.0/30"),
    ("links.quay-apps.tunnels.a.inside6", "fd00::/64", "length is 126 or 127", "fd00::/127"),
    ("links.quay-apps.tunnels.a.inside", "240.0.0.0/30", "which is reserved", "169.254.9.0/31"),
    ("links.quay-apps.seen-as.suite", "x" * 80, "has no prefix length", "10.9.0.0/24"),
    ("clouds.apps.space", ["10.0.0.0/8", 5], "5 is not an address", ["10.0.0.0/8"]),
    ("regions.suite.sites", "169.254.0.0/16", "no router passes on", ["10.0.0.0/8"]),
]


@pytest.mark.parametrize(("key", "bad", "words", "good"), JUDGED, ids=lambda v: str(v)[:40])
def test_settled_values_that_cannot_be_values(key: str, bad, words: str, good) -> None:
    def judge(value: Any) -> None:
        choices = {key: Choice(value, "why")}
        locator = Locator(format_choices(choices), "s")
        judge_choices(design_of(), choices, PRACTICE_CLOUD, locator)

    judge(good)
    with pytest.raises(DesignError) as error:
        judge(bad)
    (problem,) = error.value.problems
    assert problem.where == "s:6:5"
    assert words in problem.what
    assert f"obrin settle --anew {key}" in problem.fix


# Values that pass through as they are, or come back from their own text.
SAME: list[tuple[Callable[[Any], Any], Any, Any]] = [
    (values.parse_growth, values.format_growth(1.5), 1.5),
    (values.parse_duration, values.format_duration(90.0), 90.0),
    (values.parse_day, date(2030, 1, 2), date(2030, 1, 2)),
    (NetworkRef.of, "quay/desks", NetworkRef("quay", "desks")),
    (parse_prefix, "::ffff:192.0.2.0/120", Prefix(128, 0xFFFF_C000_0200, 120)),
    (host_prefix, "192.0.2.1", Prefix(32, 0xC0000201, 32)),
]


@pytest.mark.parametrize(("parse", "given", "value"), SAME)
def test_values_that_are_read(parse, given, value) -> None:
    assert parse(given) == value


@pytest.mark.parametrize(
    ("parse", "given", "words"),
    [
        (values.parse_day, "2030-13-01", "day"),
        (values.parse_flow, 5, "flow"),
    ],
)
def test_values_that_are_not(parse, given, words: str) -> None:
    with pytest.raises(ValueError, match=words):
        parse(given)


@pytest.mark.parametrize(
    ("one", "two", "both"),
    [
        ("any", "tcp/443", True),
        ("tcp/1-9", "any", True),
        ("tcp/1-9", "tcp/9-20", True),
        ("tcp/1-9", "tcp/10", False),
        ("tcp/1-9", "udp/1-9", False),
    ],
)
def test_flows_overlap(one: str, two: str, both: bool) -> None:
    flows = values.parse_flow(one), values.parse_flow(two)
    assert flows[0].overlaps(flows[1]) is flows[1].overlaps(flows[0]) is both
    assert values.parse_flow("any").lets(50, 0)


@pytest.mark.parametrize(
    ("fact", "good", "bad", "words"),
    [
        ("name", "clinic", "The Clinic", "is not a name"),
        ("site", "ward", "true", "It must be a text"),
        ("hosts", 5, 0, "at least 1"),
        ("networks", (("lan", "10.0.0.0/24"),), (("lan", "10.0.0.1/24"),), "beyond its"),
        ("site", "ward", "ward # old", "read as something else"),
        ("uplinks", (("main", "192.0.2.1"),), (("main", "192.0.2"),), "four numbers"),
    ],
)
def test_facts_of_a_starting_design(fact: str, good, bad, words: str) -> None:
    assert fault_of(fact, good) == ""
    assert words in fault_of(fact, bad)


def test_a_suite_that_is_gone_is_settled_anew() -> None:
    choices = settle(design_of(), {}, PRACTICE_CLOUD)
    choices["links.quay-apps.suite"] = Choice("gone", "")
    with pytest.raises(SettleError, match="not known any more"):
        build_settled(design_of(), choices)
    assert settle(design_of(), choices, PRACTICE_CLOUD)["links.quay-apps.suite"].value == "high"
    assert str(Address(32, 1)) == "0.0.0.1"
    assert DESIGN
