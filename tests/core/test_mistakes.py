"""One mistake in a design that was healthy: its cause is named, first of all that is new.

Each mistake is a change of the design's data and the finding that it must lead to. It is seeded in
designs of several shapes; the design before the change is its corrected twin.
"""

from __future__ import annotations

import copy
from collections.abc import Callable
from typing import Any

import pytest
import yaml

from obrin.core.catalogue.offering import PRACTICE_CLOUD
from obrin.core.check.finding import Finding
from obrin.core.check.whole import check
from tests.core.test_healthy import TRUE_OF_DEVICES, secrets_of
from tests.doubles import settled_of
from tests.healthy import Healthy

Json = dict[str, Any]
SHAPES = 3
MOST_TRIED = 120


class No(Exception):
    """This design has no place for the mistake."""


def findings(data: Json) -> list[Finding]:
    settled = settled_of(yaml.safe_dump(data, sort_keys=False))
    return check(settled, PRACTICE_CLOUD, secrets_of(settled))


def first(items: Any, good: Callable[[Any], bool] = bool) -> Any:
    """The first that will do. Raises No."""
    found = next((item for item in items if good(item)), None)
    if found is None:
        raise No
    return found


def links(data: Json, good: Callable[[Json], bool] = bool) -> Json:
    """A link that is alone between its ends."""
    ends = [(link["site"], link["cloud"]) for link in data["links"].values()]
    lines = [(line["site"], line["cloud"]) for line in data.get("circuits", {}).values()]

    def alone(link: Json) -> bool:
        pair = link["site"], link["cloud"]
        return ends.count(pair) == 1 and pair not in lines and good(link)

    return first(data["links"].values(), alone)


def uplinks(data: Json) -> list[Json]:
    return [
        uplink
        for site in data["sites"].values()
        for gateway in site["gateways"].values()
        for uplink in gateway["uplinks"].values()
    ]


def gateway_of(data: Json, link: Json) -> Json:
    return data["sites"][link["site"]]["gateways"][link["tunnels"]["t0"]["gateway"]]


def cloud_of(data: Json, link: Json) -> Json:
    return data["clouds"][link["cloud"]].setdefault("gateway", {})


def give_addresses(gateway: Json, *addresses: str) -> None:
    """Public ones, which are then not the cloud's to choose."""
    gateway["addresses"] = list(addresses)
    gateway.pop("assigns", None)


def plain_site(data: Json) -> Json:
    """A site whose networks are what they are to everybody."""
    links = [x for x in data["links"].values() if "only" in x or "seen-as" in x or "bgp" in x]
    used = {link["site"] for link in links}
    used |= {x["from"].split("/")[0] for x in data["expectations"] if x["from"].count("/") > 1}
    used |= {name for name, site in data["sites"].items() if "yard" in site["networks"]}
    return data["sites"][first(name for name in data["sites"] if name not in used)]


MISTAKES: dict[str, Callable[[Json], None]] = {}


def mistake(code: str) -> Callable[[Callable[[Json], None]], Callable[[Json], None]]:
    def keep(change: Callable[[Json], None]) -> Callable[[Json], None]:
        MISTAKES[f"{code}: {change.__name__}"] = change
        return change

    return keep


@mistake("one-tunnel")
def a_second_tunnel_never_built(data: Json) -> None:
    del links(data)["tunnels"]["t1"]


@mistake("shared-uplink")
def both_over_one_uplink(data: Json) -> None:
    link = links(data, lambda x: x["tunnels"]["t0"]["uplink"] != x["tunnels"]["t1"]["uplink"])
    link["tunnels"]["t1"] = link["tunnels"]["t0"] | {"instance": 2}


@mistake("shared-instance")
def both_at_one_instance(data: Json) -> None:
    links(data)["tunnels"]["t1"]["instance"] = 1


@mistake("shared-provider")
def both_of_one_provider(data: Json) -> None:
    link = links(data)
    for gateway in data["sites"][link["site"]]["gateways"].values():
        for uplink in gateway["uplinks"].values():
            uplink["provider"] = "the-same"


