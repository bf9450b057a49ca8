"""Names in hubs, circuits, route tables and preferences that must mean something."""

from __future__ import annotations

from collections.abc import Iterator

from obrin.core.address.prefix import parse_address
from obrin.core.design.joining import GATEWAY, NOWHERE, Circuit
from obrin.core.design.mistakes import Mistake, unknown
from obrin.core.design.model import Cloud, Design
from obrin.core.design.reader import Location
from obrin.core.quantity import plain


def joining_problems(design: Design) -> Iterator[Mistake]:
    """Every name that means nothing, with its place."""
    for name, cloud in design.clouds.items():
        yield from _zones(name, cloud)
        yield from _gateway(name, cloud)
        yield from _subnets(design, name, cloud)
        if cloud.hub is not None:
            yield from _hub(design, name, cloud)
    for name, circuit in design.circuits.items():
        yield from _circuit(design, name, circuit)
    ways = ways_of_sites(design)
    for name, site in design.sites.items():
        mine = ways[name]
        for index, way in enumerate(site.prefer):
            if way not in mine:
                kind = f"link or circuit of {name}"
                yield unknown(kind, way, mine, ("sites", name, "prefer", index))


def ways_of_sites(design: Design) -> dict[str, list[str]]:
    """The circuits and links of each site, in the order in which blanks prefer them."""
    ways: dict[str, list[str]] = {site: [] for site in design.sites}
    for found in (design.circuits, design.links):
        for name, way in found.items():
            ways.setdefault(way.site, []).append(name)
    return ways


def joined_to(design: Design, hub: str) -> list[str]:
    """Members, links and circuits of a hub."""
    entry = design.clouds[hub].hub
    members = [] if entry is None else entry.members
    circuits = [n for n, c in design.circuits.items() if c.cloud == hub]
    return [*members, *circuits, *(n for n, link in design.links.items() if link.cloud == hub)]


def _zones(name: str, cloud: Cloud) -> Iterator[Mistake]:
    zones, count = cloud.gateway.zones, cloud.gateway.instances
    if zones is not None and len(zones) != count:
        yield Mistake(
            ("clouds", name, "gateway", "zones"),
            f"{len(zones)} zones for {count} instances",
            "Give the zone of each instance",
        )


def _gateway(name: str, cloud: Cloud) -> Iterator[Mistake]:
    """Check that there are as many addresses as instances; and what the cloud assigns is not
    given to it."""
    own, here = cloud.gateway, ("clouds", name, "gateway")
    given = {"addresses": own.addresses, "addresses6": own.addresses6, "peers": own.peers}
    for key, addresses in given.items():
        if addresses is not None and len(addresses) != own.instances:
            yield Mistake(
                (*here, key),
                f"{len(addresses)} addresses for {own.instances} instances",
                "Give one address for each instance, or leave it blank",
            )
        if addresses is not None and key.removesuffix("6") in own.assigns:
            yield Mistake(
                (*here, key),
                f"'{key}' stands here, and by 'assigns' the cloud chooses them itself",
                f"Take one of the two out: '{key}' where you know them",
            )
    if own.peers is not None and own.subnet is not None:
        out = [text for text in own.peers if not own.subnet.holds(parse_address(text))]
        if out:
            yield Mistake(
                (*here, "peers"),
                f"{out[0]} does not lie in the gateway subnet {own.subnet}",
                "Give the addresses that the instances have in it",
            )


def _subnets(design: Design, name: str, cloud: Cloud) -> Iterator[Mistake]:
    here: Location = ("clouds", name)
    if cloud.hub is None and not cloud.subnets:
        yield Mistake((*here, "subnets"), f"cloud {name} has no subnets", "Give it at least one")
    if cloud.hub is not None and cloud.subnets:
        fix = "Put them into a cloud network and make that a member"
        yield Mistake((*here, "subnets"), f"{name} is a hub and has subnets of its own", fix)
    for subnet, entity in cloud.subnets.items():
        if entity.table is not None and entity.table not in cloud.tables:
            place = (*here, "subnets", subnet, "table")
            yield unknown(f"route table of {name}", entity.table, cloud.tables, place)
    hubs = [n for n, c in design.clouds.items() if c.hub is not None and name in c.hub.members]
    for table, entry in cloud.tables.items():
        for prefix, target in entry.routes.items():
            known = [GATEWAY, NOWHERE, *hubs]
            if target not in known:
                place = (*here, "tables", table, "routes", str(prefix))
                yield unknown("target of a route", target, known, place)


def _hub(design: Design, name: str, cloud: Cloud) -> Iterator[Mistake]:
    hub, here = cloud.hub, ("clouds", name, "hub")
    if hub is None:
        return
    networks = [n for n, c in design.clouds.items() if c.hub is None]
    for index, member in enumerate(hub.members):
        if member not in networks:
            yield unknown("cloud network", member, networks, (*here, "members", index))
    joined = dict.fromkeys(joined_to(design, name))
    owner: dict[str, str] = {}
    for table, entry in hub.tables.items():
        for key, names in (("for", entry.of), ("learns", entry.learns or ())):
            for index, one in enumerate(names):
                if one not in joined:
                    kind = f"member, link or circuit of {name}"
                    yield unknown(kind, one, joined, (*here, "tables", table, key, index))
        for index, one in enumerate(entry.of):
            if owner.setdefault(one, table) != table:
                yield Mistake(
                    (*here, "tables", table, "for", index),
                    f"{one} has two route tables, {owner[one]} and {table}",
                    "Name it in one of them",
                )
    if hub.tables:
        for one in joined:
            if one not in owner:
                fix = "Name it under 'for' of one"
                yield Mistake((*here, "tables"), f"{one} has no route table at {name}", fix)
    for link_name, link in design.links.items():
        if link.cloud == name and link.translates_cloud:
            yield Mistake(
                ("links", link_name, "cloud-seen-as"),
                f"{name} is a hub, and hubs do not translate their members",
                "Translate at a link to the cloud network itself",
            )


def _circuit(design: Design, name: str, circuit: Circuit) -> Iterator[Mistake]:
    here: Location = ("circuits", name)
    if name in design.links:
        yield Mistake(here, f"'{name}' is a link and a circuit", "Rename one of them")
    if circuit.cloud not in design.clouds:
        yield unknown("cloud", circuit.cloud, design.clouds, (*here, "cloud"))
    site = design.sites.get(circuit.site)
    if site is None:
        yield unknown("site", circuit.site, design.sites, (*here, "site"))
        return
    if circuit.gateway not in site.gateways:
        kind = f"gateway of {circuit.site}"
        yield unknown(kind, circuit.gateway, site.gateways, (*here, "gateway"))
    for index, network in enumerate(circuit.networks or ()):
        if network not in site.networks:
            kind = f"network of {circuit.site}"
            yield unknown(kind, network, site.networks, (*here, "networks", index))
    if circuit.routing == "bgp" and not (
        circuit.hold_time >= 3 and circuit.hold_time == int(circuit.hold_time)
    ):
        yield Mistake(
            (*here, "hold-time"),
            f"a BGP hold time of {plain(circuit.hold_time)} s is not allowed",
            "Use whole seconds, at least 3 s (RFC 4271)",
        )
