"""What a device does whose screen has these fields: the one table of which field is which value.

It is written from the words on the paper, and shares nothing with what writes them.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import replace

from obrin.core.address.prefix import Address, Prefix, parse_address, parse_prefix
from obrin.core.address.translation import Exposure
from obrin.core.handover.standard.bgp import Neighbour, Speaker
from obrin.core.handover.standard.circuits import Circuit
from obrin.core.handover.standard.device import DeviceConfig
from obrin.core.handover.standard.filters import Filter
from obrin.core.handover.standard.hosts import HostFirewall
from obrin.core.handover.standard.interfaces import Interface
from obrin.core.handover.standard.ipsec import Tunnel
from obrin.core.handover.standard.routes import Hop, StaticRoute
from obrin.core.handover.standard.translation import Translation
from obrin.core.ipsec.liveness import Liveness
from obrin.core.ipsec.suite import Suite, make_suite
from obrin.core.reach.filters import ANY_PORT, Rule, beginning
from tests.typist import bgp
from tests.typist.screen import Screen
from tests.typist.words import (
    addresses,
    bfd_of,
    count,
    first,
    interface_of,
    number,
    prefixes,
    several,
    with_lengths,
)

GATEWAY, TUNNELS, ROUTING, CIRCUITS = "This gateway", "Tunnels", "Routing", "Circuits"
PROTOCOLS = {"ICMP": 1, "TCP": 6, "UDP": 17, "ICMPv6": 58}
LONGEST_IPV6 = 1280


def configured(screen: Screen) -> DeviceConfig:
    own = screen.of(GATEWAY, "")
    tunnels = {label: screen.of(TUNNELS, label) for label in screen.columns(TUNNELS)}
    sessions = {label: screen.of(ROUTING, label) for label in screen.columns(ROUTING)}
    circuits = {name: screen.of(CIRCUITS, name) for name in screen.columns(CIRCUITS)}
    by_interface = {
        interface_of(label, row): addresses(row["Remote inside address"])
        for label, row in tunnels.items()
        if "Remote inside address" in row
    }
    names = [*(row["Interface"] for row in circuits.values())]
    names += [interface_of(label, row) for label, row in tunnels.items()]
    neighbours = [
        n for label in sessions for n in bgp.sessions(label, sessions[label], tunnels[label])
    ]
    neighbours += [n for name in circuits for n in bgp.line_session(name, circuits[name])]
    neighbours += [bgp.internal(row) for row in screen.rows.get("Neighbour", [])]
    speaker = None
    if neighbours:
        asn, identifier = int(own["BGP AS number"]), parse_address(own["BGP identifier"])
        speaker = Speaker(asn=asn, identifier=identifier, neighbours=tuple(neighbours))
    return DeviceConfig(
        interfaces=(
            *_own_interfaces(own, neighbours),
            *(_circuit_interface(name, row) for name, row in circuits.items()),
            *(_tunnel_interface(label, row) for label, row in tunnels.items()),
        ),
        filter=Filter(rules=tuple(_rules(screen)), interfaces=tuple(names)),
        tunnels=tuple(_tunnel(screen, label, row) for label, row in tunnels.items()),
        circuits=tuple(
            Circuit(
                name=name,
                interface=row["Interface"],
                remote_address=addresses(row["Address of the far end"])[0],
                bfd=bfd_of(row["BFD"]),
            )
            for name, row in circuits.items()
        ),
        speaker=speaker,
        routes=tuple(_routes(screen, own, sessions, tunnels, circuits, by_interface)),
        translations=tuple(_translations(screen)),
        host_firewalls=tuple(_host_firewalls(screen, own)),
    )


# Interfaces


def _own_interfaces(own: dict[str, str], neighbours: list[Neighbour]) -> Iterator[Interface]:
    for name, text in own.items():
        kind, _, called = name.partition(" ")
        if name.startswith("Public address of instance "):
            held = addresses(text.split(", in zone")[0])
            number_of = name.rpartition(" ")[2]
            yield Interface(name=f"instance-{number_of}", role="uplink", addresses=_single(held))
        elif name == "Loopback address":
            yield Interface(name="loopback", role="loopback", addresses=_single(addresses(text)))
        elif name.startswith("Address for BGP of instance "):
            number_of = name.rpartition(" ")[2]
            yield Interface(
                name=f"peer-{number_of}", role="loopback", addresses=_single(addresses(text))
            )
        elif kind == "Uplink":
            device = re.search(r"\(on the device: (.*)\)", text)
            held = addresses(device[1] if device else text)
            yield Interface(name=called, role="uplink", addresses=_single(held))
        elif kind == "Subnet" or (kind == "Network" and "inner router" not in text):
            spans = prefixes(text.split(", route propagation")[0].split(", gateway address")[0])
            held = [(span.address_at(1), span.length) for span in spans]
            if ", gateway address " in text:
                said = addresses(text.split(", gateway address ")[1])
                held = [(a, length) for a, (_, length) in zip(said, held, strict=True)]
            yield Interface(name=called, role="network", addresses=tuple(held))


def _single(held: list[Address]) -> tuple[tuple[Address, int], ...]:
    return tuple((address, address.bits) for address in held)


def _tunnel_interface(label: str, row: dict[str, str]) -> Interface:
    held = with_lengths(row.get("Inside address", ""))
    mtu = count(row["MTU inside the tunnel"])
    too_small = mtu < LONGEST_IPV6 and all(a.bits == 128 for a, _ in held)
    return Interface(
        name=interface_of(label, row),
        role="tunnel",
        addresses=held,
        leg=label,
        mtu=None if held and too_small else mtu,
    )


def _circuit_interface(name: str, row: dict[str, str]) -> Interface:
    return Interface(
        name=row["Interface"],
        role="circuit",
        addresses=with_lengths(row["Own address on it"]),
        leg=name,
        mtu=int(row["MTU in bytes"]),
    )


# Tunnels


def _suite(screen: Screen, label: str, name: str) -> Suite:
    held = screen.of("Suite", label)
    version = 1 if any(row.startswith("Phase 1 (IKE)") for row in held) else 2
    columns = (
        ("Phase 1 (IKE): ", "Phase 2 (ESP): ") if version == 1 else ("IKE SA: ", "Child SA (ESP): ")
    )
    ike, esp = (
        {row.removeprefix(column): text for row, text in held.items() if row.startswith(column)}
        for column in columns
    )

    def algorithm(text: str) -> str | None:
        return None if text.startswith("none") else text

    def group(text: str) -> str | None:
        found = re.search(r"\((.*?)\)", text)
        return found[1] if found else None

    return make_suite(
        name,
        encryption=ike["Encryption"],
        integrity=algorithm(ike["Integrity"]),
        prf=ike["PRF"],
        group=str(group(ike["DH group (PFS)"])),
        ike_lifetime=number(ike["Lifetime"]),
        esp_encryption=esp["Encryption"],
        esp_integrity=algorithm(esp["Integrity"]),
        pfs=group(esp["DH group (PFS)"]),
        esn=esp["Extended sequence numbers"] == "on",
        esp_lifetime=number(esp["Lifetime"]),
        ike_version=version,
    )


def _tunnel(screen: Screen, label: str, row: dict[str, str]) -> Tunnel:
    role, _, waits = row["Role"].partition(": ")
    ends = re.search(r"multihop from (\S+) to (\S+),", row["BFD"])
    elders = re.match(r"down until (.*) failed", waits)
    return Tunnel(
        name=label,
        interface=interface_of(label, row),
        uplink=row["Local uplink"],
        initiator=row["Initiator"] == "this gateway",
        local_address=parse_address(row["Local address"]),
        remote_address=parse_address(row["Remote address"]),
        local_identity=first(row["Local identity"]),
        remote_identity=row["Remote identity"],
        role=role,
        renewal={"by rekeying": "rekey", "by authenticating anew": "reauthenticate"}[
            row["Renewal of the IKE SA"]
        ],
        local_selectors=prefixes(row["Local traffic selector"]),
        remote_selectors=prefixes(row["Remote traffic selector"]),
        stands_in_for=tuple(several(elders[1])) if elders else (),
        bfd_endpoints=(parse_address(ends[1]), parse_address(ends[2])) if ends else None,
        suite=_suite(screen, label, row["Suite"]),
        authentication=row["Authentication"].replace("pre-shared ", "pre-shared-"),
        selection="policy"
        if row["What leads traffic into it"].startswith("a policy")
        else "interface",
        liveness=Liveness(
            number(row["Dead-peer detection: ask after"]),
            number(row["Dead-peer detection: first wait"]),
            int(row["Dead-peer detection: tries"]),
        ),
        always_encapsulate=row["UDP encapsulation"] == "always",
        fragments="fragmented before encryption" in row["Larger packets"],
        each_pair=row.get("Child SAs", "one") != "one",
        bfd=bfd_of(row["BFD"]),
    )


# Routes, filters, translation


def _routes(
    screen: Screen,
    own: dict[str, str],
    sessions: dict[str, dict[str, str]],
    tunnels: dict[str, dict[str, str]],
    circuits: dict[str, dict[str, str]],
    beyond: dict[str, list[Address]],
) -> Iterator[StaticRoute]:
    for name, text in own.items():
        if name.startswith("Network ") and "inner router" in text:
            spans, _, way = text.partition(", by a static route to the inner router ")
            routers, _, beside = way.partition(" in ")
            of = {router.bits: router for router in addresses(routers)}
            for span in prefixes(spans):
                if span.bits in of:
                    hop = Hop(interface=beside, address=of[span.bits])
                    called = name.removeprefix("Network ")
                    yield StaticRoute(prefix=span, hops=(hop,), network=called)
    hops: dict[Prefix, list[Hop]] = {}
    for label, row in sessions.items():
        text = row.get("Static host route to it, into the tunnel", "")
        found = re.match(r"(.*), order (\d+)$", text)
        order = int(found[2]) if found else 1
        interface = interface_of(label, tunnels[label])
        for host in prefixes(found[1] if found else text):
            hop = Hop(interface=interface, address=beyond[interface][0], order=order)
            hops.setdefault(host, []).append(hop)
    for destination, through, order_text, _ in screen.rows.get("Destination", []):
        prefix = parse_prefix(destination)
        far = {a.bits: a for a in beyond.get(through, [])}
        hop = Hop(interface=through, address=far[prefix.bits], order=int(order_text))
        hops.setdefault(prefix, []).append(hop)
    for row in circuits.values():
        if row["Routes by"] == "static":
            far = {a.bits: a for a in addresses(row["Address of the far end"])}
            for prefix in prefixes(row.get("Accept from it", "")):
                if prefix.bits in far:
                    order = int(row["Order of preference"])
                    hop = Hop(interface=row["Interface"], address=far[prefix.bits], order=order)
                    hops.setdefault(prefix, []).append(hop)
    for prefix, ways in hops.items():
        ordered = _one_after_another(sorted(ways, key=lambda hop: hop.order))
        alone = (Hop(interface=ordered[0].interface, address=ordered[0].address),)
        yield StaticRoute(prefix=prefix, hops=alone if len(ordered) == 1 else tuple(ordered))


def _one_after_another(ways: list[Hop]) -> list[Hop]:
    """Of two with one number, the first on the screen comes first."""
    made: list[Hop] = []
    for hop in ways:
        made.append(replace(hop, order=max(hop.order, made[-1].order + 1 if made else 1)))
    return made


def _rules(screen: Screen) -> Iterator[Rule]:
    for name, action, protocol, source, source_port, there, port in screen.rows.get("Rule", []):
        if action != "allow":
            continue
        word, _, kind = protocol.partition(" type ")
        yield Rule(
            name=name,
            source=parse_prefix(source),
            destination=parse_prefix(there),
            protocol=None if word == "any" else PROTOCOLS.get(word) or int(word),
            source_ports=_ports(source_port),
            destination_ports=_ports(port),
            icmp_type=int(kind) if kind else None,
        )


def _ports(text: str) -> tuple[int, int]:
    if text == "any":
        return ANY_PORT
    first, _, last = text.partition("-")
    return int(first), int(last or first)


def _host_firewalls(screen: Screen, own: dict[str, str]) -> Iterator[HostFirewall]:
    found: dict[str, list[Rule]] = {}
    for network, allow, senders in screen.rows.get("Network", []):
        if f"Network {network}" not in own:
            continue  # a cloud's own: nobody enters them at its gateway
        rules = found.setdefault(network, [])
        if allow == "nothing":
            continue
        spans = prefixes(
            re.split(", (?:gateway address|by a static)", own[f"Network {network}"])[0]
        )
        word, _, ports = allow.partition("/")
        protocol = None if word == "any" else PROTOCOLS[word.upper()]
        everywhere = ("0.0.0.0/0", "::/0") if senders == "anywhere" else several(senders)
        for sender in map(parse_prefix, everywhere):
            for span in (span for span in spans if span.bits == sender.bits):
                first_last = _ports(ports) if ports else ANY_PORT
                rules.append(beginning("", sender, span, protocol, first_last))
    for network, rules in found.items():
        yield HostFirewall(network=network, rules=tuple(rules))


def _translations(screen: Screen) -> Iterator[Translation]:
    held: dict[tuple[str, int], list[Exposure]] = {}
    for interface, real, seen, *_ in screen.rows.get("At", []):
        part = Exposure("", parse_prefix(real), parse_prefix(seen))
        held.setdefault((interface, part.real.bits), []).append(part)
    for index, ((interface, _), parts) in enumerate(held.items(), 1):
        yield Translation(number=index, interface=interface, parts=tuple(parts))
