"""Filters: ordered rules that let packets through, and a drop at the end.

One implementation for the checks on a design and for the practice devices. Rules know no state;
the replies of an allowed flow are allowed by a second rule with the ports the other way round.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import NamedTuple

from obrin.core.address.prefix import Prefix, format_address
from obrin.core.design.model import FilterRule
from obrin.core.design.settled import Settled
from obrin.core.design.values import PROTOCOLS, Flow

ICMP, TCP, UDP = PROTOCOLS["icmp"], PROTOCOLS["tcp"], PROTOCOLS["udp"]
ECHO_REQUEST, ECHO_REPLY = 8, 0
ANY_PORT = (0, 65535)


class PacketKey(NamedTuple):
    """What a filter looks at. Addresses are integers; `icmp_type` is -1 unless it is ICMP."""

    source: int
    destination: int
    protocol: int
    source_port: int = 0
    destination_port: int = 0
    icmp_type: int = -1

    def reply(self) -> PacketKey:
        """The key of the answer to this packet."""
        kind = ECHO_REPLY if self.icmp_type == ECHO_REQUEST else self.icmp_type
        return PacketKey(
            self.destination,
            self.source,
            self.protocol,
            self.destination_port,
            self.source_port,
            kind,
        )

    def __str__(self) -> str:
        name = next((n for n, p in PROTOCOLS.items() if p == self.protocol), str(self.protocol))
        ends = f"{format_address(self.source)} > {format_address(self.destination)}"
        port = f"/{self.destination_port}" if self.protocol in (TCP, UDP) else ""
        return f"{name}{port} {ends}"


@dataclass(frozen=True, slots=True)
class Rule:
    """Lets through what matches all of it. `protocol` and `icmp_type` None are any."""

    name: str
    source: Prefix
    destination: Prefix
    protocol: int | None = None
    source_ports: tuple[int, int] = ANY_PORT
    destination_ports: tuple[int, int] = ANY_PORT
    icmp_type: int | None = None

    def matches(self, key: PacketKey) -> bool:
        if not (self.source.contains(key.source) and self.destination.contains(key.destination)):
            return False
        if self.protocol is None:
            return True
        if self.protocol != key.protocol:
            return False
        if self.protocol == ICMP:
            return self.icmp_type is None or self.icmp_type == key.icmp_type
        return (
            self.source_ports[0] <= key.source_port <= self.source_ports[1]
            and self.destination_ports[0] <= key.destination_port <= self.destination_ports[1]
        )

    def could_match(self, source: Prefix, destination: Prefix, flow: Flow) -> bool:
        """Whether some first packet of the flow between these prefixes matches.

        Rules that answer others are told by their source ports (a flow starts from any port).
        """
        if not (self.source.overlaps(source) and self.destination.overlaps(destination)):
            return False
        if self.protocol is None or flow.protocol is None:
            return self.source_ports == ANY_PORT and self.icmp_type != ECHO_REPLY
        if self.protocol != flow.protocol:
            return False
        if self.protocol == ICMP:
            return self.icmp_type in (None, ECHO_REQUEST)
        low = max(self.destination_ports[0], flow.first_port)
        return self.source_ports == ANY_PORT and low <= min(
            self.destination_ports[1], flow.last_port
        )


class RuleSet:
    """Rules made ready for many packets. All of them let through, so only *whether* one matches
    counts; the first in order gives its name."""

    def __init__(self, rules: Iterable[Rule] = ()) -> None:
        self.rules = tuple(rules)
        self._by_destination: dict[int, dict[int, list[tuple[int, Rule]]]] = {}
        for order, rule in enumerate(self.rules):
            shift = rule.destination.bits - rule.destination.length
            level = self._by_destination.setdefault(shift, {})
            level.setdefault(rule.destination.value >> shift, []).append((order, rule))

    def match(self, key: PacketKey) -> Rule | None:
        """The first rule that lets the packet through, or None: it is dropped."""
        found = [
            entry
            for shift, level in self._by_destination.items()
            for entry in level.get(key.destination >> shift, ())
            if entry[1].matches(key)
        ]
        return min(found, key=lambda entry: entry[0])[1] if found else None


def rules_for(name: str, source: Prefix, destination: Prefix, flow: Flow) -> Iterator[Rule]:
    """A rule for a flow and one for its replies."""
    if flow.protocol is None:
        yield Rule(name, source, destination)
        yield Rule(f"{name}-replies", destination, source)
    elif flow.protocol == ICMP:
        yield Rule(name, source, destination, ICMP, icmp_type=ECHO_REQUEST)
        yield Rule(f"{name}-replies", destination, source, ICMP, icmp_type=ECHO_REPLY)
    else:
        ports = (flow.first_port, flow.last_port)
        yield Rule(name, source, destination, flow.protocol, destination_ports=ports)
        yield Rule(f"{name}-replies", destination, source, flow.protocol, source_ports=ports)


def filter_of(settled: Settled, place: str) -> tuple[Rule, ...]:
    """The rules at a site gateway or at a cloud's subnets.

    Given in the design, or else no wider than the flows that must work through that place.
    Addresses are those that the place's own hosts know: before translation on the way out, after
    it on the way in.
    """
    if place in settled.clouds:
        given, here = settled.clouds[place].filters, place
    else:
        given, here = settled.gateways[place].filters, settled.gateways[place].site
    if given is not None:
        return tuple(_given(settled, here, given))
    rules: dict[Rule, None] = {}
    for number, expectation in settled.expectations_at(here):
        ends = (expectation.source.partition("/")[0], expectation.destination.partition("/")[0])
        if expectation.must == "work" and ends[0] != ends[1]:
            pairs = _pairs(settled, here, expectation.source, expectation.destination)
            for index, (source, destination) in enumerate(pairs, 1):
                name = f"flow-{number}" if len(pairs) == 1 else f"flow-{number}-{index}"
                for rule in rules_for(name, source, destination, expectation.flow):
                    rules[rule] = None
    return tuple(rules)


def _pairs(
    settled: Settled, here: str, source: str, destination: str
) -> list[tuple[Prefix, Prefix]]:
    """Both ends of a flow by the prefixes that the hosts of a place know."""
    peer = {r.partition("/")[0] for r in (source, destination)} - {here}
    other = next(iter(peer), here)

    def known(reference: str) -> list[Prefix]:
        if "/" in reference and reference.partition("/")[0] == here:
            return [part.real for part in settled.exposures(reference, other)]
        return settled.seen_as(reference, here)

    return [(s, d) for s in known(source) for d in known(destination)]


def _given(settled: Settled, here: str, given: Iterable[FilterRule]) -> Iterator[Rule]:
    for number, rule in enumerate(given, 1):
        pairs = [
            (s, d)
            for s in settled.seen_as(rule.source, here)
            for d in settled.seen_as(rule.destination, here)
        ]
        for index, (source, destination) in enumerate(pairs, 1):
            name = f"rule-{number}" if len(pairs) == 1 else f"rule-{number}-{index}"
            yield from rules_for(name, source, destination, rule.allow)
