"""Settling: complete, deterministic, stable, explained; and it says what stands in the way."""

from __future__ import annotations

import re
from dataclasses import replace

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from obrin.core.address.prefix import Prefix, parse_prefix
from obrin.core.catalogue.offering import PRACTICE_CLOUD
from obrin.core.check.finding import Severity
from obrin.core.check.whole import check
from obrin.core.errors import DesignError, SettleError
from obrin.core.settle.choices import Choice, format_choices, parse_choices
from obrin.core.settle.classes import demand_of
from obrin.core.settle.settle import settle
from obrin.core.settled.building import build_settled
from tests.doubles import DESIGN, design_of, settled_of, swap

SECOND_GATEWAY = (
    "  mole:\n    networks: {lan: 10.30.0.0/24}\n    gateways: {mole-gw: {uplinks: {x: "
    "{address: 192.0.2.90}}}}\nclouds:\n"
)
LOOPED = swap(("obrin: 1", "obrin: 1\npools: {l: {prefixes: 10.9.9.0/24, for: loopbacks}}"))


def choices_of(text: str = DESIGN, previous=None):
    return settle(design_of(text), previous or {}, PRACTICE_CLOUD)


def test_every_blank_is_filled_and_explained() -> None:
    choices = choices_of()
    assert sorted(choices) == [
        "clouds.apps.gateway.addresses",
        "clouds.apps.gateway.as",
        "clouds.apps.gateway.class",
        "clouds.apps.gateway.subnet",
        "clouds.apps.space",
        "clouds.apps.subnets.web.prefix",
        "links.quay-apps.suite",
        "links.quay-apps.tunnels.a.inside",
        "links.quay-apps.tunnels.b.inside",
        "sites.quay.gateways.quay-gw.as",
    ]
    assert all(choice.why for choice in choices.values())
    assert choices["clouds.apps.gateway.class"].value == "cutter"
    assert "punt runs 1 instance" in choices["clouds.apps.gateway.class"].why
    build_settled(design_of(), choices)


GIVES = swap(("  apps:\n", "  apps:\n    gateway: {assigns: [addresses, peers]}\n"))
HERE = "clouds.apps.gateway."


def test_what_a_cloud_told_is_kept_and_what_stood_in_for_it_is_said() -> None:
    before = choices_of(GIVES)
    assert "stands in" in before[f"{HERE}addresses"].why
    assert f"{HERE}peers" not in before
    own = parse_prefix(str(before[f"{HERE}subnet"].value))
    peers = [str(own.address_at(n)) for n in (9, 8)]
    told = {
        f"{HERE}addresses": Choice(
            ["198.51.100.77", "198.51.100.78"], "told", assigned_by="cloud apps"
        ),
        f"{HERE}peers": Choice(peers, "told", assigned_by="cloud apps"),
    }
    after = choices_of(GIVES, {**before, **told})
    assert {key: after[key] for key in told} == told
    parsed = parse_choices(format_choices(after), "file")
    assert parsed == after
    gateway = build_settled(design_of(GIVES), after).clouds["apps"].gateway
    assert (gateway.unknown, list(map(str, gateway.peers))) == (frozenset(), peers)
    codes = [f.code for f in check(settled_of(GIVES), PRACTICE_CLOUD)]
    assert codes.count("address-stands-in") == 2
    three = {f"{HERE}addresses": Choice(["198.51.100.77"] * 3, "told", assigned_by="cloud apps")}
    assert choices_of(GIVES, {**before, **three})[f"{HERE}addresses"] == before[f"{HERE}addresses"]


@pytest.mark.parametrize(
    ("gateway", "words"),
    [
        ("{addresses: [192.0.2.77]}", "1 addresses for 2 instances"),
        ("{peers: [10.64.0.4]}", "1 addresses for 2 instances"),
        ("{peers: [10.64.0.4, 10.9.9.9], subnet: 10.64.0.0/28}", "10.9.9.9 does not lie in"),
        ("{addresses: [192.0.2.77, 192.0.2.78], assigns: [addresses]}", "the cloud chooses them"),
        ("{assigns: [names]}", "'assigns number 1' is 'names'"),
    ],
)
def test_addresses_of_instances_that_cannot_be(gateway: str, words: str) -> None:
    with pytest.raises(DesignError, match=re.escape(words)):
        design_of(swap(("  apps:\n", f"  apps:\n    gateway: {gateway}\n")))


def test_the_same_design_gives_the_same_values() -> None:
    assert choices_of() == choices_of()


def test_a_blank_left_blank_is_refused_later() -> None:
    choices = choices_of()
    del choices["clouds.apps.space"]
    with pytest.raises(SettleError, match=r"clouds\.apps\.space is still blank"):
        build_settled(design_of(), choices)


