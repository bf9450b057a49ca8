"""A practice gateway's configuration, read from its pack's standard data and nothing else."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from typing import Any

from obrin.core.address.prefix import Prefix, host_prefix, parse_ipv4, parse_prefix
from obrin.core.address.translation import Exposure
from obrin.core.ipsec.liveness import Liveness
from obrin.core.ipsec.registry import ALGORITHMS, Kind
from obrin.core.ipsec.selectors import Selector
from obrin.core.ipsec.suite import Suite, make_suite
from obrin.core.reach.filters import ANY_PORT, Rule
from obrin.core.routing.packet import ICMP, TCP, UDP
from obrin.core.routing.policy import WELL_KNOWN, PrefixList, SessionPolicy
from obrin.live.practice.credentials import Wall, credential_from, wall_clock
from obrin.live.practice.node_config import NodeConfig, NodeNeighbour, NodeTunnel
from obrin.wire.bgp.session import SessionConfig
from obrin.wire.ike.config import Identity, PeerConfig
from obrin.wire.ike.credentials import Credential

Json = dict[str, Any]


def node_config(config: Json, keys: Json, wall: Wall = wall_clock) -> NodeConfig:
    """`config` and `keys` are validated instance data. Raises KeyError for a missing key.

    `wall` turns the node's time into UTC, for certificates. Raises PkiError for bad ones.
    """
    interfaces = {
        entry["name"]: entry
        for entry in config.get("ietf-interfaces:interfaces", {}).get("interface", [])
    }
    secrets = {
        entry["tunnel"]: entry["secret"]
        for entry in keys.get("obrin-keys:keys", {}).get("pre-shared-key", [])
    }
    certificate = keys.get("obrin-keys:keys", {}).get("certificate")
    credential = None if certificate is None else credential_from(certificate, wall)
    ipsec = config.get("obrin-ipsec:ipsec", {})
    suites = {entry["name"]: suite_from(entry) for entry in ipsec.get("suite", [])}
    bgp = config.get("obrin-bgp:bgp")
    translations = _translations(config)
    tunnels = {
        entry["name"]: replace(
            _tunnel(entry, interfaces, suites, secrets, credential),
            translations=translations.get(entry["interface"], ()),
        )
        for entry in ipsec.get("tunnel", [])
    }
    by_interface = {entry["interface"]: entry["name"] for entry in ipsec.get("tunnel", [])}
    return NodeConfig(
        tunnels,
        _networks(interfaces),
        _neighbours(bgp) if bgp else {},
        tuple(_alike(_static(config, by_interface), tunnels)),
        _rules(config),
    )


def complete(config: Json, keys: Json) -> bool:
    """Whether every tunnel has its secret already; they come after the configuration."""
    secrets = keys.get("obrin-keys:keys", {})
    have = {entry["tunnel"] for entry in secrets.get("pre-shared-key", [])}
    return all(
        entry["name"] in have or (
            entry["authentication"] == "certificate" and "certificate" in secrets
        )
        for entry in config.get("obrin-ipsec:ipsec", {}).get("tunnel", [])
    )  # fmt: skip


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
    credential: Credential | None,
) -> NodeTunnel:
    address = interfaces[entry["interface"]]["ietf-ip:ipv4"]["address"][0]
    inside = _around(address["ip"], address["prefix-length"])
    local = parse_ipv4(address["ip"])
    low = inside.value + (0 if inside.length == 31 else 1)
    live = entry["liveness"]
    by_key = entry["authentication"] == "pre-shared-key"
    if not by_key and credential is None:
        raise KeyError(f"a certificate for {entry['name']}")
    elders = tuple(entry.get("stands-in-for", ()))
    peer = PeerConfig(
        entry["name"],
        entry["initiator"] and not elders,
        entry["local-address"],
        entry["remote-address"],
        Identity.of(entry["local-identity"]),
        Identity.of(entry["remote-identity"]),
        (suites[entry["suite"]],),
        key=secrets[entry["name"]].encode() if by_key else b"",
        credential=None if by_key else credential,
        liveness=Liveness(float(live["delay"]), float(live["first-wait"]), int(live["tries"])),
        local_selectors=_selectors(entry["local-traffic-selector"]),
        remote_selectors=_selectors(entry["remote-traffic-selector"]),
        always_encapsulate=entry["udp-encapsulation"] == "always",
        reauthenticate=entry["ike-renewal"] == "reauthenticate",
    )
    # The one who starts minds when; the other waits to be called, as always.
    waits = elders if entry["initiator"] else ()
    remote = low + 1 if local == low else low
    bfd = entry.get("bfd")
    watched = None if bfd is None else (float(bfd["interval"]), int(bfd["multiplier"]))
    shared = entry["role"] == "shared"
    return NodeTunnel(peer, inside, local, remote, stands_in_for=waits, bfd=watched, shared=shared)


def _selectors(texts: list[str]) -> tuple[Selector, ...]:
    return tuple(Selector.of(parse_prefix(text)) for text in texts)


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
                PrefixList(parse_prefix(t) for t in entry.get("accept", [])),
                entry["local-preference"],
                prepend=entry.get("prepend", 0),
                communities=tuple(WELL_KNOWN[name] for name in entry.get("community", [])),
                limit=entry.get("prefix-limit"),
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


def _alike(
    routes: list[tuple[Prefix, str, int]], tunnels: dict[str, NodeTunnel]
) -> Iterator[tuple[Prefix, str, int]]:
    """Shared next hops of a prefix get the metric of the first of them."""
    for prefix, name, metric in routes:
        if tunnels[name].shared:
            metric = min(m for p, n, m in routes if p == prefix and tunnels[n].shared)
        yield prefix, name, metric


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
