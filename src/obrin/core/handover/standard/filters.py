"""Filters: ietf-access-control-list (RFC 8519). What no rule lets through is dropped."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

from obrin.core.address.prefix import parse_prefix
from obrin.core.json_text import Json
from obrin.core.reach.filters import ANY_PORT, Rule
from obrin.core.routing.packet import ICMP, ICMPV6, TCP, UDP

MODULE = "ietf-access-control-list:acls"
_ACCEPT = "ietf-access-control-list:accept"
_DROP = "ietf-access-control-list:drop"


class _Family(NamedTuple):
    """Names of lists and of leaves."""

    bits: int
    name: str
    acl: str


_FAMILIES = (_Family(32, "ipv4", "tunnel-traffic"), _Family(128, "ipv6", "tunnel-traffic-6"))
_PORTED = {TCP: "tcp", UDP: "udp"}


@dataclass(frozen=True, slots=True, kw_only=True)
class Filter:
    """`interfaces` are those at which the rules hold, in both directions."""

    rules: tuple[Rule, ...] = ()
    interfaces: tuple[str, ...] = ()


def encode(of: Filter) -> Json:
    held = [family for family in _FAMILIES if any(r.source.bits == family.bits for r in of.rules)]
    held = held or [_FAMILIES[0]]
    both = {"acl-sets": {"acl-set": [{"name": family.acl} for family in held]}}
    return {
        "acl": [_encode_list(family, of) for family in held],
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


def _encode_list(family: _Family, of: Filter) -> Json:
    aces = [_encode(rule, family.name) for rule in of.rules if rule.source.bits == family.bits]
    aces.append({"name": "everything-else", "actions": {"forwarding": _DROP}})
    kind = f"ietf-access-control-list:{family.name}-acl-type"
    return {"name": family.acl, "type": kind, "aces": {"ace": aces}}


def _encode(rule: Rule, family: str) -> Json:
    ip: Json = {
        f"source-{family}-network": str(rule.source),
        f"destination-{family}-network": str(rule.destination),
    }
    matches: Json = {family: ip}
    if rule.protocol is not None:
        ip["protocol"] = rule.protocol
    if rule.protocol in _PORTED:
        ports: Json = {}
        if rule.source_ports != ANY_PORT:
            ports["source-port"] = _encode_ports(rule.source_ports)
        if rule.destination_ports != ANY_PORT:
            ports["destination-port"] = _encode_ports(rule.destination_ports)
        if ports:
            matches[_PORTED[rule.protocol]] = ports
    if rule.protocol in (ICMP, ICMPV6) and rule.icmp_type is not None:
        matches["icmp"] = {"type": rule.icmp_type}
    return {"name": rule.name, "matches": matches, "actions": {"forwarding": _ACCEPT}}


def _decode(ace: Json) -> Rule:
    matches = ace["matches"]
    family = next(family.name for family in _FAMILIES if family.name in matches)
    ip = matches[family]
    protocol = ip.get("protocol")
    ports = matches.get(_PORTED.get(protocol, ""), {})
    return Rule(
        name=ace["name"],
        source=parse_prefix(ip[f"source-{family}-network"]),
        destination=parse_prefix(ip[f"destination-{family}-network"]),
        protocol=protocol,
        source_ports=_decode_ports(ports.get("source-port")),
        destination_ports=_decode_ports(ports.get("destination-port")),
        icmp_type=matches.get("icmp", {}).get("type") if protocol in (ICMP, ICMPV6) else None,
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