@mistake("address-not-public")
def the_address_behind_the_translator(data: Json) -> None:
    first(uplinks(data), lambda u: "inside" not in u)["address"] = "10.77.0.2"


@mistake("address-not-public")
def an_address_shared_by_a_provider(data: Json) -> None:
    uplinks(data)[-1]["address"] = "100.64.3.9"


@mistake("address-twice")
def one_address_at_two_sites(data: Json) -> None:
    if len(data["sites"]) < 2:
        raise No
    found = [uplink for uplink in uplinks(data) if "inside" not in uplink]
    if len(found) < len(uplinks(data)):
        raise No
    found[-1]["address"] = found[0]["address"]


@mistake("address-far-end")
def the_clouds_own_address(data: Json) -> None:
    link = links(data)
    give_addresses(cloud_of(data, link), "203.0.113.77", "203.0.113.78")
    first(gateway_of(data, link)["uplinks"].values())["address"] = "203.0.113.78"


@mistake("identity-twice")
def an_identity_copied_with_a_template(data: Json) -> None:
    found = list(data["links"].values())
    one, two = first(
        (a, b) for a in found for b in found if a["cloud"] == b["cloud"] and a["site"] != b["site"]
    )
    for link in (one, two):
        end = link["tunnels"]["t0"]
        gateway_of(data, link)["uplinks"][end["uplink"]]["identity"] = "branch.example"


@mistake("as-equal-ends")
def one_as_number_at_both_ends(data: Json) -> None:
    link = links(data, lambda x: "bgp" in x)
    cloud_of(data, link)["as"] = 64999
    for gateway in data["sites"][link["site"]]["gateways"].values():
        gateway["as"] = 64999


@mistake("space-overlap")
def the_cloud_in_the_sites_range(data: Json) -> None:
    link = links(
        data,
        lambda x: (
            not {"seen-as", "cloud-seen-as", "only"} & x.keys()
            and x["cloud"] != "hub"
            and isinstance(data["sites"][x["site"]]["networks"]["desks"], str)
        ),
    )
    address = data["sites"][link["site"]]["networks"]["desks"].split("/")[0]
    data["clouds"][link["cloud"]]["space"] = [f"{address}/18"]


@mistake("inside-reserved")
def an_inside_block_that_the_cloud_keeps(data: Json) -> None:
    links(data)["tunnels"]["t0"]["inside"] = "169.254.169.252/30"


@mistake("inside-twice")
def one_inside_block_for_two_tunnels(data: Json) -> None:
    for tunnel in links(data)["tunnels"].values():
        tunnel["inside"] = "169.254.9.0/30"


@mistake("inside-twice")
def an_inside_block_of_a_partner(data: Json) -> None:
    data["elsewhere"] = {"depot": {"prefix": "10.251.0.0/16", "owner": "a depot"}}
    links(data)["tunnels"]["t0"]["inside"] = "10.251.3.0/30"


@mistake("suite-no-match")
def a_suite_that_one_end_does_not_offer(data: Json) -> None:
    link = links(data, lambda x: "offers" not in gateway_of(data, x))
    link["suite"] = "modern"
    cloud_of(data, link)["offers"] = ["high", "wide"]


@mistake("class-unknown")
def a_class_that_there_is_not(data: Json) -> None:
    cloud_of(data, links(data))["class"] = "dinghy"


@mistake("class-short")
def a_class_that_does_less(data: Json) -> None:
    cloud_of(data, links(data))["class"] = "punt"


@mistake("gateway-subnet-large")
def sizes_of_gateway_and_workloads_exchanged(data: Json) -> None:
    name = first(data["clouds"], lambda n: "subnets" in data["clouds"][n])
    cloud = data["clouds"][name]
    cloud["space"] = ["10.210.0.0/20"]
    cloud["subnets"] = {"web": {"prefix": "10.210.8.0/27"}}
    cloud.setdefault("gateway", {})["subnet"] = "10.210.0.0/22"


