"""Settling address space: complete, stable, summarisable, in pools and regions, both families."""

from __future__ import annotations

import itertools

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from obrin.core.address.prefix import Prefix, parse_prefix
from obrin.core.catalogue.offering import PRACTICE_CLOUD
from obrin.core.errors import SettleError
from obrin.core.settle.settle import settle, without
from obrin.core.settled.building import build_settled
from tests.core.test_blocks import exists
from tests.core.test_settle import assert_nothing_moved, held
from tests.doubles import design_of, settled_of, swap

P = parse_prefix


def plan(pool: str, sites: dict[str, list[int]], *, extra: str = "", regions=None) -> str:
    """Sites whose networks are wishes of a length, and a cloud whose space is given."""
    lines = [f"obrin: 1\nname: t\npools: {{p: {{prefixes: {pool}, for: sites}}}}\n{extra}sites:"]
    for n, (name, lengths) in enumerate(sites.items()):
        wishes = ", ".join(f"n{i}: {{length: {length}}}" for i, length in enumerate(lengths))
        region = f"region: {regions[name]}, " if regions else ""
        lines.append(
            f"  {name}: {{{region}networks: {{{wishes}}}, gateways: {{g-{name}: {{uplinks: "
            f"{{u: {{address: 192.0.2.{n + 1}}}}}}}}}}}"
        )
    lines.append("clouds: {net: {space: 172.16.0.0/16, subnets: {web: {hosts: 9}}}}")
    return "\n".join(lines)


def settled_plan(text: str, previous=None):
    return settle(design_of(text), previous or {}, PRACTICE_CLOUD)


def networks(choices) -> dict[str, Prefix]:
    return {k: held(c)[0] for k, c in choices.items() if ".networks." in k}


sites = st.lists(st.lists(st.integers(27, 30), min_size=1, max_size=3), min_size=1, max_size=4)


@settings(max_examples=80, deadline=None)
@given(sites, st.lists(st.integers(0, 15), max_size=4, unique=True))
def test_settle_finds_an_allocation_exactly_if_one_exists(lengths, busy) -> None:
    pool = P("10.0.0.0/26")
    used = [Prefix(32, pool.value + 4 * n, 30) for n in busy]
    extra = "".join(f"  e{n}: {p}\n" for n, p in enumerate(used))
    text = plan(
        str(pool),
        {f"s{n}": wishes for n, wishes in enumerate(lengths)},
        extra=f"elsewhere:\n{extra}" if extra else "",
    )
    every = sorted(n for wishes in lengths for n in wishes)
    try:
        found = networks(settled_plan(text))
    except SettleError as error:
        assert not exists(pool, used, every)
        assert "Any one of these would cure it" in str(error)
    else:
        assert len(found) == len(every)
        placed = list(found.values())
        assert all(pool.covers(p) for p in placed)
        assert not any(a.overlaps(b) for a, b in itertools.combinations([*placed, *used], 2))


@settings(max_examples=40, deadline=None)
@given(sites, sites, st.integers(0, 3))
def test_adding_and_removing_sites_moves_no_network(before, after, gone: int) -> None:
    regions = {f"s{n}": ("north", "south")[n % 2] for n in range(20)}
    first_sites = {f"s{n}": wishes for n, wishes in enumerate(before)}
    first = settled_plan(plan("10.0.0.0/20", first_sites, regions=regions))
    second_sites = {k: v for k, v in first_sites.items() if k != f"s{gone}"}
    second_sites |= {f"s{10 + n}": wishes for n, wishes in enumerate(after)}
    if not second_sites:
        return
    text = plan("10.0.0.0/20", second_sites, regions=regions)
    second = settled_plan(text, first)
    assert_nothing_moved(first, second)
    assert settled_plan(text, second) == second


