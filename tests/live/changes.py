"""Changes to a drawn design, of the kinds that people make."""

from __future__ import annotations

import copy
import random
from typing import Any

from obrin.core.catalogue.offering import PRACTICE_CLOUD
from obrin.core.settle.settle import settle
from obrin.core.settled.building import build_settled
from obrin.core.settled.model import Settled
from tests.doubles import design_of

Json = dict[str, Any]


def _link(data: Json, rng: random.Random) -> Json:
    return data["links"][rng.choice(list(data["links"]))]


def routing(data: Json, rng: random.Random) -> None:
    link = _link(data, rng)
    link["routing"] = "bgp" if link.get("routing") == "static" else "static"
    if link["routing"] == "static":
        for key in ("bgp", "bfd"):
            link.pop(key, None)
    else:
        for key in ("selection", "child-sas"):
            link.pop(key, None)


def fewer_tunnels(data: Json, rng: random.Random) -> None:
    link = _link(data, rng)
    if len(link["tunnels"]) > 1:
        link["tunnels"].pop(rng.choice(list(link["tunnels"])))


def suite(data: Json, rng: random.Random) -> None:
    _link(data, rng)["suite"] = rng.choice(["common", "high", "modern", "wide"])


def networks(data: Json, rng: random.Random) -> None:
    link = _link(data, rng)
    held = list(data["sites"][link["site"]]["networks"])
    link["networks"] = held[:1] if link.get("networks") != held[:1] else held


def another_network(data: Json, rng: random.Random) -> None:
    site = data["sites"][_link(data, rng)["site"]]
    site["networks"]["labs"] = "10.29.0.0/24" if data["stack"] != "ipv6" else "fd00:1:2:77::/64"
    if data["stack"] == "dual":
        site["networks"]["labs"] = {"prefix": "10.29.0.0/24", "prefix6": "fd00:1:2:77::/64"}
    if data["stack"] == "ipv6":
        site["networks"]["labs"] = {"prefix6": "fd00:1:2:77::/64"}


def seen_as(data: Json, rng: random.Random) -> None:
    link = _link(data, rng)
    if link.pop("seen-as", None) is None and data["stack"] != "ipv6":
        link["seen-as"] = {"desks": "10.140.0.0/22"}


def a_service(data: Json, rng: random.Random) -> None:
    link = _link(data, rng)
    flow = rng.choice(["tcp/8443", "udp/123", "tcp/22"])
    data["expectations"].append({"from": f"{link['site']}/desks", "to": "apps/store", "flow": flow})


def no_service(data: Json, rng: random.Random) -> None:
    if len(data["expectations"]) > 1:
        data["expectations"].pop(rng.randrange(len(data["expectations"])))


def subnet(data: Json, rng: random.Random) -> None:
    data["clouds"]["apps"]["subnets"]["more"] = {"hosts": 20}


def timers(data: Json, rng: random.Random) -> None:
    _link(data, rng)["liveness"] = {"delay": "5 s", "wait": "1 s", "tries": 4}


def order(data: Json, rng: random.Random) -> None:
    link = _link(data, rng)
    link["tunnels"] = dict(reversed(link["tunnels"].items()))


def site_as(data: Json, rng: random.Random) -> None:
    site = data["sites"][_link(data, rng)["site"]]
    next(iter(site["gateways"].values()))["as"] = 65_123


def no_site(data: Json, rng: random.Random) -> None:
    if len(data["sites"]) > 1:
        name = list(data["sites"])[-1]
        del data["sites"][name]
        data["links"] = {n: link for n, link in data["links"].items() if link["site"] != name}
        data["expectations"] = [
            e
            for e in data["expectations"]
            if name not in (e["from"].split("/")[0], e["to"].split("/")[0])
        ]
        for entry in data["clouds"]["apps"]["subnets"].values():
            entry.pop("hosts-accept", None)


KINDS = (
    routing, fewer_tunnels, suite, networks, another_network, seen_as, a_service, no_service,
    subnet, timers, order, site_as, no_site,
)  # fmt: skip


def mutated(data: Json, rng: random.Random) -> tuple[Json, list[str]]:
    """Another design by one to three changes, or, as often, the way back to it."""
    made, names = copy.deepcopy(data), []
    for kind in rng.sample(KINDS, rng.randint(1, 3)):
        kind(made, rng)
        names.append(kind.__name__)
    return made, names


def both_settled(before: str, after: str) -> tuple[Settled, Settled]:
    """The second keeps what was settled for the first, as a project does."""
    old, new = design_of(before), design_of(after)
    choices = settle(old, {}, PRACTICE_CLOUD)
    kept = settle(new, choices, PRACTICE_CLOUD)
    return build_settled(old, choices), build_settled(new, kept)


def loaded(data: Json) -> Json:
    """With loads, and uplinks that two of them fill."""
    for number, wish in enumerate(data["expectations"]):
        if wish.get("must", "work") == "work":
            wish["load"] = f"{10 + 7 * (number % 5)} Mbit/s"
    for site in data["sites"].values():
        for gateway in site["gateways"].values():
            for uplink in gateway["uplinks"].values():
                uplink["rate"] = "40 Mbit/s"
    return data