def test_what_the_design_says_is_never_overruled() -> None:
    text = swap(("  apps:\n", "  apps:\n    space: 10.99.0.0/20\n"))
    choices = choices_of(text)
    assert "clouds.apps.space" not in choices
    assert settled_of(text).clouds["apps"].spaces.ipv4 == (parse_prefix("10.99.0.0/20"),)
    assert choices["clouds.apps.subnets.web.prefix"].value == "10.99.0.0/25"


def grown(sites: int, clouds: int, hosts: list[int]) -> str:
    lines = ["obrin: 1", "name: grown", "sites:"]
    for n in range(sites):
        lines.append(
            f"  s{n}: {{networks: {{lan: 10.{n}.0.0/24}}, gateways: {{g{n}: {{uplinks: "
            f"{{u: {{address: 192.0.2.{n + 1}}}}}}}}}}}"
        )
    lines.append("clouds:")
    for n in range(clouds):
        subnets = ", ".join(f"n{i}: {{hosts: {h}}}" for i, h in enumerate(hosts[: n + 1]))
        lines.append(f"  c{n}: {{subnets: {{{subnets}}}}}")
    lines.append("links:")
    for n in range(sites):
        lines.append(
            f"  l{n}: {{site: s{n}, cloud: c{n % clouds}, tunnels: {{t: {{gateway: g{n}, "
            f"uplink: u}}}}}}"
        )
    return "\n".join(lines)


sizes = st.tuples(
    st.integers(1, 8), st.integers(1, 4), st.lists(st.integers(1, 3000), min_size=4, max_size=4)
)


def held(choice) -> list[Prefix]:
    texts = choice.value if isinstance(choice.value, list) else [choice.value]
    return [parse_prefix(text) for text in texts]


def assert_nothing_moved(first, second, resized: str = "") -> None:
    """What was settled stays; what holds others may only grow, and what was resized may move."""
    for key in first.keys() & second.keys():
        if key.endswith("space") or key.startswith("regions."):
            for block in held(first[key]):
                assert any(now.covers(block) for now in held(second[key])), key
        elif not (resized and key.startswith(resized)) and not key.endswith(".class"):
            assert second[key].value == first[key].value, key


@settings(max_examples=40, deadline=None)
@given(sizes, sizes)
def test_adding_removing_and_resizing_moves_nothing_else(one, two) -> None:
    first = choices_of(grown(*one))
    second = choices_of(grown(*two), first)
    for key in first.keys() & second.keys():
        if "subnets" not in key and "class" not in key and not key.endswith("gateway.subnet"):
            assert_nothing_moved({key: first[key]}, {key: second[key]})
    assert choices_of(grown(*two), second) == second


@settings(max_examples=30, deadline=None)
@given(sizes, st.integers(1, 4))
def test_more_sites_and_clouds_leave_prefixes_alone(size, more: int) -> None:
    sites, clouds, hosts = size
    first = choices_of(grown(sites, clouds, hosts))
    assert_nothing_moved(first, choices_of(grown(sites + more, clouds, hosts), first))


@settings(max_examples=30, deadline=None)
@given(sizes)
def test_what_is_chosen_never_overlaps(size) -> None:
    settled = build_settled(design_of(grown(*size)), choices_of(grown(*size)))
    spaces = [p for c in settled.clouds.values() for p in c.spaces.ipv4]
    spaces += [p for site in settled.sites for _, p in settled.networks_at(site)]
    assert not any(a.overlaps(b) for i, a in enumerate(spaces) for b in spaces[:i])
    for cloud in settled.clouds.values():
        parts = [s.prefix.ipv4 for s in cloud.subnets.values()] + [cloud.gateway.subnet.ipv4]
        assert all(cloud.holds(p) for p in parts)
        assert not any(a.overlaps(b) for i, a in enumerate(parts) for b in parts[:i])
    blocks = [t.inside.ipv4 for t in settled.tunnels()]
    assert len(set(blocks)) == len(blocks)
    assert not any(r.overlaps(b) for r in PRACTICE_CLOUD.reserved_inside for b in blocks)
    numbers = [c.asn for c in settled.clouds.values()] + [g.asn for g in settled.gateways.values()]
    numbers = [number for number in numbers if number is not None]
    assert len(set(numbers)) == len(numbers)


def test_a_choice_that_no_longer_fits_is_made_again() -> None:
    first = choices_of()
    space = first["clouds.apps.space"].value
    text = swap(("guests: 10.20.8.0/24", f"guests: {space}"))
    second = choices_of(text, first)
    assert second["clouds.apps.space"] != first["clouds.apps.space"]
    assert second["links.quay-apps.tunnels.a.inside"] == first["links.quay-apps.tunnels.a.inside"]