@settings(max_examples=40, deadline=None)
@given(st.integers(24, 30), st.integers(24, 30))
def test_resizing_one_network_moves_no_other(small: int, large: int) -> None:
    def sized(length: int) -> str:
        return plan("10.0.0.0/18", {"a": [26, length, 27], "b": [26, 26], "c": [length]})

    first = settled_plan(sized(max(small, large)))
    second = settled_plan(sized(min(small, large)), first)
    assert_nothing_moved(
        {
            k: c
            for k, c in first.items()
            if not k.endswith(("a.networks.n1.prefix", "c.networks.n0.prefix"))
        },
        second,
    )
    for key in ("sites.a.networks.n1.prefix", "sites.c.networks.n0.prefix"):
        assert held(second[key])[0].length <= min(small, large)


def test_a_site_and_a_region_are_each_one_prefix_to_announce() -> None:
    regions = {"a": "north", "b": "south", "c": "north", "d": "south"}
    text = plan("10.0.0.0/16", {n: [24, 26, 25] for n in regions}, regions=regions)
    choices = settled_plan(text)
    assert all(len(held(choices[f"sites.{n}.space"])) == 1 for n in regions)
    (north,), (south,) = (held(choices[f"regions.{r}.sites"]) for r in ("north", "south"))
    assert not north.overlaps(south)
    for key, prefix in networks(choices).items():
        assert (north if regions[key.split(".")[1]] == "north" else south).covers(prefix)


def test_a_region_grows_in_place_while_it_can() -> None:
    regions = {f"s{n}": "north" for n in range(9)}
    first = settled_plan(plan("10.0.0.0/16", {"s0": [24], "s1": [24]}, regions=regions))
    more = {f"s{n}": [24] for n in range(9)}
    second = settled_plan(plan("10.0.0.0/16", more, regions=regions), first)
    assert len(held(second["regions.north.sites"])) == 1
    assert_nothing_moved(first, second)


def test_summaries_give_way_before_anything_is_refused() -> None:
    # Two sites of 3 x /30 in a /29 and a /28: no site fits in one block of its own.
    extra = "elsewhere: {x: 10.0.0.16/28, y: 10.0.0.8/30, z: 10.0.0.32/27}\n"
    text = plan("10.0.0.0/26", {"a": [30, 30, 30]}, extra=extra)
    assert len(networks(settled_plan(text))) == 3


def test_pools_by_region_come_first_and_general_ones_after() -> None:
    extra = ""
    text = plan(
        "10.9.0.0/16",
        {"a": [24, 24, 24], "b": [24]},
        extra=extra,
        regions={"a": "north", "b": "south"},
    )
    text = text.replace("pools: {p:", "pools: {own: {prefixes: 10.8.0.0/23, region: north}, p:")
    found = networks(settled_plan(text))
    assert sum(P("10.8.0.0/23").covers(p) for p in found.values()) in (0, 2)
    assert P("10.9.0.0/16").covers(found["sites.b.networks.n0.prefix"])


def test_wishes_by_hosts_length_role_and_growth() -> None:
    text = plan("10.0.0.0/16", {"a": [24]}).replace(
        "n0: {length: 24}",
        "h: {hosts: 100}, g: {hosts: 100, growth: 50 %}, d: {length: 26, growth: 2 doublings}, "
        "r: {role: till}, blank: ",
    )
    text = text.replace("sites:", "roles: {till: {hosts: 10, growth: 1 doubling}}\nsites:", 1)
    lengths = {k.split(".")[3]: p.length for k, p in networks(settled_plan(text)).items()}
    assert lengths == {"h": 25, "g": 24, "d": 24, "r": 27, "blank": 24}


def test_growth_of_a_site_leaves_room_in_its_space() -> None:
    text = plan("10.0.0.0/16", {"a": [24]}).replace("{networks", "{growth: 2 doublings, networks")
    assert held(settled_plan(text)["sites.a.space"])[0].length == 22


def test_dual_stack_numbers_everything_twice_and_draws_one_unique_local_prefix() -> None:
    text = swap(
        ("obrin: 1", "obrin: 1\nstack: dual"), ("guests: 10.20.8.0/24", "guests: {hosts: 20}")
    )
    design = design_of(text)
    choices = settle(design, {}, PRACTICE_CLOUD, bytes.fromhex("a1b2c3d4e5"))
    ula = P("fda1:b2c3:d4e5::/48")
    assert choices["ula"].value == str(ula)
    settled = build_settled(design, choices)
    cloud = settled.clouds["apps"]
    six = [
        *(n.prefix.ipv6 for n in settled.sites["quay"].networks.values()),
        cloud.subnets["web"].prefix.ipv6,
        cloud.gateway.subnet.ipv6,
    ]
    assert all(ula.covers(p) and p.length == 64 for p in six)
    assert len(set(six)) == len(six)
    assert {t.inside.ipv6.length for t in settled.tunnels()} == {127}
    again = settle(design, choices, PRACTICE_CLOUD, b"other")
    assert again == choices


