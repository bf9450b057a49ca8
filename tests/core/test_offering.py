"""What a cloud offers, as a file of one's own; and classes held against what is asked."""

from __future__ import annotations

from dataclasses import replace

import pytest

from obrin.core.address.prefix import parse_prefix
from obrin.core.catalogue.offering import PRACTICE_CLOUD, Demand, Offerings
from obrin.core.check.whole import check
from obrin.core.design.offering_file import format_offering, parse_offering
from obrin.core.errors import DesignError
from obrin.core.handover.secrets import Secrets
from obrin.core.settle.classes import demand_of, judge_classes
from obrin.core.settle.settle import settle
from obrin.core.settled.building import build_settled
from tests.doubles import design_of, settled_of, swap


def test_the_file_says_what_the_data_say() -> None:
    assert parse_offering(format_offering(PRACTICE_CLOUD), "o.yaml") == PRACTICE_CLOUD


@pytest.mark.parametrize(
    ("old", "new", "words"),
    [
        (
            'throughput: "100 Mbit/s"',
            "throughput: 100",
            "o.yaml:4:5: 'throughput': 100 is not a rate",
        ),
        ("reserved: 4", "reserverd: 4", "Did you mean 'reserved'"),
        ("smallest-subnet: 29", "smallest-subnet: 12", "the smallest subnet (/12) is larger"),
        (
            "public-pool: 203.0.113.0/24",
            "public-pool: 203.0.113.1/24",
            "203.0.113.0/24 or the single",
        ),
    ],
)
def test_a_mistake_in_it_is_reported_with_its_place(old: str, new: str, words: str) -> None:
    text = format_offering(PRACTICE_CLOUD)
    assert old in text
    with pytest.raises(DesignError) as error:
        parse_offering(text.replace(old, new), "o.yaml")
    assert words in str(error.value)
    with pytest.raises(DesignError, match="not a mapping"):
        parse_offering("- 1", "o.yaml")


@pytest.mark.parametrize(
    ("asked", "taken", "lacks"),
    [
        (Demand(throughput=50, tunnels=2, bgp=False, instances=1), "punt", ""),
        (Demand(throughput=50, tunnels=2, bgp=True, instances=1), "cutter", "does not speak BGP"),
        (Demand(throughput=300, tunnels=2, bgp=True, instances=2), "cutter", "runs 1 instance"),
        (
            Demand(throughput=300, tunnels=2, bgp=True, instances=2, after_failure=True),
            "packet",
            "carries 250 Mbit/s after the loss",
        ),
        (
            Demand(throughput=300, tunnels=2, bgp=True, instances=2, features=("zones",)),
            "packet",
            "has no zones",
        ),
        (Demand(throughput=300, tunnels=30, bgp=True, instances=2), "packet", "holds 20 tunnels"),
        (
            Demand(throughput=300, tunnels=2, bgp=True, instances=2, routes=500),
            "packet",
            "holds 200 BGP routes",
        ),
        (
            Demand(throughput=300, tunnels=2, bgp=True, instances=1, after_failure=True),
            None,
            "ask for two instances",
        ),
        (Demand(throughput=99_000, tunnels=2, bgp=True, instances=2), None, "carries 10000 Mbit/s"),
    ],
)
def test_the_cheapest_that_does_everything(asked: Demand, taken: str | None, lacks: str) -> None:
    judged = judge_classes(asked, PRACTICE_CLOUD)
    assert next((j.entry.name for j in judged if not j.lacks), None) == taken
    reasons = (
        [j.lacks for j in judged[: [j.entry.name for j in judged].index(taken)] if taken]
        if taken
        else [j.lacks for j in judged]
    )
    assert not lacks or any(lacks in reason for reason in reasons)


def test_what_is_asked_is_counted_in_the_design() -> None:
    text = swap(
        ("  apps:\n", "  apps:\n    gateway: {after-failure: true, needs: [zones]}\n"),
        ("    networks: [desks]\n", "    networks: [desks]\n    cloud-seen-as:\n"),
    )
    asked = demand_of(design_of(text), "apps")
    assert asked == Demand(
        throughput=100.0,
        tunnels=2,
        bgp=True,
        instances=2,
        routes=2,
        features=("zones", "translation"),
        after_failure=True,
    )


USES = {
    "certificates": [("    networks: [desks]\n", "    authentication: certificate\n")],
    "both-active": [(f"instance: {n}}}", f"instance: {n}, role: shared}}") for n in (1, 2)],
    "zones": [("  apps:\n", "  apps:\n    gateway: {zones: [a, b]}\n")],
}


@pytest.mark.parametrize("feature", USES)
def test_whatever_a_design_uses_counts_for_the_class(feature: str) -> None:
    assert feature in demand_of(design_of(swap(*USES[feature])), "apps").features
    assert feature not in demand_of(design_of(), "apps").features


