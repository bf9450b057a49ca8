"""A pack's standard data: YANG instance data as JSON (RFC 7951) from standard modules.

Interfaces and addresses are in ietf-interfaces and ietf-ip, static routes in ietf-routing, filters
in ietf-access-control-list, translation in ietf-nat; tunnels and BGP in small modules of our own.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from obrin.core.address.prefix import format_address
from obrin.core.handover.mirror import TunnelEnd, ends_at
from obrin.core.ipsec.liveness import Bfd
from obrin.core.ipsec.suite import Suite
from obrin.core.reach.filters import ANY_PORT, Rule, filter_of
from obrin.core.routing.packet import ICMP, TCP, UDP
from obrin.core.settled.model import Settled

FILTER_NAME = "tunnel-traffic"
Json = dict[str, Any]


def interface_name(tunnel: str) -> str:
    """`link/tunnel` as an interface's name."""
    return "tunnel-" + tunnel.replace("/", "-")


def standard_data(settled: Settled, place: str) -> Json:
    """The configuration of a site gateway or of a cloud gateway, without any secret."""
    return _data(settled, place, ends_at(settled, place), filter_of(settled, place))


def parts_of_standard_data(settled: Settled, place: str, size: int) -> Iterator[Json]:
    """The same in parts of at most `size` tunnels and filter rules, each whole in itself.

    Made by the same code and sharing no names, they are valid exactly if the whole is.
    """
    ends, rules = ends_at(settled, place), filter_of(settled, place)
    for start in range(0, max(len(ends), len(rules), 1), size):
        stop = start + size
        yield _data(settled, place, ends[start:stop], rules[start:stop])


def _data(
    settled: Settled, place: str, ends: tuple[TunnelEnd, ...], rules: tuple[Rule, ...]
) -> Json:
    data: Json = {
        "ietf-interfaces:interfaces": {"interface": _interfaces(settled, place, ends)},
        "ietf-access-control-list:acls": _acls(rules, ends),
        "obrin-ipsec:ipsec": _ipsec(ends),
    }
    speakers = [end for end in ends if end.routing == "bgp"]
    if speakers:
        data["obrin-bgp:bgp"] = _bgp(settled, place, speakers)
    static = [end for end in ends if end.routing == "static"]
    if static:
        data["ietf-routing:routing"] = _static(static)
    if any(end.translations for end in ends):
        data["ietf-nat:nat"] = {"instances": {"instance": list(_translations(ends))}}
    return data


def _translations(ends: tuple[TunnelEnd, ...]) -> Iterator[Json]:
    """One instance of static mappings for each tunnel interface that translates (RFC 8512)."""
    for number, end in enumerate(ends, 1):
        if end.translations:
            yield {
                "id": number,
                "name": interface_name(end.tunnel),
                "type": "ietf-nat:basic-nat44",
                "mapping-table": {
                    "mapping-entry": [
                        {
                            "index": index,
                            "type": "static",
                            "internal-src-address": str(part.real),
                            "external-src-address": str(part.seen),
                        }
                        for index, part in enumerate(end.translations, 1)
                    ]
                },
            }


def _interfaces(settled: Settled, place: str, ends: tuple[TunnelEnd, ...]) -> list[Json]:
    found: list[Json] = []
    if place in settled.clouds:
        cloud = settled.clouds[place]
        for number, address in enumerate(cloud.instances, 1):
            found.append(_ethernet(f"instance-{number}", "uplink", address, 32))
        for subnet in cloud.subnets.values():
            found.append(
                _ethernet(subnet.name, "network", subnet.prefix.address(1), subnet.prefix.length)
            )
    else:
        gateway = settled.gateways[place]
        for uplink in gateway.uplinks.values():
            found.append(_ethernet(uplink.name, "uplink", uplink.own, 32))
        for name, prefix in gateway.networks.items():
            found.append(_ethernet(name, "network", prefix.address(1), prefix.length))
    for end in ends:
        found.append(
            {
                "name": interface_name(end.tunnel),
                "description": f"tunnel {end.tunnel}",
                "type": "iana-if-type:tunnel",
                "enabled": True,
                "ietf-ip:ipv4": {
                    "mtu": end.mtu,
                    "address": [{"ip": end.local_inside, "prefix-length": end.inside.length}],
                },
            }
        )
    return found


def _ethernet(name: str, role: str, address: str, length: int) -> Json:
    return {
        "name": name,
        "description": role,
        "type": "iana-if-type:ethernetCsmacd",
        "enabled": True,
        "ietf-ip:ipv4": {"address": [{"ip": address, "prefix-length": length}]},
    }


def _acls(rules: tuple[Rule, ...], ends: tuple[TunnelEnd, ...]) -> Json:
    aces = [_ace(rule) for rule in rules]
    aces.append({"name": "everything-else", "actions": {"forwarding": _FORWARDING + "drop"}})
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
                {"interface-id": interface_name(end.tunnel), "ingress": both, "egress": both}
                for end in ends
            ]
        },
    }


_FORWARDING = "ietf-access-control-list:"


def _ports(span: tuple[int, int]) -> Json:
    if span[0] == span[1]:
        return {"operator": "eq", "port": span[0]}
    return {"lower-port": span[0], "upper-port": span[1]}