def test_an_ipv6_space_is_a_56_and_lies_around_what_is_given_of_it() -> None:
    dual = ("obrin: 1", "obrin: 1\nstack: dual\nula: 'fd00:1:2::/48'")
    (space,) = settled_of(swap(dual)).clouds["apps"].spaces.ipv6
    assert space.length == 56
    given = ("web: {hosts: 100}", "web: {hosts: 100, prefix6: 'fd00:1:2:8a00::/64'}")
    cloud = settled_of(swap(dual, given)).clouds["apps"]
    assert cloud.spaces.ipv6 == (P("fd00:1:2:8a00::/56"),)
    assert cloud.gateway.subnet.ipv6 != cloud.subnets["web"].prefix.ipv6
    assert cloud.holds(cloud.subnets["web"].prefix.ipv4)


def test_inside_blocks_of_other_sizes_and_from_a_pool_of_ones_own() -> None:
    text = swap(
        (
            "obrin: 1",
            "obrin: 1\ninside: {length: 31}\npools: {t: {prefixes: 10.250.0.0/24, for: inside}}",
        )
    )
    blocks = [t.inside.ipv4 for t in settled_of(text).tunnels()]
    assert [str(b) for b in blocks] == ["10.250.0.0/31", "10.250.0.2/31"]


def test_inside_blocks_are_used_again_only_at_other_gateways() -> None:
    text = swap(
        ("obrin: 1", "obrin: 1\npools: {t: {prefixes: 10.250.0.0/29, for: inside}}"),
        (
            "clouds:\n",
            "  pier:\n    networks: {lan: 10.30.0.0/24}\n    gateways: {pier-gw: {uplinks: {x: "
            "{address: 192.0.2.90}}}}\nclouds:\n  other: {subnets: {web: {hosts: 9}}}\n",
        ),
        (
            "expectations:",
            "  pier-other:\n    site: pier\n    cloud: other\n    tunnels: {a: {gateway: "
            "pier-gw, uplink: x}}\nexpectations:",
        ),
    )
    design = design_of(text)
    choices = settle(design, {}, PRACTICE_CLOUD)
    blocks = {t.label: t.inside.ipv4 for t in build_settled(design, choices).tunnels()}
    assert blocks["quay-apps/a"] != blocks["quay-apps/b"]
    assert blocks["pier-other/a"] in (blocks["quay-apps/a"], blocks["quay-apps/b"])
    assert settle(design, choices, PRACTICE_CLOUD) == choices
    with pytest.raises(SettleError, match="Add a pool for 'inside'"):
        settled_of(text.replace("10.250.0.0/29", "10.250.0.0/30"))


def test_loopbacks_and_as_numbers_come_from_their_pools() -> None:
    text = swap(
        (
            "obrin: 1",
            "obrin: 1\npools: {l: {prefixes: 10.255.0.0/28, for: loopbacks}}\n"
            "as-numbers: {sites: [4200000100-4200000199], clouds: [65010]}",
        )
    )
    settled = settled_of(text)
    gateway = settled.gateways["quay-gw"]
    assert str(gateway.loopback) == "10.255.0.0"
    assert (gateway.asn, settled.clouds["apps"].asn) == (4200000100, 65010)
    with pytest.raises(SettleError, match="Add a range to 'as-numbers'"):
        settled_of(
            text.replace(
                "clouds:\n  apps:", "clouds:\n  more: {subnets: {x: {hosts: 3}}}\n  apps:"
            ).replace(
                "\nlinks:\n",
                "\nlinks:\n  to-more: {site: quay, cloud: more, tunnels: "
                "{t: {gateway: quay-gw, uplink: fibre}}}\n",
            )
        )


