"""The same for values: sizes, numbers, suites, keys, filters, loads."""

from __future__ import annotations

import copy
from collections.abc import Callable
from typing import Any

import pytest

from obrin.core.catalogue.offering import PRACTICE_CLOUD
from obrin.core.check.whole import check
from obrin.core.handover.secrets import Secrets
from tests.core.test_healthy import secrets_of
from tests.core.test_mistakes import (
    Json,
    No,
    cloud_of,
    first,
    gateway_of,
    give_addresses,
    links,
    named_first,
    uplinks,
)
from tests.doubles import settled_of
from tests.healthy import Healthy

GCM = {"encryption": "AES-GCM-16-256", "prf": "PRF-HMAC-SHA2-384", "group": 20, "lifetime": "8 h"}
ESP = {"encryption": "AES-GCM-16-256", "pfs": 20, "lifetime": "1 h"}
OLD = {"encryption": "3DES", "integrity": "HMAC-MD5-96", "lifetime": "8 h"}

CASES: list[tuple[str, Callable[[Json], None]]] = []


def case(code: str) -> Callable[[Callable[[Json], None]], Callable[[Json], None]]:
    def keep(change: Callable[[Json], None]) -> Callable[[Json], None]:
        CASES.append((code, change))
        return change

    return keep


def cloud(data: Json) -> Json:
    """A cloud network whose space is for settle to choose."""
    return first(data["clouds"].values(), lambda c: "hub" not in c and "space" not in c)


def with_suite(data: Json, ike: Json, esp: Json, **more: Any) -> None:
    """One of the design's own, for a link whose devices are not described."""
    link = links(data)
    gateways = data["sites"][link["site"]]["gateways"].values()
    if any("profile" in g or "offers" in g for g in gateways):
        raise No
    data["suites"] = {"own": {"ike": ike, "esp": esp, **more}}
    link["suite"] = "own"


@case("address-example")
def an_address_of_a_manual(data: Json) -> None:
    for number, uplink in enumerate(uplinks(data)[:-1], 4):
        uplink["address"] = f"20.30.{number}.9"
    if len(uplinks(data)) < 2:
        raise No


@case("address-shared")
def two_behind_one_address_and_both_called(data: Json) -> None:
    gateways = [g for s in data["sites"].values() for g in s["gateways"].values()]
    if len(gateways) < 2:
        raise No
    for number, gateway in enumerate(gateways[:2]):
        uplink = first(gateway["uplinks"].values())
        own = f"192.168.7.{number + 2}"
        uplink |= {
            "address": "192.0.2.9",
            "inside": own,
            "forwards": True,
            "identity": f"g{number}",
        }


@case("as-equal-sites")
def one_as_number_at_two_sites(data: Json) -> None:
    found = [link for link in data["links"].values() if "bgp" in link]
    one, two = first(
        (a, b) for a in found for b in found if a["cloud"] == b["cloud"] and a["site"] < b["site"]
    )
    for link in (one, two):
        for gateway in data["sites"][link["site"]]["gateways"].values():
            gateway["as"] = 64777


@case("as-not-private")
def an_as_number_of_somebody(data: Json) -> None:
    link = links(data, lambda x: "bgp" in x)
    for gateway in data["sites"][link["site"]]["gateways"].values():
        gateway["as"] = 3333


@case("internal-as")
def two_as_numbers_in_one_site(data: Json) -> None:
    site = first(data["sites"].values(), lambda s: s.get("internal-bgp"))
    for number, gateway in enumerate(site["gateways"].values()):
        gateway["as"] = 64770 + number


@case("class-dear")
def a_class_for_far_more(data: Json) -> None:
    cloud(data).setdefault("gateway", {})["class"] = "liner"


@case("gateway-subnet-small")
def a_gateway_subnet_for_one(data: Json) -> None:
    found = cloud(data)
    found["space"] = "10.180.0.0/16"
    found.setdefault("gateway", {})["subnet"] = "10.180.255.248/29"


@case("gateway-subnet-outside")
def a_gateway_subnet_of_another_space(data: Json) -> None:
    found = cloud(data)
    found["space"] = "10.180.0.0/16"
    found.setdefault("gateway", {})["subnet"] = "10.181.0.0/26"


