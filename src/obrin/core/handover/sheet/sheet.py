"""The value sheet of one gateway: Markdown for the person who enters it, with no question open."""

from __future__ import annotations

from collections.abc import Iterator

from obrin.core.handover.configured import bgp_identifier, ends_beyond, speaker_number, speaker_of
from obrin.core.handover.ends.records import TunnelEnd, ends_at
from obrin.core.handover.sheet.awake import awake_words
from obrin.core.handover.sheet.blocks import Block, Heading, Paragraph, Table
from obrin.core.handover.sheet.entries import NOT_APPLYING
from obrin.core.handover.sheet.outside import internet_side
from obrin.core.handover.sheet.routing import routing
from obrin.core.handover.sheet.stand_ins import NOT_YET_KNOWN, marked, stand_ins
from obrin.core.handover.sheet.words import (
    bfd_words,
    identity_words,
    listed,
    method_words,
    role_words,
    seconds,
)
from obrin.core.handover.standard.basic import interface_name
from obrin.core.handover.standard.keys import BY_KEY
from obrin.core.ipsec.profile import Profile
from obrin.core.ipsec.suite import Suite
from obrin.core.reach.filters import ANY_PORT, Rule, filter_of
from obrin.core.routing.packet import ICMP, ICMPV6, TCP, UDP
from obrin.core.settled.model import Settled
from obrin.core.settled.owners import owned_at

_NAMES = {ICMP: "ICMP", ICMPV6: "ICMPv6", TCP: "TCP", UDP: "UDP"}


def value_sheet(settled: Settled, place: str) -> list[Block]:
    """The sheet of a site gateway or a cloud gateway. Secrets are named, never shown."""
    ends = ends_at(settled, place)
    kind = "Site gateway"
    if place in settled.clouds:
        kind = "Cloud gateway" if settled.legs_at(place) else "Cloud network"
    blocks = [
        Heading(1, f"{kind} {place}: value sheet"),
        Paragraph(
            f"For whoever configures **{place}** in *{settled.name}*. Enter the values in the "
            f"order given. {_final(settled)} *Local* is always this gateway, *remote* the other "
            "end."
        ),
        Paragraph(
            "Keys and certificates are not on this sheet. They are in `keys.json`, handed over "
            "apart."
        ),
        *_accepted(settled),
        *_owners(settled, place),
        Heading(2, f"1. {OWN_PART}"),
        Table(
            ("Value", "Enter"),
            (*own_values(settled, place), *_speaker_values(settled, place)),
            name="gateway",
        ),
        *_advertisements(settled, place),
        *_protection(settled, ends),
        *routing(settled, place, ends),
        *_filters(filter_of(settled, place), ends),
        *hosts_blocks(settled, place),
        *_translation(ends),
        *internet_side(settled, place, ends),
    ]
    return marked(settled, blocks)


def _final(settled: Settled) -> str:
    if not stand_ins(settled):
        return "Every value is final."
    return f"Every value is final, but for those marked *{NOT_YET_KNOWN}*: leave these out."


def _advertisements(settled: Settled, place: str) -> Iterator[Block]:
    if place in settled.gateways and 128 in settled.families:
        yield Paragraph(
            "Router advertisements (RFC 4861), by which hosts find this gateway over IPv6, are the "
            "site's own affair and not on this sheet."
        )


def _accepted(settled: Settled) -> Iterator[Block]:
    """What is known to be wrong with the whole, and may stay."""
    if settled.accepted_findings:
        yield Table(
            ("Accepted finding", "At", "Because", "By", "Until"),
            keys=2,
            name="accepted",
            entered=False,
            rows=(
                (a.finding, a.at, a.because, a.by, "" if a.until is None else a.until.isoformat())
                for a in settled.accepted_findings
            ),
        )


def _owners(settled: Settled, place: str) -> Iterator[Block]:
    """Say who else has to act, only where somebody has."""
    found = owned_at(settled, place)
    if found:
        yield Table(
            ("Belongs to another owner", "Owner", "Has to accept", "Accepted"),
            name="owners",
            entered=False,
            rows=(
                (
                    f"{o.kind} {o.name}",
                    o.owner,
                    ", ".join(o.asks),
                    "not yet" if o.accepted is None else o.accepted.isoformat(),
                )
                for o in found
            ),
        )