@mistake("largest-above-load")
def the_largest_connection_above_all(data: Json) -> None:
    wish = first(data["expectations"], lambda e: e.get("must", "work") == "work")
    wish |= {"load": "5 Mbit/s", "largest": "20 Mbit/s"}


@mistake("static-unmonitored")
def a_cloud_that_does_not_watch_its_routes(data: Json) -> None:
    link = links(data, lambda x: x.get("routing") == "static" and x["cloud"] != "hub")
    if any(
        g.get("profile") == "policy-device"
        for s in data["sites"].values()
        for g in s["gateways"].values()
    ):
        raise No
    data["profiles"] = {"its": {"monitor": False}}
    cloud_of(data, link)["profile"] = "its"


@mistake("owner-not-asked")
def a_cloud_of_another_owner(data: Json) -> None:
    data["clouds"][links(data)["cloud"]]["owner"] = "the Bay Freight network team"


@mistake("owner-not-asked")
def a_line_of_another_owner(data: Json) -> None:
    first(data.get("circuits", {}).values())["owner"] = "Bay Freight"


@mistake("mtu-large")
def a_jumbo_frame_over_the_internet(data: Json) -> None:
    for uplink in uplinks(data):
        uplink["mtu"] = 9000


@mistake("mtu-small")
def a_narrow_line(data: Json) -> None:
    link = links(data)
    for gateway in data["sites"][link["site"]]["gateways"].values():
        for uplink in gateway["uplinks"].values():
            uplink["mtu"] = 1280


@mistake("placeholder")
def an_owner_to_be_filled_in(data: Json) -> None:
    data["elsewhere"] = {"depot": {"prefix": "10.251.0.0/16", "owner": "<name of the owner>"}}


@mistake("placeholder")
def an_identity_to_be_filled_in(data: Json) -> None:
    link = links(data, lambda x: "authentication" not in x)
    first(gateway_of(data, link)["uplinks"].values())["identity"] = "changeme.example"


def own_suite(ike: str, child: str) -> Json:
    parts = {"encryption": "AES-GCM-16-256"}
    return {
        "own": {
            "ike": parts | {"prf": "PRF-HMAC-SHA2-384", "group": "ECP-384", "lifetime": ike},
            "esp": parts | {"pfs": "ECP-384", "esn": True, "lifetime": child},
        }
    }


def with_suite(data: Json, ike: str, child: str) -> None:
    link = links(
        data,
        lambda x: (
            "offers" not in gateway_of(data, x)
            and gateway_of(data, x).get("profile") in (None, "general-host", "modern-router")
        ),
    )
    for gateway in data["sites"][link["site"]]["gateways"].values():
        gateway.pop("profile", None)
        gateway.pop("offers", None)
    data["suites"] = own_suite(ike, child)
    link["suite"] = "own"


@mistake("lifetime-order")
def lifetimes_of_ike_and_child_swapped(data: Json) -> None:
    with_suite(data, "1 h", "8 h")


@mistake("lifetime-unit")
def minutes_taken_for_seconds(data: Json) -> None:
    with_suite(data, "480 s", "60 s")


@mistake("lifetime-unit")
def seconds_taken_for_minutes(data: Json) -> None:
    with_suite(data, "1728000 s", "3600 s")


def told_by_bgp(data: Json) -> Json:
    return links(data, lambda x: "bgp" in x and "seen-as" not in x and "only" not in x)


@mistake("summary-empty")
def a_summary_that_covers_nothing(data: Json) -> None:
    told_by_bgp(data)["bgp"]["summaries"] = ["10.99.0.0/20"]