@case("subnet-overlap")
def workloads_in_the_gateway_subnet(data: Json) -> None:
    found = cloud(data)
    found["space"] = "10.180.0.0/16"
    found.setdefault("gateway", {})["subnet"] = "10.180.0.0/26"
    found["subnets"]["more"] = "10.180.0.0/27"


@case("subnet-size")
def a_subnet_of_four_addresses(data: Json) -> None:
    found = cloud(data)
    found["space"] = "10.180.0.0/16"
    found["subnets"]["more"] = "10.180.9.0/30"


@case("space-size")
def a_space_larger_than_the_cloud_allows(data: Json) -> None:
    if any("cloud-seen-as" in link for link in data["links"].values()):
        raise No  # no pool has such a range once more; settle says so
    found = cloud(data)
    found["space"] = "172.0.0.0/7"


@case("space-forbidden")
def a_space_that_the_cloud_forbids(data: Json) -> None:
    cloud(data)["space"] = "169.254.0.0/16"


@case("space-everything")
def a_range_that_is_all(data: Json) -> None:
    data.setdefault("elsewhere", {})["all"] = "128.0.0.0/1"


@case("inside-size")
def a_block_for_many_inside_a_tunnel(data: Json) -> None:
    links(data)["tunnels"]["t0"]["inside"] = "169.254.77.0/28"


@case("loopback-twice")
def a_loopback_copied(data: Json) -> None:
    gateways = [g for s in data["sites"].values() for g in s["gateways"].values()]
    if len(gateways) < 2:
        raise No
    for gateway in gateways[:2]:
        gateway["loopback"] = "10.255.77.1"


@case("spare-first")
def a_spare_with_none_before_it(data: Json) -> None:
    link = links(data, lambda x: not any("role" in t for t in x["tunnels"].values()))
    link["tunnels"]["t0"]["role"] = "spare"


@case("zone-shared")
def both_instances_in_one_zone(data: Json) -> None:
    cloud_of(data, links(data))["zones"] = ["a", "a"]


@case("tunnel-same-ends")
def two_uplinks_with_one_address(data: Json) -> None:
    gateway = first(
        (g for s in data["sites"].values() for g in s["gateways"].values()),
        lambda g: len(g["uplinks"]) == 2,
    )
    one, two = gateway["uplinks"].values()
    if "inside" in one or "inside" in two:
        raise No
    two["address"] = one["address"]
    for link in data["links"].values():
        if gateway in data["sites"][link["site"]]["gateways"].values():
            for tunnel in link["tunnels"].values():
                tunnel["instance"] = 1


@case("ike-version")
def the_older_ike(data: Json) -> None:
    with_suite(data, GCM, ESP, **{"ike-version": 1})


@case("suite-no-pfs")
def rekeys_without_an_exchange(data: Json) -> None:
    with_suite(data, GCM, {k: v for k, v in ESP.items() if k != "pfs"})


@case("suite-deprecated")
def algorithms_of_long_ago(data: Json) -> None:
    ike = OLD | {"prf": "PRF-HMAC-SHA1", "group": 2}
    with_suite(data, ike, OLD | {"pfs": 2, "lifetime": "1 h"})


@case("policy-broken")
def a_suite_that_the_policy_forbids(data: Json) -> None:
    data["policy"] = {"longest-ike": "1 h"}


@case("lifetime-range")
def a_lifetime_that_a_device_refuses(data: Json) -> None:
    with_suite(data, GCM, ESP)
    data["profiles"] = {"short": {"ike": {"lifetime": {"most": "1 h"}}}}
    for gateway in data["sites"][links(data)["site"]]["gateways"].values():
        gateway["profile"] = "short"


@case("mss-not-clamped")
def a_device_that_clamps_nothing(data: Json) -> None:
    data["profiles"] = {"plain": {"mss-clamping": False}}
    gateway = gateway_of(data, links(data))
    if gateway.get("profile"):
        raise No
    gateway["profile"] = "plain"


