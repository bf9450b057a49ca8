"""Filters: ietf-access-control-list (RFC 8519). What no rule lets through is dropped."""

from __future__ import annotations

from dataclasses import dataclass

from obrin.core.address.prefix import parse_prefix
from obrin.core.handover.standard.basic import Json
from obrin.core.reach.filters import ANY_PORT, Rule
from obrin.core.routing.packet import ICMP, TCP, UDP

MODULE = "ietf-access-control-list:acls"
FILTER_NAME = "tunnel-traffic"
_ACCEPT = "ietf-access-control-list:accept"
_DROP = "ietf-access-control-list:drop"
_PORTED = {TCP: "tcp", UDP: "udp"}


@dataclass(frozen=True, slots=True, kw_only=True)
class Filter:
    """`interfaces` are those at which the rules hold, in both directions."""

    rules: tuple[Rule, ...] = ()
    interfaces: tuple[str, ...] = ()


def encode(of: Filter) -> Json:
    aces = [_encode(rule) for rule in of.rules]
    aces.append({"name": "everything-else", "actions": {"forwarding": _DROP}})
    both = {"acl-sets": {"acl-set": [{"name": FILTER_NAME}]}}
    return {
        "acl": [
            {
                "name": FILTER_NAME,
                "type": "ietf-access-control-list:ipv4-acl-type",
                "aces": {"ace": aces},
            }
        ],
        "attachment-points": {
            "interface": [
                {"interface-id": name, "ingress": both, "egress": both} for name in of.interfaces
            ]
        },
    }


def decode(data: Json) -> Filter:
    points = data.get("attachment-points", {}).get("interface", [])
    return Filter(
        rules=tuple(
            _decode(ace)
            for acl in data.get("acl", [])
            for ace in acl.get("aces", {}).get("ace", [])
            if ace["actions"]["forwarding"] == _ACCEPT
        ),
        interfaces=tuple(entry["interface-id"] for entry in points),
    )


def _encode(rule: Rule) -> Json:
    ipv4: Json = {
        "source-ipv4-network": str(rule.source),
        "destination-ipv4-network": str(rule.destination),
    }
    matches: Json = {"ipv4": ipv4}
    if rule.protocol is not None:
        ipv4["protocol"] = rule.protocol
    if rule.protocol in _PORTED:
        ports: Json = {}
        if rule.source_ports != ANY_PORT:
            ports["source-port"] = _encode_ports(rule.source_ports)
        if rule.destination_ports != ANY_PORT:
            ports["destination-port"] = _encode_ports(rule.destination_ports)
        if ports:
            matches[_PORTED[rule.protocol]] = ports
    if rule.protocol == ICMP and rule.icmp_type is not None:
        matches["icmp"] = {"type": rule.icmp_type}
    return {"name": rule.name, "matches": matches, "actions": {"forwarding": _ACCEPT}}


def _decode(ace: Json) -> Rule:
    matches = ace["matches"]
    ipv4 = matches["ipv4"]
    protocol = ipv4.get("protocol")
    ports = matches.get(_PORTED.get(protocol, ""), {})
    return Rule(
        name=ace["name"],
        source=parse_prefix(ipv4["source-ipv4-network"]),
        destination=parse_prefix(ipv4["destination-ipv4-network"]),
        protocol=protocol,
        source_ports=_decode_ports(ports.get("source-port")),
        destination_ports=_decode_ports(ports.get("destination-port")),
        icmp_type=matches.get("icmp", {}).get("type") if protocol == ICMP else None,
    )


def _encode_ports(span: tuple[int, int]) -> Json:
    if span[0] == span[1]:
        return {"operator": "eq", "port": span[0]}
    return {"lower-port": span[0], "upper-port": span[1]}


def _decode_ports(ports: Json | None) -> tuple[int, int]:
    if not ports:
        return ANY_PORT
    if "port" in ports:
        return ports["port"], ports["port"]
    return ports["lower-port"], ports["upper-port"]
