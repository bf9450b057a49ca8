"""A practice gateway's configuration, read from its pack's standard data and nothing else."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from obrin.core.address.prefix import Prefix, host_prefix, parse_ipv4, parse_prefix
from obrin.core.address.translation import Exposure
from obrin.core.ipsec.liveness import Liveness
from obrin.core.ipsec.registry import ALGORITHMS, Kind
from obrin.core.ipsec.selectors import Selector
from obrin.core.ipsec.suite import Suite, make_suite
from obrin.core.reach.filters import ANY_PORT, ICMP, TCP, UDP, Rule
from obrin.core.routing.policy import SessionPolicy
from obrin.live.practice.node_config import NodeConfig, NodeNeighbour, NodeTunnel
from obrin.wire.bgp.session import SessionConfig
from obrin.wire.ike.config import Identity, PeerConfig

Json = dict[str, Any]


def node_config(config: Json, keys: Json) -> NodeConfig:
    """`config` and `keys` are validated instance data. Raises KeyError for a missing key."""
    interfaces = {
        entry["name"]: entry
        for entry in config.get("ietf-interfaces:interfaces", {}).get("interface", [])
    }
    secrets = {
        entry["tunnel"]: entry["secret"]
        for entry in keys.get("obrin-keys:keys", {}).get("pre-shared-key", [])
    }
    ipsec = config.get("obrin-ipsec:ipsec", {})
    suites = {entry["name"]: suite_from(entry) for entry in ipsec.get("suite", [])}
    bgp = config.get("obrin-bgp:bgp")
    translations = _translations(config)
    tunnels = {
        entry["name"]: replace(
            _tunnel(entry, interfaces, suites, secrets),
            translations=translations.get(entry["interface"], ()),
        )
        for entry in ipsec.get("tunnel", [])
    }
    by_interface = {entry["interface"]: entry["name"] for entry in ipsec.get("tunnel", [])}
    return NodeConfig(
        tunnels,
        _networks(interfaces),
        _neighbours(bgp) if bgp else {},
        tuple(_static(config, by_interface)),
        _rules(config),
    )


def uplinks(config: Json) -> dict[str, str]:
    """Uplink name to the address on the device."""
    found = {}
    for entry in config.get("ietf-interfaces:interfaces", {}).get("interface", []):
        if entry.get("description") == "uplink":
            found[entry["name"]] = entry["ietf-ip:ipv4"]["address"][0]["ip"]
    return found


def _networks(interfaces: dict[str, Json]) -> dict[str, Prefix]:
    found = {}
    for name, entry in interfaces.items():
        if entry.get("description") == "network":
            address = entry["ietf-ip:ipv4"]["address"][0]
            found[name] = _around(address["ip"], address["prefix-length"])
    return found


def _around(address: str, length: int) -> Prefix:
    return host_prefix(address).widened(length)


def _group_name(number: int) -> str:
    return next(a.name for a in ALGORITHMS if a.kind is Kind.GROUP and a.number == number)


def suite_from(entry: Json) -> Suite:
    """The inverse of `standard_data.suite_data`."""
    ike, child = entry["ike-sa"], entry["child-sa"]
    pfs = child.get("pfs-dh-group")
    return make_suite(
        entry["name"],
        encryption=ike["encryption"],
        integrity=ike.get("integrity"),
        prf=ike["prf"],
        group=_group_name(ike["dh-group"]),
        ike_lifetime=float(ike["lifetime"]),
        esp_encryption=child["encryption"],
        esp_integrity=child.get("integrity"),
        pfs=None if pfs is None else _group_name(pfs),
        esn=child["extended-sequence-numbers"],
        esp_lifetime=float(child["lifetime"]),
    )


def _tunnel(
    entry: Json,
    interfaces: dict[str, Json],
    suites: dict[str, Suite],
    secrets: dict[str, str],
) -> NodeTunnel:
    address = interfaces[entry["interface"]]["ietf-ip:ipv4"]["address"][0]
    inside = _around(address["ip"], address["prefix-length"])
    local = parse_ipv4(address["ip"])
    low = inside.value + (0 if inside.length == 31 else 1)
    live = entry["liveness"]
    peer = PeerConfig(
        entry["name"],
        entry["initiator"],
        entry["local-address"],
        entry["remote-address"],
        Identity.of(entry["local-identity"]),
        Identity.of(entry["remote-identity"]),
        (suites[entry["suite"]],),
        secrets[entry["name"]].encode(),
        Liveness(float(live["delay"]), float(live["first-wait"]), int(live["tries"])),
        tuple(Selector.of(parse_prefix(t)) for t in entry["local-traffic-selector"]),
        tuple(Selector.of(parse_prefix(t)) for t in entry["remote-traffic-selector"]),
        entry["udp-encapsulation"] == "always",
    )
    return NodeTunnel(peer, inside, local, low + 1 if local == low else low)


def _translations(config: Json) -> dict[str, tuple[Exposure, ...]]:
    """Static one-to-one mappings by the interface that their instance is named after."""
    instances = config.get("ietf-nat:nat", {}).get("instances", {}).get("instance", [])
    return {
        entry["name"]: tuple(
            Exposure(
                "",
                parse_prefix(mapping["internal-src-address"]),
                parse_prefix(mapping["external-src-address"]),
            )
            for mapping in entry.get("mapping-table", {}).get("mapping-entry", [])
        )
        for entry in instances
    }


def _neighbours(bgp: Json) -> dict[str, NodeNeighbour]:
    local_as, router_id = bgp["autonomous-system"], parse_ipv4(bgp["bgp-identifier"])
    return {
        entry["name"]: NodeNeighbour(
            SessionConfig(
                entry["name"],
                local_as,
                entry["remote-autonomous-system"],
                router_id,
                parse_ipv4(entry["local-address"]),
                parse_ipv4(entry["remote-address"]),
                entry["hold-time"],
                entry["passive"],
            ),
            SessionPolicy(
                local_as,
                entry["remote-autonomous-system"],
                tuple(parse_prefix(t) for t in entry.get("accept", [])),
                entry["local-preference"],
            ),
            tuple(parse_prefix(t) for t in entry.get("announce", [])),
        )
        for entry in bgp.get("neighbor", [])
    }


def _static(config: Json, by_interface: dict[str, str]) -> list[tuple[Prefix, str, int]]:
    found = []
    protocols = (
        config.get("ietf-routing:routing", {})
        .get("control-plane-protocols", {})
        .get("control-plane-protocol", [])
    )
    for protocol in protocols:
        routes = protocol.get("static-routes", {}).get("ietf-ipv4-unicast-routing:ipv4", {})
        for route in routes.get("route", []):
            prefix, hop = parse_prefix(route["destination-prefix"]), route["next-hop"]
            hops = hop.get("next-hop-list", {}).get("next-hop", [{**hop, "index": "1"}])
            for one in hops:
                name = by_interface.get(one.get("outgoing-interface", ""))
                if name is not None:
                    found.append((prefix, name, int(one["index"])))
    return found


def _rules(config: Json) -> tuple[Rule, ...]:
    rules = []
    for acl in config.get("ietf-access-control-list:acls", {}).get("acl", []):
        for ace in acl.get("aces", {}).get("ace", []):
            if ace["actions"]["forwarding"].endswith("accept"):
                rules.append(_rule(ace))
    return tuple(rules)


def _span(ports: Json | None) -> tuple[int, int]:
    if not ports:
        return ANY_PORT
    if "port" in ports:
        return ports["port"], ports["port"]
    return ports["lower-port"], ports["upper-port"]


def _rule(ace: Json) -> Rule:
    matches = ace["matches"]
    ipv4 = matches["ipv4"]
    protocol = ipv4.get("protocol")
    ports = matches.get({TCP: "tcp", UDP: "udp"}.get(protocol, ""), {})
    return Rule(
        ace["name"],
        parse_prefix(ipv4["source-ipv4-network"]),
        parse_prefix(ipv4["destination-ipv4-network"]),
        protocol,
        _span(ports.get("source-port")),
        _span(ports.get("destination-port")),
        matches.get("icmp", {}).get("type") if protocol == ICMP else None,
    )