def _protection(settled: Settled, ends: tuple[TunnelEnd, ...]) -> Iterator[Block]:
    if ends:
        yield from _suites(ends)
        yield from _tunnels(settled, ends)
    else:
        yield Heading(2, "2. and 3. Algorithms and tunnels")
        yield Paragraph("No tunnel ends here.")


OWN_PART = "This gateway"
OWN_AS, IDENTIFIER = "BGP AS number", "BGP identifier"
ATTACHED = "Attached to hub"


def cloud_speaker_values(settled: Settled, place: str) -> Iterator[tuple[str, str]]:
    """A cloud's gateway has an AS number, or none, whatever tunnels there are."""
    if settled.clouds[place].asn is not None:
        yield OWN_AS, str(speaker_number(settled, place))
        yield IDENTIFIER, str(bgp_identifier(settled, place))


def _speaker_values(settled: Settled, place: str) -> Iterator[tuple[str, str]]:
    """A site's gateway has one where it has a session."""
    if place in settled.clouds:
        yield from cloud_speaker_values(settled, place)
    elif speaker_of(settled, place) is not None:
        yield OWN_AS, str(speaker_number(settled, place))
        yield IDENTIFIER, str(bgp_identifier(settled, place))


def own_values(settled: Settled, place: str) -> Iterator[tuple[str, str]]:
    """What a place has whatever tunnels there are, each by its name."""
    yield "Name", place
    if place in settled.clouds:
        cloud = settled.clouds[place]
        yield "Region", cloud.region or "unnamed"
        yield "Address space", listed(cloud.all_spaces)
        if cloud.gateway is not None:
            yield "Capacity class", cloud.gateway.gateway_class
            yield "Gateway subnet", str(cloud.gateway.subnet)
            for number, address in enumerate(cloud.instances, 1):
                zone = f", in zone {cloud.zones[number - 1]}" if cloud.zones else ""
                yield f"Public address of instance {number}", f"{address}{zone}"
            for number, peer in sorted(ends_beyond(settled, place)):
                yield f"Address for BGP of instance {number}", str(peer)
        for hub in settled.hubs_of(place):
            yield ATTACHED, hub
        for subnet in cloud.subnets.values():
            state = "on" if subnet.propagation else "off"
            own = "".join(f"; own route {p} to {target}" for p, target in subnet.routes)
            yield f"Subnet {subnet.name}", f"{subnet.prefix}, route propagation {state}{own}"
    else:
        gateway = settled.gateways[place]
        yield "Site", gateway.site
        if gateway.loopback is not None:
            yield "Loopback address", str(gateway.loopback)
        for uplink in gateway.uplinks.values():
            inside = f" (on the device: {uplink.own})" if uplink.translated else ""
            yield f"Uplink {uplink.name}", f"{uplink.address}{inside}"
        for name, network in gateway.networks.items():
            inner = network.behind
            own = " and ".join(prefix.address(1) for prefix in network.prefix)
            way = f"gateway address {own}"
            if any(inner):
                beside = settled.network_of_router(gateway.site, inner.first) or "no network here"
                way = f"by a static route to the inner router {inner} in {beside}"
            yield f"Network {name}", f"{network.prefix}, {way}"


def _suites(ends: tuple[TunnelEnd, ...]) -> Iterator[Block]:
    suites = {end.suite.name: end.suite for end in ends}
    yield Heading(2, "2. Algorithms and lifetimes")
    for suite in suites.values():
        yield Heading(3, f"Suite {suite.name}")
        names = ("Phase 1 (IKE)", "Phase 2 (ESP)") if suite.ike_version == 1 else _SAS
        profile = ends[0].profile
        yield Table(("Value", *names), _suite_rows(suite, profile))
        if profile.ike.lifetime.shown is False or profile.esp.lifetime.shown is False:
            yield Paragraph(
                "This device does not show the lifetimes that it takes by itself: enter both, "
                "also where a field seems to be filled."
            )
    versions = sorted({suite.ike_version for suite in suites.values()})
    yield Paragraph(
        f"IKE version {' and '.join(map(str, versions)) or 2} only. "
        "Turn off every other algorithm for these tunnels."
    )