@pytest.mark.parametrize(
    ("change", "words"),
    [
        (
            (
                "subnets: {web: {hosts: 100}}",
                "space: 10.99.0.0/26\n    subnets: {web: {hosts: 100}}",
            ),
            "no free /25 in 10.99.0.0/26; the largest free block is a /26",
        ),
        (
            (
                "subnets: {web: {hosts: 100}}",
                "subnets: {web: {hosts: 100}}\n    gateway: {throughput: 50 Gbit/s}",
            ),
            "liner carries 10000 Mbit/s, 50000 Mbit/s are asked",
        ),
        (
            (
                "obrin: 1",
                "obrin: 1\nelsewhere: {a: 10.0.0.0/8, b: 172.16.0.0/12, c: 192.168.0.0/16}",
            ),
            "nothing is free",
        ),
        (
            (
                "  apps:\n",
                "  more: {region: west, subnets: {x: {hosts: 9}}}\n  apps:\n",
            ),
            r"in any pool \(none is for places without a region; those for clouds are for west\)",
        ),
        (
            (
                "obrin: 1",
                "obrin: 1\npools: {l: {prefixes: 10.9.9.9/32, for: loopbacks}}\n",
            ),
            "pool l is used up|is used up. Add a pool for 'loopbacks'",
        ),
        (
            (
                "    cloud: apps\n",
                "    cloud: apps\n    seen-as: {desks: }\n",
            ),
            "no free /22 in .* Add a pool for 'translation'",
        ),
    ],
)
def test_the_bottleneck_is_named(change, words: str) -> None:
    more = []
    if "loopbacks" in words:
        more = [("clouds:\n", SECOND_GATEWAY)]
    if "west" in words:
        pool = "pools: {c: {prefixes: 10.128.0.0/10, for: clouds, region: west}}"
        more = [("obrin: 1", f"obrin: 1\n{pool}\n")]
    if "translation" in words:
        more = [("obrin: 1", "obrin: 1\npools: {t: {prefixes: 10.9.9.0/24, for: translation}}\n")]
    with pytest.raises(SettleError, match=words):
        choices_of(swap(change, *more))


def test_values_of_an_earlier_file_that_are_no_values_are_chosen_anew() -> None:
    """Whatever stands there: text of another kind, a list, a number."""
    good = choices_of(LOOPED)
    for key in good:
        for wrong in ("x", 5, [], ["x", "y"], "10.0.0.0/33"):
            if isinstance(good[key].value, int) and wrong == 5:
                continue
            chosen = choices_of(LOOPED, good | {key: Choice(wrong, "")})
            assert chosen[key].value != wrong
            build_settled(design_of(LOOPED), chosen)


def test_loopbacks_that_are_given_are_nobody_elses() -> None:
    given = swap(("        uplinks:", "        loopback: 10.9.9.0\n        uplinks:"), text=LOOPED)
    chosen = choices_of(swap(("clouds:\n", SECOND_GATEWAY), text=given))
    assert chosen["sites.mole.gateways.mole-gw.loopback"].value == "10.9.9.1"


def test_a_cloud_with_values_of_its_own_is_reported_what_would_move() -> None:
    first = choices_of(swap(("{web: {hosts: 100}}", "{web: {hosts: 100}, db: {hosts: 100}}")))
    with pytest.raises(SettleError, match=r"obrin settle --anew clouds\.apps"):
        choices_of(
            swap(
                ("  apps:\n", "  apps:\n    space: 10.99.0.0/24\n"),
                ("{web: {hosts: 100}}", "{web: {hosts: 100}, db: {hosts: 100}}"),
            ),
            {k: replace(v, value=v.value) for k, v in first.items()}
            | {
                "clouds.apps.subnets.web.prefix": Choice("10.99.0.64/26", ""),
                "clouds.apps.gateway.subnet": Choice("10.99.0.128/28", ""),
            },
        )


def test_the_strongest_common_suite_is_taken() -> None:
    offers = ("        uplinks:", "        offers: [wide, common]\n        uplinks:")
    assert choices_of(swap(offers))["links.quay-apps.suite"].value == "common"


def test_gateways_of_one_site_share_an_as_number() -> None:
    second = (
        "          radio: {address: 198.51.100.20, provider: two}\n",
        "          radio: {address: 198.51.100.20, provider: two}\n"
        "      quay-gw2: {uplinks: {x: {address: 192.0.2.77}}}\n",
    )
    settled = settled_of(swap(second, ("  quay:\n", "  quay:\n    internal-bgp: true\n")))
    assert settled.gateways["quay-gw"].asn == settled.gateways["quay-gw2"].asn


