"""What the hosts' own firewalls let in, network by network: obrin-hosts."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from obrin.core.address.prefix import parse_prefix
from obrin.core.json_text import Json
from obrin.core.reach.filters import ANY_PORT, Rule, beginning

MODULE = "obrin-hosts:hosts"


@dataclass(frozen=True, slots=True, kw_only=True)
class HostFirewall:
    """The firewall of hosts: without a rule they let nothing in but answers to their own flows."""

    network: str
    rules: tuple[Rule, ...]


def encode(host_firewalls: Iterable[HostFirewall]) -> Json:
    return {
        "network": [
            {"name": firewall.network, "accept": [_encode(rule) for rule in firewall.rules]}
            for firewall in host_firewalls
        ]
    }


def decode(data: Json) -> tuple[HostFirewall, ...]:
    return tuple(
        HostFirewall(
            network=entry["name"], rules=tuple(_decode(rule) for rule in entry.get("accept", ()))
        )
        for entry in data.get("network", ())
    )


def _encode(rule: Rule) -> Json:
    made: Json = {
        "name": rule.name,
        "source": str(rule.source),
        "destination": str(rule.destination),
    }
    if rule.protocol is not None:
        made["protocol"] = rule.protocol
    if rule.destination_ports != ANY_PORT:
        made["first-port"], made["last-port"] = rule.destination_ports
    return made


def _decode(entry: Json) -> Rule:
    return beginning(
        entry["name"],
        parse_prefix(entry["source"]),
        parse_prefix(entry["destination"]),
        entry.get("protocol"),
        (entry.get("first-port", 0), entry.get("last-port", ANY_PORT[1])),
    )