@case("route-limit")
def fewer_routes_than_are_told(data: Json) -> None:
    link = links(data, lambda x: "bgp" in x and x["cloud"] != "hub")
    link["bgp"].pop("cloud-summaries", None)
    found = data["clouds"][link["cloud"]]
    found.pop("growth", None)
    found["space"] = [f"10.{n}.0.0/16" for n in (180, 182, 184)]
    if found["subnets"] and any(not isinstance(s, dict) for s in found["subnets"].values()):
        raise No
    gateway_of(data, link)["maximum-prefixes"] = 2


@case("translation-overlap")
def a_name_that_somebody_has(data: Json) -> None:
    link = links(data, lambda x: "seen-as" not in x and "only" not in x and x["cloud"] != "hub")
    site = data["sites"][link["site"]]
    if not isinstance(site["networks"]["desks"], str) or len(data["links"]) > 1:
        raise No
    data.setdefault("elsewhere", {})["taken"] = "10.240.0.0/20"
    link["seen-as"] = {"desks": "10.240.4.0/22"}


@case("transit-unasked")
def a_hub_that_leads_from_site_to_site(data: Json) -> None:
    mine = [n for n, link in data["links"].items() if link["cloud"] == "hub"]
    sites = {data["links"][n]["site"] for n in mine}
    if len(sites) < 2:
        raise No
    mine += list(data.get("circuits", {}))
    members = data["clouds"]["hub"]["hub"]["members"]
    data["clouds"]["hub"]["hub"]["tables"] = {
        "all": {"for": [*members, *mine], "learns": [*members, *mine]}
    }


@case("reach-wider")
def a_rule_for_more_than_was_asked(data: Json) -> None:
    wish = first(data["expectations"], lambda e: e.get("must", "work") == "work")
    ends = [wish["from"].split("/")[0], wish["to"].split("/")[0]]
    if len(data["expectations"]) > 1 or "hub" in data["clouds"]:
        raise No
    wide = {"allow": "any", "from": wish["from"], "to": wish["to"]}
    for end in ends:
        if end in data["clouds"]:
            data["clouds"][end]["filters"] = [wide]
        else:
            for gateway in data["sites"][end]["gateways"].values():
                gateway["filters"] = [wide]


@case("expectation-leak")
def a_rule_that_lets_through_what_must_not(data: Json) -> None:
    a_rule_for_more_than_was_asked(data)
    wish = data["expectations"][0]
    data["expectations"].append(wish | {"flow": "tcp/22", "must": "not"})


@case("detection-slow")
def a_hold_time_in_minutes(data: Json) -> None:
    link = links(data, lambda x: "bgp" in x)
    if "cloud" in str(data.get("profiles")):
        raise No
    link["bgp"]["hold-time"] = "90 min"
    link["liveness"] = {"delay": "10 min"}
    link["bfd"] = False


@case("overload")
def more_than_a_line_carries(data: Json) -> None:
    wish = first(data["expectations"], lambda e: e.get("must", "work") == "work")
    wish["load"] = "900 Mbit/s"
    for uplink in uplinks(data):
        uplink["rate"] = "50 Mbit/s"


@case("overload")
def more_than_a_circuit_carries(data: Json) -> None:
    circuit = first(data.get("circuits", {}).values())
    site = data["sites"][circuit["site"]]
    if "prefer" not in site:
        raise No
    circuit["rate"] = "10 Mbit/s"
    wish = first(data["expectations"], lambda e: e["from"] == f"{circuit['site']}/desks")
    wish["load"] = "40 Mbit/s"


@case("overload-after-failure")
def a_backup_too_narrow(data: Json) -> None:
    link = links(data, lambda x: not any("role" in t for t in x["tunnels"].values()))
    site = data["sites"][link["site"]]
    lines = [u for g in site["gateways"].values() for u in g["uplinks"].values()]
    rest = [x for x in data["links"].values() if x["site"] == link["site"] and x is not link]
    if len(lines) != 2 or rest or "circuits" in data or "load" in str(data["expectations"]):
        raise No
    lines[0]["rate"], lines[1]["rate"] = "100 Mbit/s", "5 Mbit/s"
    wish = first(data["expectations"], lambda e: e["from"] == f"{link['site']}/desks")
    wish["load"] = "20 Mbit/s"