_SAS = ("IKE SA", "Child SA (ESP)")


def _suite_rows(suite: Suite, profile: Profile) -> Iterator[tuple[str, str, str]]:
    ike, esp = suite.ike, suite.esp
    none = "none (part of the encryption)"
    yield "Encryption", ike.encryption.name, esp.encryption.name
    yield (
        "Integrity",
        ike.integrity.name if ike.integrity else none,
        esp.integrity.name if esp.integrity else none,
    )
    yield "PRF", ike.prf.name, NOT_APPLYING
    pfs = f"{esp.group.number} ({esp.group.name}), at every rekey" if esp.group else "off"
    yield "DH group (PFS)", f"{ike.group.number} ({ike.group.name})", pfs
    yield "Extended sequence numbers", NOT_APPLYING, "on" if esp.esn else "off"
    yield (
        "Lifetime",
        seconds(ike.lifetime, profile.ike.lifetime.unit),
        seconds(esp.lifetime, profile.esp.lifetime.unit),
    )
    yield "Lifetime in bytes", NOT_APPLYING, "off"
    yield "Mode", NOT_APPLYING, "tunnel"


def _tunnels(settled: Settled, ends: tuple[TunnelEnd, ...]) -> Iterator[Block]:
    yield Heading(2, "3. Tunnels")
    names = [end.tunnel for end in ends]
    rows: list[tuple[str, list[str]]] = [
        ("Order of preference", [str(end.preference) for end in ends]),
        ("Role", [role_words(end) for end in ends]),
        ("Suite", [end.suite.name for end in ends]),
        ("Initiator", ["this gateway" if e.initiator else "the remote end" for e in ends]),
        ("Local uplink", [end.uplink for end in ends]),
        ("Local address", [str(end.own_address) for end in ends]),
        ("Local identity", [identity_words(end) for end in ends]),
        ("Remote address", [str(end.remote_address) for end in ends]),
        ("Remote identity", [end.remote_identity for end in ends]),
        ("Authentication", [method_words(end) for end in ends]),
        ("Renewal of the IKE SA", [_RENEWALS[end.profile.renewal or "rekey"] for end in ends]),
        (
            "Secret: entry in keys.json",
            [e.tunnel if e.authentication == BY_KEY else "certificate" for e in ends],
        ),
        ("What leads traffic into it", [_LEADS[end.selection] for end in ends]),
        ("Local traffic selector", [listed(e.local_selectors) for e in ends]),
        ("Remote traffic selector", [listed(e.remote_selectors) for e in ends]),
        *_child_sas(ends),
        (
            "UDP encapsulation",
            ["always" if e.always_encapsulate else "when a translator is found" for e in ends],
        ),
        ("Dead-peer detection: ask after", [seconds(end.liveness.delay) for end in ends]),
        ("Dead-peer detection: first wait", [seconds(end.liveness.wait) for end in ends]),
        ("Dead-peer detection: tries", [str(end.liveness.tries) for end in ends]),
        ("BFD", [_bfd(end) for end in ends]),
        ("Kept awake by", [awake_words(settled, end) for end in ends]),
        ("Tunnel interface", [_if_any(e, interface_name(e.tunnel)) for e in ends]),
        ("Inside address", [_if_any(e, e.own_inside_words) for e in ends]),
        ("Remote inside address", [_if_any(end, str(end.remote_insides)) for end in ends]),
        ("MTU inside the tunnel", [f"{end.mtu} bytes" for end in ends]),
        ("Larger packets", [_LARGER[end.fragments] for end in ends]),
        ("Don't Fragment bit outside", ["set" for _ in ends]),
        ("Largest TCP segment (MSS), both directions", list(map(_mss_words, ends))),
    ]
    yield Table(("Value", *names), ([name, *values] for name, values in rows), column_legs=names)


_RENEWALS = {"rekey": "by rekeying", "reauthenticate": "by authenticating anew"}


def _child_sas(ends: tuple[TunnelEnd, ...]) -> Iterator[tuple[str, list[str]]]:
    """Write it only where a tunnel has several."""
    if any(end.each_pair for end in ends):
        yield "Child SAs", [_CHILD_SAS[end.each_pair] for end in ends]


