"""Filters: ordered rules that let packets through, and a drop at the end.

One implementation for the checks on a design and for the practice devices. Rules know no state;
the replies of an allowed flow are allowed by a second rule with the ports the other way round.
"""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field, replace

from obrin.core.address.prefix import DEFAULT_ROUTE, DEFAULT_ROUTE6, Prefix
from obrin.core.design.places import NetworkRef
from obrin.core.design.sites import FilterRule
from obrin.core.design.values import Flow
from obrin.core.routing.packet import ECHO, ICMP, ICMPV6, PacketKey
from obrin.core.settled.model import Settled

ANY_PORT = (0, 65535)
_REPLIES = {echo.reply for echo in ECHO.values()}
_REQUESTS = {echo.request for echo in ECHO.values()}


@dataclass(frozen=True, slots=True, kw_only=True)
class Rule:
    """Lets through what matches all of it. `protocol` and `icmp_type` None are any.

    `reply` is whether it is there for the answers to another rule.
    """

    name: str
    source: Prefix
    destination: Prefix
    protocol: int | None = None
    source_ports: tuple[int, int] = ANY_PORT
    destination_ports: tuple[int, int] = ANY_PORT
    icmp_type: int | None = None
    reply: bool = field(default=False, compare=False)

    @property
    def flow(self) -> Flow:
        """The flow that it lets begin."""
        protocol = ICMP if self.protocol == ICMPV6 else self.protocol
        return Flow(protocol, *self.destination_ports)

    def matches(self, key: PacketKey) -> bool:
        if not (self.source.holds(key.source) and self.destination.holds(key.destination)):
            return False
        if self.protocol is None:
            return True
        if self.protocol != key.protocol:
            return False
        if self.protocol in (ICMP, ICMPV6):
            return self.icmp_type is None or self.icmp_type == key.icmp_type
        return (
            self.source_ports[0] <= key.source_port <= self.source_ports[1]
            and self.destination_ports[0] <= key.destination_port <= self.destination_ports[1]
        )

    def could_match(self, source: Prefix, destination: Prefix, flow: Flow) -> bool:
        """Whether some first packet of the flow between these prefixes matches.

        Reply rules are recognised by their source ports (a flow starts from any port).
        """
        if not (self.source.overlaps(source) and self.destination.overlaps(destination)):
            return False
        if self.protocol is None or flow.protocol is None:
            return self.source_ports == ANY_PORT and (
                self.icmp_type is None or self.icmp_type in _REQUESTS
            )
        if self.flow.protocol != flow.protocol:
            return False
        if flow.protocol == ICMP:
            return self.icmp_type is None or self.icmp_type in _REQUESTS
        low = max(self.destination_ports[0], flow.first_port)
        return self.source_ports == ANY_PORT and low <= min(
            self.destination_ports[1], flow.last_port
        )


_Ends = tuple[int, int]


class RuleSet:
    """Rules made ready for many packets. All of them let through, so only *whether* one matches
    counts; the first in order gives its name."""

    def __init__(self, rules: Iterable[Rule] = ()) -> None:
        self.rules = tuple(rules)
        # By family and lengths of both prefixes, then by both: few lengths, many prefixes.
        self._levels: dict[tuple[int, int, int], dict[_Ends, list[tuple[int, Rule]]]] = {}
        for order, rule in enumerate(self.rules):
            bits = rule.source.bits
            there, here = bits - rule.destination.length, bits - rule.source.length
            level = self._levels.setdefault((bits, there, here), {})
            ends = rule.destination.value >> there, rule.source.value >> here
            level.setdefault(ends, []).append((order, rule))

    def match(self, key: PacketKey) -> Rule | None:
        """The first rule that lets the packet through, or None: it is dropped."""
        found = [
            entry
            for (bits, there, here), level in self._levels.items()
            if bits == key.source.bits
            for entry in level.get((key.destination.value >> there, key.source.value >> here), ())
            if entry[1].matches(key)
        ]
        return min(found, key=lambda entry: entry[0])[1] if found else None


def rules_for(name: str, source: Prefix, destination: Prefix, flow: Flow) -> Iterator[Rule]:
    """A rule for a flow and one for its replies."""
    there = Rule(name=name, source=source, destination=destination, protocol=flow.protocol)
    back = Rule(
        name=f"{name}-replies",
        source=destination,
        destination=source,
        protocol=flow.protocol,
        reply=True,
    )
    if flow.protocol == ICMP:
        echo = ECHO[source.bits]
        yield replace(there, protocol=echo.protocol, icmp_type=echo.request)
        yield replace(back, protocol=echo.protocol, icmp_type=echo.reply)
    elif flow.protocol is None:
        yield there
        yield back
    else:
        ports = (flow.first_port, flow.last_port)
        yield replace(there, destination_ports=ports)
        yield replace(back, source_ports=ports)


def beginning(
    name: str, source: Prefix, destination: Prefix, protocol: int | None, ports: tuple[int, int]
) -> Rule:
    """A rule for flows that begin, at hosts: of ICMP, in either family, that is echo."""
    kind = None
    if protocol in (ICMP, ICMPV6):
        echo = ECHO[destination.bits]
        protocol, kind = echo.protocol, echo.request
    return Rule(
        name=name,
        source=source,
        destination=destination,
        protocol=protocol,
        destination_ports=ports,
        icmp_type=kind,
    )