@case("address-twice")
def two_instances_with_one_address(data: Json) -> None:
    give_addresses(cloud_of(data, links(data)), "203.0.113.77", "203.0.113.77")


@case("address-not-public")
def an_instance_by_its_inner_address(data: Json) -> None:
    give_addresses(cloud_of(data, links(data)), "203.0.113.77", "10.9.9.9")


@case("address-twice")
def two_uplinks_of_a_gateway_with_one_address(data: Json) -> None:
    gateways = [g for s in data["sites"].values() for g in s["gateways"].values()]
    found = [list(g["uplinks"].values()) for g in gateways]
    one, two = first(found, lambda u: len(u) == 2 and not any("inside" in x for x in u))
    two["address"] = one["address"]


@case("as-reserved")
def an_as_number_that_nobody_may_have(data: Json) -> None:
    link = links(data, lambda x: "bgp" in x)
    gateway_of(data, link)["as"] = 23456
    if data["sites"][link["site"]].get("internal-bgp"):
        raise No


@case("address-inside")
def a_translator_in_a_range_that_is_reached(data: Json) -> None:
    link = links(data, lambda x: x["cloud"] != "hub" and "cloud-seen-as" not in x)
    found = data["clouds"][link["cloud"]]
    if any(not isinstance(s, dict) for s in found["subnets"].values()):
        raise No
    found.pop("growth", None)
    found["space"] = "10.180.0.0/16"
    first(gateway_of(data, link)["uplinks"].values())["inside"] = "10.180.3.2"


@case("address-one-armed")
def a_translator_in_a_network_of_the_site(data: Json) -> None:
    link = links(data)
    uplink = first(gateway_of(data, link)["uplinks"].values())
    desks = data["sites"][link["site"]]["networks"]["desks"]
    if not isinstance(desks, str):
        raise No
    uplink["inside"] = desks.replace(".0.0/22", ".3.2")


@case("loopback-twice")
def a_loopback_that_is_an_uplinks(data: Json) -> None:
    gateway = gateway_of(data, links(data))
    gateway["loopback"] = first(gateway["uplinks"].values())["address"]


@case("expectation-contradicts")
def a_flow_that_must_and_must_not(data: Json) -> None:
    wish = first(data["expectations"], lambda e: e.get("must", "work") == "work")
    data["expectations"].append({**wish, "must": "not"})


@pytest.mark.parametrize(("code", "change"), CASES, ids=[f"{c}: {f.__name__}" for c, f in CASES])
def test_a_wrong_value_is_named_first(code: str, change: Callable[[Json], None]) -> None:
    named_first(code, change)


KEYS: dict[str, tuple[str, Callable[[str], str]]] = {
    "a name and a year": ("key-weak", lambda key: "Harbour-Ferries-2026!harbour"),
    "a placeholder": ("key-weak", lambda key: "<insert the shared secret here>"),
    "a row of the keyboard": ("key-weak", lambda key: "qwertyuiopasdfghjklzxcvbnm"),
    "one for two": ("key-shared", lambda key: key),
    "counted on": ("key-alike", lambda key: key[:-1] + ("b" if key[-1] == "a" else "a")),
}


@pytest.mark.parametrize("seed", range(3))
@pytest.mark.parametrize("what", KEYS)
def test_a_bad_key_is_named_in_any_design(what: str, seed: int) -> None:
    code, change = KEYS[what]
    settled = settled_of(str(Healthy(seed)))
    keys = dict(secrets_of(settled).keys)
    labels = [s.label for s in settled.shared_secrets()]
    assert not {f.code for f in check(settled, PRACTICE_CLOUD, Secrets(keys))} & {code}
    bad = copy.copy(keys)
    bad[labels[1]] = change(keys[labels[0]])
    found = [f for f in check(settled, PRACTICE_CLOUD, Secrets(bad)) if f.code.startswith("key-")]
    assert [f.code for f in found] == [code]
    assert bad[labels[1]] not in str(found)
