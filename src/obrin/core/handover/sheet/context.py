"""What a user's own template is given: plain texts, numbers and lists, named as on the sheet."""

from __future__ import annotations

from typing import Any

from obrin.core.handover.configured import bgp_identifier, device_config
from obrin.core.handover.ends.records import (
    CircuitEnd,
    LegEnd,
    TunnelEnd,
    circuits_at,
    ends_at,
    internal_at,
)
from obrin.core.handover.secrets import Secrets
from obrin.core.handover.standard.basic import interface_name
from obrin.core.handover.standard.device import encode
from obrin.core.handover.standard.keys import BY_KEY
from obrin.core.ipsec.liveness import Bfd
from obrin.core.ipsec.suite import Suite
from obrin.core.reach.filters import Rule, filter_of
from obrin.core.settled.model import Settled
from obrin.core.settled.shared_secrets import password_label

Context = dict[str, Any]


def template_context(settled: Settled, place: str, secrets: Secrets | None) -> Context:
    """Everything about one gateway. Secrets are there only when given, which means: asked for."""
    ends = ends_at(settled, place)
    cloud = settled.clouds.get(place)
    made: Context = {
        "design": settled.name,
        "gateway": place,
        "kind": "cloud" if cloud else "site",
        "site": None if cloud else settled.gateways[place].site,
        "region": (cloud.region or "unnamed") if cloud else None,
        "bgp": _bgp(settled, place, ends),
        "networks": _networks(settled, place),
        "inner_networks": _inner_networks(settled, place),
        "suites": [_suite(s) for s in {e.suite.name: e.suite for e in ends}.values()],
        "tunnels": [_tunnel(end, secrets) for end in ends],
        "circuits": [_circuit(end) for end in circuits_at(settled, place)],
        "internal_bgp": [
            {
                "neighbour": end.neighbour,
                "as_number": end.asn,
                "identifier": str(end.remote_identifier),
                "local_address": str(end.peers[0]),
                "remote_address": str(end.peers[1]),
            }
            for end in internal_at(settled, place)
        ],
        "filters": [_rule(rule) for rule in filter_of(settled, place)],
        "configuration": encode(device_config(settled, place)),
    }
    if secrets is not None and place in secrets.certificates:
        found = secrets.certificates[place]
        made["certificate"] = {
            "chain": found.chain,
            "private_key": found.key,
            "authorities": found.authorities,
            "revocations": found.revocations,
        }
    return made


def _bgp(settled: Settled, place: str, ends: tuple[TunnelEnd, ...]) -> Context | None:
    if not any(end.routing == "bgp" for end in ends):
        return None
    return {"as_number": ends[0].local_as, "identifier": str(bgp_identifier(settled, place))}


def _networks(settled: Settled, place: str) -> list[Context]:
    """Networks that the gateway is connected to."""
    if place in settled.clouds:
        held = {n: s.prefix for n, s in settled.clouds[place].subnets.items()}
    else:
        networks = settled.gateways[place].networks.values()
        held = {n.name: n.prefix for n in networks if not any(n.behind)}
    return [
        {"name": name, "prefix": str(prefix), "gateway_address": prefix.address(1)}
        for name, prefixes in held.items()
        for prefix in prefixes
    ]


def _inner_networks(settled: Settled, place: str) -> list[Context]:
    """Networks behind an inner router."""
    networks = {} if place in settled.clouds else settled.gateways[place].networks
    return [
        {"name": n.name, "prefix": str(n.prefix.of(router.bits)), "router": str(router)}
        for n in networks.values()
        for router in n.behind
    ]


def _suite(suite: Suite) -> Context:
    ike, esp = suite.ike, suite.esp
    return {
        "name": suite.name,
        "ike": {
            "encryption": ike.encryption.name,
            "prf": ike.prf.name,
            "integrity": ike.integrity.name if ike.integrity else None,
            "group": ike.group.number,
            "group_name": ike.group.name,
            "lifetime": int(ike.lifetime),
        },
        "esp": {
            "encryption": esp.encryption.name,
            "integrity": esp.integrity.name if esp.integrity else None,
            "pfs_group": esp.group.number if esp.group else None,
            "esn": esp.esn,
            "lifetime": int(esp.lifetime),
        },
    }


def _leg(end: LegEnd) -> Context:
    """What tunnels and circuits have alike."""
    return {
        "initiator": end.initiator,
        "preference": end.preference,
        "inside": _inside(end, 32),
        "inside6": _inside(end, 128),
        "sessions": [
            {
                "name": session.label,
                "local": str(session.peers[0]),
                "remote": str(session.peers[1]),
                "families": [f"ipv{4 if bits == 32 else 6}" for bits in session.families],
                "multihop": session.beyond,
                "host_route": None if session.host_route is None else str(session.host_route),
                "tunnels": list(session.ways),
            }
            for session in end.sessions
        ],
        "mtu": end.mtu,
        "bfd": _bfd(end.bfd),
        "routing": end.routing,
        "remote_as": end.remote_as,
        "hold_time": end.hold,
        "local_preference": end.local_pref,
        "announce": [str(p) for p in end.local_prefixes],
        "accept": [str(p) for p in end.remote_prefixes],
    }


def _inside(end: LegEnd, bits: int) -> Context | None:
    """The block of a family, where it is carried."""
    block = end.inside.of(bits)
    if block is None:
        return None
    return {
        "local": str(end.local_insides.of(bits)),
        "remote": str(end.remote_insides.of(bits)),
        "length": block.length,
        "block": str(block),
    }


def _tunnel(end: TunnelEnd, secrets: Secrets | None) -> Context:
    made = {
        "name": end.tunnel,
        **_leg(end),
        "session_signature": end.signature if end.password else None,
        "med": end.med,
        "interface": interface_name(end.tunnel),
        "uplink": end.uplink,
        "suite": end.suite.name,
        "own_address": str(end.own_address),
        "local_identity": end.local_identity,
        "remote_address": str(end.remote_address),
        "remote_identity": end.remote_identity,
        "encapsulate_always": end.always_encapsulate,
        "fragment_before_encryption": end.fragments,
        "child_sa_for_each_pair": end.each_pair,
        "mss": end.mss.ipv4,
        "mss6": end.mss.ipv6,
        "liveness": {
            "delay": end.liveness.delay,
            "wait": end.liveness.wait,
            "tries": end.liveness.tries,
        },
        "authentication": end.authentication,
        "selection": end.selection,
        "role": end.role,
        "stands_in_for": list(end.stands_in_for),
        "local_selectors": [str(p) for p in end.local_selectors],
        "remote_selectors": [str(p) for p in end.remote_selectors],
        "translations": [{"real": str(t.real), "seen": str(t.seen)} for t in end.translations],
    }
    if secrets is not None and end.authentication == BY_KEY:
        made["key"] = secrets.keys[end.tunnel]
    if secrets is not None and end.password:
        for held, session in zip(made["sessions"], end.sessions, strict=True):
            held["password"] = secrets.keys[password_label(session.label)]
    return made


def _circuit(end: CircuitEnd) -> Context:
    return {"name": end.name, "provider": end.provider, **_leg(end)}


def _bfd(bfd: Bfd | None) -> Context | None:
    return None if bfd is None else {"interval": bfd.interval, "multiplier": bfd.multiplier}


def _rule(rule: Rule) -> Context:
    return {
        "name": rule.name,
        "protocol": rule.protocol,
        "source": str(rule.source),
        "destination": str(rule.destination),
        "source_ports": list(rule.source_ports),
        "destination_ports": list(rule.destination_ports),
        "icmp_type": rule.icmp_type,
    }