def host_rules(settled: Settled, network: NetworkRef) -> tuple[Rule, ...] | None:
    """What the firewalls of a network's hosts let in; None where they have none."""
    accepts = settled.hosts_accept(network)
    if accepts is None:
        return None
    found: list[Rule] = []
    for number, given in enumerate(accepts, 1):
        senders = settled.host_senders(given, network.place)
        if senders is None:
            senders = [DEFAULT_ROUTE, DEFAULT_ROUTE6]
        flow = given.allow
        ports = (flow.first_port, flow.last_port) if flow.protocol in (6, 17) else ANY_PORT
        pairs = [
            (source, own)
            for source in senders
            for own in settled.families_at(network)
            if source.bits == own.bits
        ]
        for index, (source, own) in enumerate(pairs, 1):
            name = f"rule-{number}" if len(pairs) == 1 else f"rule-{number}-{index}"
            found.append(beginning(name, source, own, flow.protocol, ports))
    return tuple(found)


def filter_of(settled: Settled, place: str) -> tuple[Rule, ...]:
    """The rules at a site gateway or at a cloud's subnets.

    Given in the design, or else no wider than the flows that must work through that place.
    Addresses are those that the place's own hosts know: before translation on the way out, after
    it on the way in. A hub lets everything pass: its members and the sites filter. Rules of IPv4
    come first.
    """
    return named_apart(sorted(_rules_of(settled, place), key=lambda rule: rule.source.bits))


def named_apart(rules: Iterable[Rule]) -> tuple[Rule, ...]:
    """The same rules in order; of those with one name, the later ones get a number."""
    taken: set[str] = set()
    made = []
    for rule in rules:
        name, number = rule.name, 1
        while name in taken:
            number += 1
            name = f"{rule.name}-{number}"
        taken.add(name)
        made.append(rule if name == rule.name else replace(rule, name=name))
    return tuple(made)


def _rules_of(settled: Settled, place: str) -> tuple[Rule, ...]:
    if place in settled.clouds and settled.clouds[place].is_hub:
        return tuple(
            Rule(name=f"hub-passes-all{suffix}", source=every, destination=every)
            for suffix, every in (("", DEFAULT_ROUTE), ("-ipv6", DEFAULT_ROUTE6))
            if every.bits in settled.families
        )
    if place in settled.clouds:
        given, here = settled.clouds[place].filters, place
    else:
        given, here = settled.gateways[place].filters, settled.gateways[place].site
    if given is not None:
        return (*_given(settled, here, given), *_never_filtered(settled))
    rules: dict[Rule, None] = {}
    for wish in settled.expectations_at(here):
        if wish.must == "work" and wish.source.place != wish.destination.place:
            pairs = _pairs(settled, here, wish.source, wish.destination)
            stem = _called(here, wish.source, wish.destination, wish.flow)
            stem += "" if wish.bits == 32 else "-ipv6"
            for index, (source, destination) in enumerate(pairs, 1):
                name = stem if len(pairs) == 1 else f"{stem}-{index}"
                for rule in rules_for(name, source, destination, wish.flow):
                    rules[rule] = None
    return (*rules, *_never_filtered(settled))


_LONGEST = 48
"""Characters of the name of a rule before its endings: RFC 8519 allows 64 in all."""


def _called(here: str, source: object, destination: object, flow: Flow) -> str:
    """Name a rule by what it lets through, so that its name stays when others come or go."""
    ends = (str(end).removeprefix(f"{here}/") for end in (source, destination))
    words = _UNFIT.sub("-", f"{'-to-'.join(ends)}-{flow}")
    if len(words) <= _LONGEST:
        return words
    mark = hashlib.sha256(words.encode()).hexdigest()[:6]
    return f"{words[: _LONGEST - 7]}-{mark}"


_UNFIT = re.compile(r"[^\w.-]+")

_ERRORS6 = {1: "unreachable", 2: "too-big", 3: "time-exceeded", 4: "parameter-problem"}
"""ICMPv6 that no filter on a path may drop (RFC 4890 section 4.3.1): without it, connections hang.
What it lists beside them, echo, is let through where a design asks for it."""


def _never_filtered(settled: Settled) -> Iterator[Rule]:
    if 128 not in settled.families:
        return
    for kind, name in _ERRORS6.items():
        yield Rule(
            name=f"icmpv6-{name}",
            source=DEFAULT_ROUTE6,
            destination=DEFAULT_ROUTE6,
            protocol=ICMPV6,
            icmp_type=kind,
            reply=True,
        )


def _pairs(
    settled: Settled, here: str, source: NetworkRef, destination: NetworkRef
) -> list[tuple[Prefix, Prefix]]:
    """Prefixes by which the hosts of a place know both ends of a flow."""
    peer = {source.place, destination.place} - {here}
    other = next(iter(peer), here)

    def known(reference: NetworkRef) -> list[Prefix]:
        if reference.place == here:
            return [part.real for part in settled.exposures(reference, other)]
        return settled.seen_as(reference, here)

    return [(s, d) for s in known(source) for d in known(destination) if s.bits == d.bits]


def _given(settled: Settled, here: str, given: Iterable[FilterRule]) -> Iterator[Rule]:
    for rule in given:
        stem = _called(here, rule.source, rule.destination, rule.allow)
        pairs = [
            (s, d)
            for s in settled.seen_as(rule.source, here)
            for d in settled.seen_as(rule.destination, here)
            if s.bits == d.bits
        ]
        for index, (source, destination) in enumerate(pairs, 1):
            name = stem if len(pairs) == 1 else f"{stem}-{index}"
            yield from rules_for(name, source, destination, rule.allow)