@mistake("summary-foreign")
def a_summary_over_another_site(data: Json) -> None:
    link = told_by_bgp(data)
    numbers = [int(site.removeprefix("site-")) for site in data["sites"]]
    plain = [
        n
        for n in numbers
        if isinstance(data["sites"][f"site-{n}"]["networks"]["desks"], str)
        and f"site-{n}" != link["site"]
    ]
    mine = data["sites"][link["site"]]["networks"]["desks"]
    if not plain or not isinstance(mine, str):
        raise No
    link["bgp"]["summaries"] = ["10.20.0.0/14"]


@mistake("summary-wide")
def a_summary_of_half_the_world(data: Json) -> None:
    link = told_by_bgp(data)
    if not isinstance(data["sites"][link["site"]]["networks"]["desks"], str):
        raise No
    if len(data["sites"]) > 1:
        raise No
    link["bgp"]["summaries"] = ["10.0.0.0/11"]


@mistake("default-route")
def everything_into_the_tunnel(data: Json) -> None:
    told_by_bgp(data)["bgp"]["cloud-summaries"] = ["0.0.0.0/0"]


@mistake("default-route")
def both_halves_of_everything(data: Json) -> None:
    told_by_bgp(data)["bgp"]["cloud-summaries"] = ["0.0.0.0/1", "128.0.0.0/1"]


@mistake("tunnel-in-itself")
def the_tunnels_end_in_what_it_carries(data: Json) -> None:
    link = links(data, lambda x: not {"seen-as", "only", "networks"} & x.keys())
    uplink = first(gateway_of(data, link)["uplinks"].values())
    site = data["sites"][link["site"]]
    site["networks"]["screened"] = ".".join(uplink["address"].split(".")[:3]) + ".0/24"


@mistake("expectation-unmet")
def no_rule_for_the_flow(data: Json) -> None:
    wish = first(data["expectations"], lambda e: e.get("must", "work") == "work")
    place = wish["to"].split("/")[0]
    if place not in data["clouds"]:
        raise No
    data["clouds"][place]["filters"] = [{"allow": "tcp/9999", "from": wish["from"], "to": place}]


@mistake("expectation-unmet")
def propagation_left_off(data: Json) -> None:
    subnet = first(data["clouds"].values(), lambda c: "subnets" in c)["subnets"]["web"]
    if "table" in subnet:
        raise No
    subnet["propagation"] = False


@mistake("expectation-part")
def half_a_network_linked(data: Json) -> None:
    link = links(
        data,
        lambda x: (
            not {"seen-as", "only"} & x.keys()
            and isinstance(data["sites"][x["site"]]["networks"]["desks"], str)
        ),
    )
    half = data["sites"][link["site"]]["networks"]["desks"].replace("/22", "/23")
    link["only"] = {"desks": [half]}


@mistake("expectation-part")
def a_part_that_the_subnets_table_sends_nowhere(data: Json) -> None:
    link = links(
        data,
        lambda x: (
            x["cloud"] != "hub"
            and not {"seen-as", "cloud-seen-as"} & x.keys()
            and isinstance(data["sites"][x["site"]]["networks"]["desks"], str)
        ),
    )
    cloud = data["clouds"][link["cloud"]]
    part = data["sites"][link["site"]]["networks"]["desks"].replace(".0.0/22", ".3.0/24")
    cloud["tables"] = {"t": {"routes": {part: "nowhere"}}}
    cloud["subnets"]["web"]["table"] = "t"


@mistake("expectation-part")
def a_filter_rule_for_half_of_a_network(data: Json) -> None:
    wish = first(data["expectations"], lambda e: e["from"].endswith("/desks"))
    site, cloud = wish["from"].split("/")[0], wish["to"].split("/")[0]
    desks = data["sites"][site]["networks"]["desks"]
    used = [x for x in data["links"].values() if x["site"] == site]
    if not isinstance(desks, str) or len(data["expectations"]) > 1 or "seen-as" in used[0]:
        raise No
    if data.get("stack") == "dual":
        raise No  # the other family is let through nowhere then, which is worse
    half = desks.replace("/22", "/23")
    data["clouds"][cloud]["filters"] = [{"allow": "tcp/443", "from": half, "to": wish["to"]}]