def test_loads_count_where_no_throughput_is_given() -> None:
    wish = "flow: tcp/443, must: work}"
    loaded = swap((wish, "flow: tcp/443, must: work, load: 700 Mbit/s}"))
    assert demand_of(design_of(loaded), "apps").throughput == 700
    assert settled_of(loaded).clouds["apps"].gateway_class == "packet"


def test_the_gateway_subnet_counts_what_the_cloud_keeps_and_the_instances() -> None:
    design = design_of(
        swap(
            ("  apps:\n", "  apps:\n    gateway: {class: punt, instances: 1}\n"),
            ("      b: {gateway: quay-gw, uplink: radio, instance: 2}\n", ""),
        )
    )
    lengths = []
    for reserved in (2, 6, 7, 20):
        offering = replace(PRACTICE_CLOUD, reserved=reserved)
        settled = build_settled(design, settle(design, {}, offering))
        lengths.append(settled.clouds["apps"].gateway.subnet.ipv4.length)
    assert lengths == [29, 29, 28, 27]


@pytest.mark.parametrize(
    ("given", "code"),
    [("class: punt", "class-short"), ("class: liner", "class-dear"), ("class: cutter", None)],
)
def test_a_class_that_is_given_is_judged(given: str, code: str | None) -> None:
    text = swap(("  apps:\n", f"  apps:\n    gateway: {{{given}}}\n"))
    design = design_of(text)
    settled = build_settled(design, settle(design, {}, PRACTICE_CLOUD))
    found = {f.code for f in check(settled, PRACTICE_CLOUD, Secrets())} & {
        "class-short",
        "class-dear",
    }
    assert found == ({code} if code else set())


@pytest.mark.parametrize(
    ("change", "code"),
    [
        ("space: 10.0.0.0/8", "space-size"),
        ("space: 224.1.0.0/16", "space-forbidden"),
        ("space: 10.99.0.0/16\n    subnets: {web: {prefix: 10.99.1.0/30}}", "subnet-size"),
    ],
)
def test_what_the_cloud_does_not_allow(change: str, code: str) -> None:
    tail = "" if "subnets" in change else "\n    subnets: {web: {hosts: 100}}"
    text = swap(
        ("    subnets: {web: {hosts: 100}}", f"    {change}{tail}"),
        ("guests: 10.20.8.0/24", "guests: 172.20.8.0/24"),
    )
    design = design_of(text)
    settled = build_settled(design, settle(design, {}, PRACTICE_CLOUD))
    assert code in {f.code for f in check(settled, PRACTICE_CLOUD, Secrets())}


SECOND = """\
  quay-books:
    site: quay
    cloud: books
    bgp: {hold-time: 6 s}
    tunnels:
      a: {gateway: quay-gw, uplink: fibre, instance: 1}
expectations:
"""
TWO_CLOUDS = swap(
    ("\nlinks:\n", "\n  books:\n    subnets: {ledgers: {hosts: 100}}\nlinks:\n"),
    ("expectations:\n", SECOND),
)


def test_each_cloud_can_offer_something_else() -> None:
    """Classes, reserved addresses, the public pool and what is forbidden are each cloud's own."""
    other = replace(
        PRACTICE_CLOUD,
        classes=tuple(replace(c, name=f"big-{c.name}") for c in PRACTICE_CLOUD.classes),
        reserved=60,
        public_pool=parse_prefix("198.51.100.128/25"),
        reserved_inside=(parse_prefix("169.254.1.0/24"),),
        forbidden=(parse_prefix("10.65.0.0/16"),),
    )
    both = Offerings(PRACTICE_CLOUD, {"books": other})
    design = design_of(TWO_CLOUDS)
    settled = build_settled(design, settle(design, {}, both))
    apps, books = settled.clouds["apps"], settled.clouds["books"]
    assert (apps.gateway_class, books.gateway_class) == ("cutter", "big-cutter")
    assert [other.public_pool.holds(c.instances[0].first) for c in (apps, books)] == [
        False,
        True,
    ]
    assert apps.gateway.subnet.ipv4.length > books.gateway.subnet.ipv4.length
    assert not any(
        b.overlaps(p) for p in both.forbidden for b in (*apps.all_spaces, *books.all_spaces)
    )
    assert not any(
        t.inside.ipv4.overlaps(p) for p in both.reserved_inside for t in settled.tunnels()
    )
    codes = {(f.code, f.place[1]) for f in check(settled, both, Secrets())}
    assert not {code for code, _ in codes} & {"class-unknown", "gateway-subnet-small"}
    swapped = Offerings(other, {"books": PRACTICE_CLOUD})
    codes = {(f.code, f.place[1]) for f in check(settled, swapped, Secrets())}
    assert {("class-unknown", "apps"), ("class-unknown", "books")} <= codes