_CHILD_SAS = {True: "one for each pair of these selectors", False: "one"}


def _bfd(end: TunnelEnd) -> str:
    if end.bfd is None:
        return bfd_words(end.bfd)
    where = "inside, UDP 3784"
    if end.bfd_endpoints is not None:
        where = f"multihop from {end.bfd_endpoints[0]} to {end.bfd_endpoints[1]}, UDP 4784"
    return f"{bfd_words(end.bfd)}; {where}"


_LARGER = {
    False: "refused; the sender is informed (ICMP)",
    True: "IPv4 without Don't Fragment: fragmented before encryption; others refused as usual",
}


def _mss_words(end: TunnelEnd) -> str:
    found = [(end.mss.ipv4, ""), (end.mss.ipv6, " over IPv6")]
    return ", ".join(f"{size} bytes{over}" for size, over in found if size is not None)


_LEADS = {"interface": "routes to its interface", "policy": "a policy of these selectors"}


def _if_any(end: TunnelEnd, text: str) -> str:
    """A value of a tunnel interface, where there is one."""
    return "none" if end.selection == "policy" else text


def _port_text(span: tuple[int, int]) -> str:
    if span == ANY_PORT:
        return "any"
    return str(span[0]) if span[0] == span[1] else f"{span[0]}-{span[1]}"


def rule_cells(rule: Rule) -> tuple[str, ...]:
    """A row of the filter's table."""
    name = "any" if rule.protocol is None else _NAMES.get(rule.protocol, str(rule.protocol))
    if rule.icmp_type is not None:
        name += f" type {rule.icmp_type}"
    return (
        rule.name,
        "allow",
        name,
        str(rule.source),
        _port_text(rule.source_ports),
        str(rule.destination),
        _port_text(rule.destination_ports),
    )


FILTER_HEAD = ("Rule", "Action", "Protocol", "From", "From port", "To", "To port")
LAST_RULE = ("everything-else", "drop", "any", "any", "any", "any", "any")
FILTER_PART = "Filter for what goes through the tunnels, both directions"


def _filters(rules: tuple[Rule, ...], ends: tuple[TunnelEnd, ...]) -> Iterator[Block]:
    yield Heading(2, f"5. {FILTER_PART}")
    rows = [*map(rule_cells, rules), LAST_RULE]
    yield Table(FILTER_HEAD, rows, name="filter", listed=True)
    if any(end.routing == "bgp" for end in ends):
        yield Paragraph(
            "BGP between source and peer addresses (TCP 179) belongs to the gateway itself: allow "
            "it."
        )


def hosts_blocks(settled: Settled, place: str) -> Iterator[Block]:
    """Lines for those who manage the hosts behind it."""
    here = place if place in settled.clouds else settled.gateways[place].site
    rows = []
    for name, accepts in settled.hosts_accept_at(here):
        if not accepts:
            rows.append((name.network, "nothing", "anywhere"))
        for rule in accepts:
            senders = settled.host_senders(rule, here)
            words = "anywhere" if senders is None else listed(senders)
            rows.append((name.network, str(rule.allow), words))
    if rows:
        yield Heading(3, "The hosts' own firewalls")
        yield Paragraph("They let in this, and answers to their own flows:")
        yield Table(("Network", "Allow", "From"), rows, keys=3, name="hosts", listed=True)


def _translation(ends: tuple[TunnelEnd, ...]) -> Iterator[Block]:
    """Write it only where something is translated."""
    if not any(end.translations for end in ends):
        return
    yield Heading(2, "6. One-to-one translation, both directions")
    yield Table(
        ("At", "Here it is", "The remote end knows it as", "Out: source", "In: destination"),
        keys=2,
        name="translation",
        listed=True,
        row_legs=(end.tunnel for end in ends for _ in end.translations),
        rows=(
            (
                interface_name(end.tunnel),
                str(part.real),
                str(part.seen),
                f"{part.real} to {part.seen}",
                f"{part.seen} to {part.real}",
            )
            for end in ends
            for part in end.translations
        ),
    )
    yield Paragraph(
        "The last part of each address stays. No ports change and no state is kept, so either side "
        "can begin. The filter sees addresses as this side has them."
    )