@mistake("static-unmonitored")
def static_routes_that_nobody_watches(data: Json) -> None:
    link = links(data, lambda x: x.get("routing") == "static")
    data["profiles"] = {"own": {"monitor": False, "selection": ["interface"]}}
    for gateway in data["sites"][link["site"]]["gateways"].values():
        gateway["profile"] = "own"


@mistake("circuit-alone")
def a_circuit_without_a_backup(data: Json) -> None:
    circuit = first(data.get("circuits", {}).values())
    data["links"] = {n: x for n, x in data["links"].items() if x["site"] != circuit["site"]}


@mistake("range-nobodys")
def a_network_where_no_host_can_be(data: Json) -> None:
    plain_site(data)["networks"]["desks"] = "169.254.8.0/22"


@mistake("range-public")
def a_range_just_beyond_the_private_ones(data: Json) -> None:
    plain_site(data)["networks"]["desks"] = "172.32.8.0/22"


@mistake("inside-public")
def a_block_of_somebody_inside_a_tunnel(data: Json) -> None:
    links(data)["tunnels"]["t0"]["inside"] = "9.9.9.8/30"


@mistake("inside-public")
def a_loopback_of_somebody(data: Json) -> None:
    gateway_of(data, links(data))["loopback"] = "9.9.9.9"


@mistake("ula-not-local")
def unique_local_space_that_was_not_drawn(data: Json) -> None:
    if data.get("stack") != "dual":
        raise No
    data["ula"] = "fc00:1:2::/48"


@mistake("subnet-outside")
def an_ipv6_subnet_of_another_space(data: Json) -> None:
    if data.get("stack") != "dual":
        raise No
    cloud = first(data["clouds"].values(), lambda c: c.get("subnets"))
    subnets, name = cloud["subnets"], first(cloud["subnets"])
    cloud["space6"] = "fd12:3456:789a:1000::/56"
    whole = subnets[name] if isinstance(subnets[name], dict) else {"prefix": subnets[name]}
    subnets[name] = whole | {"prefix6": "fd12:3456:789a:77::/64"}


@mistake("filter-lacks")
def a_rule_that_the_second_firewall_lacks(data: Json) -> None:
    wish = first(data["expectations"], lambda e: e.get("must", "work") == "work")
    site = data["sites"].get(wish["from"].split("/")[0])
    if len(data["expectations"]) > 1 or site is None or len(site["gateways"]) < 2:
        raise No
    rule = {"allow": wish["flow"], "from": wish["from"], "to": wish["to"]}
    one, *others = site["gateways"].values()
    one["filters"] = [rule]
    for other in others:
        other["filters"] = [rule | {"allow": "udp/9"}]


@mistake("start-blocked")
def a_translator_that_passes_nothing_to_who_waits(data: Json) -> None:
    for link in data["links"].values():
        tunnel = link["tunnels"]["t0"]
        gateways = data["sites"][link["site"]]["gateways"]
        uplink = gateways[tunnel["gateway"]]["uplinks"][tunnel["uplink"]]
        if "inside" in uplink and "forwards" not in uplink:
            tunnel["initiator"] = "cloud"
            return
    raise No


@mistake("start-blocked")
def a_spare_that_the_cloud_is_to_start(data: Json) -> None:
    link = links(data, lambda x: "initiator" not in x["tunnels"]["t1"])
    link["tunnels"]["t1"] |= {"role": "spare", "initiator": "cloud"}


@mistake("device-cannot")
def a_cloud_that_cannot_start_what_it_is_to_start(data: Json) -> None:
    link = links(data, lambda x: "initiator" in x["tunnels"]["t0"])
    data["profiles"] = {"waits": {"initiates": False}}
    cloud_of(data, link)["profile"] = "waits"