def test_without_bgp_nobody_needs_a_number_and_a_number_given_stays() -> None:
    static = ("    bgp: {hold-time: 6 s}\n", "    routing: static\n")
    chosen = choices_of(swap(static))
    assert not [key for key in chosen if key.endswith(".as")]
    settled = settled_of(swap(static))
    assert (settled.gateways["quay-gw"].asn, settled.clouds["apps"].asn) == (None, None)
    assert check(settled)[0].severity is not Severity.ERROR
    given = ("      quay-gw:\n", "      quay-gw:\n        as: 64999\n")
    assert settled_of(swap(static, given)).gateways["quay-gw"].asn == 64999
    aside = (
        "          radio: {address: 198.51.100.20, provider: two}\n",
        "          radio: {address: 198.51.100.20, provider: two}\n"
        "      quay-gw2: {uplinks: {x: {address: 192.0.2.77}}}\n",
    )
    assert settled_of(swap(aside)).gateways["quay-gw2"].asn is None  # no tunnel ends there


def test_a_member_of_a_hub_has_no_gateway_that_nobody_builds() -> None:
    joined = (
        "clouds:\n",
        "clouds:\n"
        "  core: {hub: {members: [apps, books]}, gateway: {throughput: 1 Gbit/s}}\n"
        "  books: {subnets: {ledger: {hosts: 20}}}\n",
    )
    link = ("    cloud: apps\n", "    cloud: core\n")
    settled = settled_of(swap(joined, link))
    assert [name for name, cloud in settled.clouds.items() if cloud.gateway] == ["core"]
    assert not [key for key in choices_of(swap(joined, link)) if "apps.gateway" in key]
    built = settled_of(swap(joined))  # apps has a link of its own
    assert [name for name, cloud in built.clouds.items() if cloud.gateway] == ["core", "apps"]
    wished = (joined[0], joined[1].replace("{hosts: 20}}", "{hosts: 20}}, gateway: {instances: 1}"))
    assert settled_of(swap(wished, link)).clouds["books"].gateway is not None


def test_a_blank_space_grows_around_the_subnets_given() -> None:
    text = swap(
        ("subnets: {web: {hosts: 100}}", "subnets: {web: {hosts: 100}, db: {prefix: 10.77.5.0/24}}")
    )
    cloud = settled_of(text).clouds["apps"]
    assert cloud.holds(parse_prefix("10.77.5.0/24"))
    assert cloud.holds(cloud.subnets["web"].prefix.ipv4)


@pytest.mark.parametrize(
    ("changes", "routes"),
    [
        ((), 2),
        ((("networks: [desks]", "networks: [desks, guests]"),), 4),
        ((("hold-time: 6 s}", "hold-time: 6 s, summaries: 10.20.0.0/16}"),), 2),
        (
            (
                ("networks: [desks]", "networks: [desks, guests]"),
                ("hold-time: 6 s}", "hold-time: 6 s, summaries: 10.20.0.0/16}"),
            ),
            2,
        ),
        (
            (
                ("networks: [desks]", "networks: [desks, guests]"),
                ("hold-time: 6 s}", "hold-time: 6 s, summaries: 10.20.0.0/22}"),
            ),
            4,
        ),
        (
            (
                (
                    "    networks: {desks: 10.20.0.0/22,",
                    "    space: 10.30.0.0/16\n    networks: {desks: ,",
                ),
                ("hold-time: 6 s}", "hold-time: 6 s, summaries: 10.30.0.0/16}"),
            ),
            2,
        ),
        ((("    networks: {desks: 10.20.0.0/22,", "    networks: {desks: ,"),), 2),
    ],
)
def test_a_class_is_chosen_with_summaries_counted(changes, routes: int) -> None:
    assert demand_of(design_of(swap(*changes)), "apps").routes == routes


@pytest.mark.parametrize(
    ("growth", "hosts", "length", "words"),
    [
        ("", 5, 22, "a /22 is usual, its subnets and gateway (/28, /28) need a /27"),
        ("", 900, 20, "once doubled"),
        ("    growth: 0 %\n", 5, 27, "none to spare, as asked"),
        ("    growth: 100 %\n", 50, 24, "with room to grow by 100 %"),
    ],
)
def test_a_space_is_as_large_as_asked_and_says_why(growth, hosts, length, words) -> None:
    web = "    subnets: {web: {hosts: 100}}"
    text = swap((web, f"{growth}    subnets: {{web: {{hosts: {hosts}}}}}"))
    found = settle(design_of(text), {}, PRACTICE_CLOUD)["clouds.apps.space"]
    assert str(found.value).endswith(f"/{length}")
    assert words in found.why