def _ace(rule: Rule) -> Json:
    ipv4: Json = {
        "source-ipv4-network": str(rule.source),
        "destination-ipv4-network": str(rule.destination),
    }
    matches: Json = {"ipv4": ipv4}
    if rule.protocol is not None:
        ipv4["protocol"] = rule.protocol
    if rule.protocol in (TCP, UDP):
        ports: Json = {}
        if rule.source_ports != ANY_PORT:
            ports["source-port"] = _ports(rule.source_ports)
        if rule.destination_ports != ANY_PORT:
            ports["destination-port"] = _ports(rule.destination_ports)
        if ports:
            matches["tcp" if rule.protocol == TCP else "udp"] = ports
    if rule.protocol == ICMP and rule.icmp_type is not None:
        matches["icmp"] = {"type": rule.icmp_type}
    return {
        "name": rule.name,
        "matches": matches,
        "actions": {"forwarding": _FORWARDING + "accept"},
    }


def suite_data(suite: Suite) -> Json:
    ike: Json = {
        "encryption": suite.ike.encryption.name,
        "prf": suite.ike.prf.name,
        "dh-group": suite.ike.group.number,
        "lifetime": int(suite.ike.lifetime),
    }
    if suite.ike.integrity is not None:
        ike["integrity"] = suite.ike.integrity.name
    child: Json = {
        "encryption": suite.esp.encryption.name,
        "extended-sequence-numbers": suite.esp.esn,
        "lifetime": int(suite.esp.lifetime),
    }
    if suite.esp.integrity is not None:
        child["integrity"] = suite.esp.integrity.name
    if suite.esp.group is not None:
        child["pfs-dh-group"] = suite.esp.group.number
    return {"name": suite.name, "ike-sa": ike, "child-sa": child}


def _decimal(value: float) -> str:
    """RFC 7951 section 6.1: decimal64 is a string."""
    text = f"{value:.3f}".rstrip("0")
    return text + "0" if text.endswith(".") else text


def _bfd(bfd: Bfd) -> Json:
    return {"interval": _decimal(bfd.interval), "multiplier": bfd.multiplier}


def _ipsec(ends: tuple[TunnelEnd, ...]) -> Json:
    suites = {end.suite.name: end.suite for end in ends}
    return {
        "suite": [suite_data(suite) for suite in suites.values()],
        "tunnel": [
            {
                "name": end.tunnel,
                "interface": interface_name(end.tunnel),
                "uplink": end.uplink,
                "initiator": end.initiator,
                "local-address": end.own_address,
                "remote-address": end.remote_address,
                "local-identity": end.local_identity,
                "remote-identity": end.remote_identity,
                "authentication": end.authentication,
                "role": end.role,
                **({"bfd": _bfd(end.bfd)} if end.bfd else {}),
                **({"stands-in-for": list(end.stands_in_for)} if end.stands_in_for else {}),
                "selection": end.selection,
                "suite": end.suite.name,
                "ike-renewal": end.profile.renewal or "rekey",
                "local-traffic-selector": [str(p) for p in end.local_selectors],
                "remote-traffic-selector": [str(p) for p in end.remote_selectors],
                "udp-encapsulation": "always" if end.always_encapsulate else "when-translated",
                "liveness": {
                    "delay": _decimal(end.liveness.delay),
                    "first-wait": _decimal(end.liveness.wait),
                    "tries": end.liveness.tries,
                },
            }
            for end in ends
        ],
    }


def bgp_identifier(settled: Settled, place: str) -> str:
    if place in settled.clouds:
        return format_address(settled.clouds[place].router_id(1))
    return format_address(settled.gateways[place].router_id)


def _bgp(settled: Settled, place: str, ends: list[TunnelEnd]) -> Json:
    return {
        "autonomous-system": ends[0].local_as,
        "bgp-identifier": bgp_identifier(settled, place),
        "neighbor": [
            {
                "name": end.tunnel,
                "local-address": end.local_inside,
                "remote-address": end.remote_inside,
                "remote-autonomous-system": end.remote_as,
                "hold-time": end.hold,
                "passive": not end.initiator,
                "local-preference": end.local_pref,
                "announce": [str(p) for p in end.local_prefixes],
                "accept": [str(p) for p in end.remote_prefixes],
                **({"prepend": end.prepend} if end.prepend else {}),
                **({"community": list(end.communities)} if end.communities else {}),
                **({"prefix-limit": end.limit} if end.limit is not None else {}),
            }
            for end in ends
        ],
    }


def _static(ends: list[TunnelEnd]) -> Json:
    routes: list[Json] = []
    seen: set[str] = set()
    for end in sorted(ends, key=lambda e: e.rank):
        for prefix in end.remote_prefixes:
            if str(prefix) in seen:
                continue
            seen.add(str(prefix))
            others = [e for e in ends if prefix in e.remote_prefixes]
            hops = [
                {
                    "index": str(e.rank),
                    "outgoing-interface": interface_name(e.tunnel),
                    "next-hop-address": e.remote_inside,
                }
                for e in sorted(others, key=lambda e: e.rank)
            ]
            if len(hops) == 1:
                hop: Json = {k: v for k, v in hops[0].items() if k != "index"}
            else:
                hop = {
                    "next-hop-list": {
                        "next-hop": [
                            {
                                "index": h["index"],
                                "outgoing-interface": h["outgoing-interface"],
                                "next-hop-address": h["next-hop-address"],
                            }
                            for h in hops
                        ]
                    }
                }
            routes.append({"destination-prefix": str(prefix), "next-hop": hop})
    return {
        "control-plane-protocols": {
            "control-plane-protocol": [
                {
                    "type": "ietf-routing:static",
                    "name": "tunnels",
                    "static-routes": {"ietf-ipv4-unicast-routing:ipv4": {"route": routes}},
                }
            ]
        }
    }