@mistake("behind-nowhere")
def an_inner_router_by_its_far_side(data: Json) -> None:
    networks = first(s["networks"] for s in data["sites"].values() if "yard" in s["networks"])
    networks["yard"]["behind"] = networks["yard"]["prefix"].replace(".0/24", ".1")


@mistake("translation-differs")
def one_network_by_two_names(data: Json) -> None:
    name = first(n for n in data["links"] if n.endswith("-too"))
    link = data["links"][name]
    if "seen-as" in link or "only" in link or isinstance(link.get("networks"), dict):
        raise No
    data["links"][name] = link | {"seen-as": {"desks": None}}


@mistake("translation-takes")
def tunnel_traffic_caught_by_source_translation(data: Json) -> None:
    site = data["sites"][first(data["links"].values())["site"]]
    site["internet"] = {"exempt": ["172.30.0.0/24"]}


@mistake("translation-spares")
def an_exemption_for_everything(data: Json) -> None:
    site = data["sites"][first(data["links"].values())["site"]]
    site["internet"] = {"exempt": "0.0.0.0/0"}


@mistake("expectation-unmet")
def a_change_that_breaks_the_internet_access(data: Json) -> None:
    link = links(data, lambda x: "bgp" in x)
    data["expectations"].append(
        {"from": f"{link['site']}/desks", "to": "internet", "flow": "udp/53"}
    )
    link["bgp"]["cloud-summaries"] = ["0.0.0.0/0"]


@mistake("default-nowhere")
def a_default_route_to_a_hub_without_a_way_out(data: Json) -> None:
    if "hub" not in data["clouds"]:
        raise No
    cloud = data["clouds"]["cloud-0"]
    cloud["tables"] = {"t": {"routes": {"0.0.0.0/0": "hub"}}}
    cloud["subnets"]["web"]["table"] = "t"


@mistake("entered-differs")
def a_suite_that_somebody_entered_instead(data: Json) -> None:
    data["suites"] = {
        "theirs": {
            "ike": {"encryption": "AES-CBC-128", "integrity": "HMAC-SHA2-512-256"}
            | {"prf": "PRF-HMAC-SHA2-512", "group": 31, "lifetime": "8 h"},
            "esp": {"encryption": "AES-CBC-128", "integrity": "HMAC-SHA2-512-256"}
            | {"pfs": 31, "lifetime": "1 h"},
        }
    }
    links(data)["entered"] = {"cloud": {"suites": ["theirs"]}}


@mistake("entered-differs")
def an_identity_that_nobody_expects(data: Json) -> None:
    links(data)["entered"] = {"site": {"identity": "192.168.1.1"}}


@mistake("entered-differs")
def a_selector_that_was_left_out(data: Json) -> None:
    link = links(data, lambda x: data["sites"][x["site"]]["gateways"])
    gateways = data["sites"][link["site"]]["gateways"].values()
    if {g.get("profile") for g in gateways} != {"policy-device"}:
        raise No
    link["entered"] = {"site": {"local": ["10.20.0.0/24"]}}


@pytest.mark.parametrize("name", MISTAKES)
def test_a_mistake_is_named_first_in_designs_of_several_shapes(name: str) -> None:
    named_first(name.partition(":")[0], MISTAKES[name])


def named_first(code: str, change: Callable[[Json], None]) -> None:
    """The finding is among the worst of those that are new, in every shape that is tried."""
    tried = 0
    for seed in range(MOST_TRIED):
        drawn = Healthy(seed)
        data = copy.deepcopy(drawn.data)
        try:
            change(data)
        except No:
            continue
        before = {(f.code, f.place) for f in findings(drawn.data)}
        if code not in TRUE_OF_DEVICES:
            assert code not in {found for found, _ in before}, (seed, before)
        new = [f for f in findings(data) if (f.code, f.place) not in before]
        assert new, (seed, drawn.shape)
        worst = [f.code for f in new if f.severity == new[0].severity]
        assert code in worst, (seed, drawn.shape, new)
        tried += 1
        if tried == SHAPES:
            return
    assert tried, "no shape has a place for it"