def test_translated_prefixes_are_settled_as_long_as_what_they_stand_for() -> None:
    text = swap(
        (
            "    subnets: {web: {hosts: 100}}",
            "    space: 10.20.0.0/20\n    subnets: {web: {hosts: 100}}",
        ),
        (
            "    networks: [desks]\n",
            "    networks: [desks]\n    seen-as: {desks: }\n    cloud-seen-as:\n",
        ),
    )
    choices = settled_plan(text)
    seen = held(choices["links.quay-apps.seen-as.desks"])[0]
    cloud = held(choices["links.quay-apps.cloud-seen-as"])[0]
    assert (seen.length, cloud.length) == (22, 20)
    assert not seen.overlaps(cloud)
    assert not any(p.overlaps(P("10.20.0.0/16")) for p in (seen, cloud))
    assert settled_plan(text, choices) == choices


@pytest.mark.parametrize(
    ("seen", "words"),
    [
        (
            "seen-as: {desks: 10.9.0.0/24}",
            "seen-as.desks: 10.9.0.0/24 is not as large as 10.20.0.0/22",
        ),
        ("cloud-seen-as: 10.9.0.0/28", "Give a prefix of the same length for each of"),
        ("only: {desks: 10.21.0.0/24}", "only.desks: 10.21.0.0/24 is not inside 10.20.0.0/22"),
    ],
)
def test_translation_that_does_not_fit_is_refused(seen: str, words: str) -> None:
    with pytest.raises(SettleError, match=words):
        settled_of(swap(("    networks: [desks]\n", f"    networks: [desks]\n    {seen}\n")))


def test_a_cloud_that_grows_gets_a_further_prefix_instead_of_moving() -> None:
    small = swap(("web: {hosts: 100}", "web: {hosts: 100}, b: {hosts: 60}"))
    first = settled_plan(small)
    block = held(first["clouds.apps.space"])[0]
    neighbour = Prefix(32, block.value ^ block.size, block.length)
    big = small.replace("b: {hosts: 60}", "b: {hosts: 60}, c: {hosts: 4000}").replace(
        "obrin: 1", f"obrin: 1\nelsewhere: {{x: {neighbour}}}"
    )
    second = settled_plan(big, first)
    assert held(second["clouds.apps.space"])[0] == block
    assert len(held(second["clouds.apps.space"])) == 2
    assert_nothing_moved(first, second)
    settled = build_settled(design_of(big), second)
    assert settled.clouds["apps"].holds(settled.clouds["apps"].subnets["c"].prefix.ipv4)


def test_each_cure_of_a_bottleneck_cures_it() -> None:
    extra = "elsewhere: {big: 10.0.0.0/26, small: 10.0.0.64/27}\n"
    text = plan("10.0.0.0/25", {"a": [27, 27], "b": [27]}, extra=extra)
    with pytest.raises(SettleError) as error:
        settled_plan(text)
    words = str(error.value)
    assert "3 blocks of /27 are asked and p (10.0.0.0/25) can hold 1" in words
    assert "add a pool of a /26 for sites" in words
    assert "free 10.0.0.0/26 of big (elsewhere)" in words
    settled_plan(text.replace("pools: {p:", "pools: {q: {prefixes: 10.7.0.0/26}, p:"))
    settled_plan(text.replace("big: 10.0.0.0/26, ", ""))


def test_what_was_settled_moves_only_when_asked() -> None:
    sparse = plan("10.0.0.0/26", {"a": [28], "b": [28], "c": [28], "d": [28]})
    first = settled_plan(sparse)
    thinned = {k: c for k, c in first.items() if ".b." not in k and ".d." not in k}
    fuller = plan("10.0.0.0/26", {"a": [28], "c": [28], "e": [27]})
    with pytest.raises(SettleError, match="settle --anew all"):
        settled_plan(fuller, thinned)
    assert len(networks(settled_plan(fuller, without(thinned, ("all",))))) == 3
    assert without(first, ("sites.a",)).keys() == {k for k in first if not k.startswith("sites.a.")}
