"""What the people around a site's gateways have to know, and what changes for them: names, the
directory, DHCP, monitoring, time. One sheet for a site, with nothing that is configured at a
gateway."""

from __future__ import annotations

from collections.abc import Iterator

from obrin.core.address.prefix import Prefix
from obrin.core.address.translation import Exposure
from obrin.core.handover.ends.records import circuits_at, ends_at
from obrin.core.handover.sheet.blocks import Block, Heading, Paragraph, Table
from obrin.core.routing.packet import TCP, UDP
from obrin.core.settled.expected import Expected
from obrin.core.settled.model import Settled

_PORTS = {
    "Names (DNS)": (53,),
    "Directory (Kerberos, LDAP)": (88, 389, 464, 636),
    "DHCP relay": (67, 547),
    "Time (NTP)": (123,),
    "Monitoring (SNMP, traps, syslog)": (161, 162, 514, 6514),
}
"""Ports as registered with IANA."""
MOST_ZONES = 16
"""Reverse zones of one prefix that are listed one by one."""


def services_sheet(settled: Settled, site: str) -> list[Block]:
    """Build the services sheet of a site with a link or circuit. Its values have names of their
    own, like those of a value sheet, so that two sheets can be compared."""
    beyond = list(dict.fromkeys(_beyond(settled, site)))
    return [
        Heading(1, f"{site}: for the people around"),
        Paragraph(
            f"For whoever looks after names, directory, DHCP, monitoring and time at **{site}** in "
            f"*{settled.name}*. Nothing here is entered at a gateway."
        ),
        Heading(2, "What changes"),
        *_changes(settled, site, beyond),
        Heading(2, "Names"),
        *_names(settled, site, beyond),
        Heading(2, "Directory"),
        *_directory(settled, site, beyond),
        Heading(2, "DHCP"),
        *_dhcp(settled, site),
        Heading(2, "Monitoring"),
        *_monitoring(settled, site),
        Heading(2, "Time"),
        *_time(settled, site),
        Heading(2, "Services that cross"),
        *_crossing(settled, site),
    ]


Far = tuple[str, Exposure]
"""A cloud (of a hub, the member whose range it is), and a range with what the site calls it."""


def _beyond(settled: Settled, site: str) -> Iterator[Far]:
    for bundle in settled.bundles_of(site):
        for exposure in bundle.cloud_exposures:
            yield _holder(settled, bundle.cloud, exposure), exposure


def _holder(settled: Settled, cloud: str, far: Exposure) -> str:
    held = (name for name, other in settled.clouds.items() if other.holds(far.real))
    return next(held, cloud)


def _changes(settled: Settled, site: str, beyond: list[Far]) -> Iterator[Block]:
    yield Paragraph(
        "These ranges are reached through the tunnels from now on. Whatever else used them here is "
        "not reached any more."
    )
    yield Table(
        ("Range", "Leads to", "Largest packet"),
        ((str(far.seen), name, _largest(settled, site, far.seen)) for name, far in beyond),
        name="reached",
    )
    rows = dict.fromkeys(
        (bundle.cloud, exposure.network, str(exposure.real), str(exposure.seen))
        for bundle in settled.bundles_of(site)
        for exposure in bundle.exposures
    )
    yield Paragraph("The other side sees these networks, and no others of the site:")
    yield Table(("Cloud", "Network", "Here", "As seen there"), rows, keys=3, name="seen")


def _largest(settled: Settled, site: str, prefix: Prefix) -> str:
    """The smallest MTU of all ways there."""
    found = [
        end.mtu
        for gateway in settled.sites[site].gateways
        for end in (*ends_at(settled, gateway), *circuits_at(settled, gateway))
        if prefix in end.remote_prefixes
    ]
    return f"{min(found)} bytes" if found else ""


def reverse_zones(prefix: Prefix) -> list[str]:
    """The zones of a prefix (RFC 1035 section 3.5, RFC 3596 section 2.5), cut at whole labels; for
    a part of the last one, the zone that it lies in."""
    step, ends = (8, "in-addr.arpa") if prefix.bits == 32 else (4, "ip6.arpa")
    longest = prefix.bits - step
    length = min(-(-prefix.length // step) * step, longest)
    labels = length // step
    parts = prefix.children(length) if length >= prefix.length else [prefix.widened(length)]
    found = []
    for part in parts:
        value = part.value >> (prefix.bits - length)
        numbers = [(value >> (step * n)) & ((1 << step) - 1) for n in range(labels)]
        found.append(".".join([*(f"{n:x}" if step == 4 else str(n) for n in numbers), ends]))
        if len(found) > MOST_ZONES:
            break
    return found


def _zone_words(prefix: Prefix) -> str:
    found = reverse_zones(prefix)
    more = ", and the next ones of the range" if len(found) > MOST_ZONES else ""
    return ", ".join(found[:MOST_ZONES]) + more


def _names(settled: Settled, site: str, beyond: list[Far]) -> Iterator[Block]:
    yield Paragraph(
        "Reverse zones of what lies beyond: ask the other side's resolvers for them, and let the "
        "other side ask yours for the site's."
    )
    rows = [(str(far.seen), f"beyond: {name}", _zone_words(far.seen)) for name, far in beyond]
    rows += [
        (str(exposure.seen), f"here: {exposure.network}", _zone_words(exposure.seen))
        for exposure in _own(settled, site)
    ]
    yield Table(("Range", "Of", "Zones"), rows, keys=2, name="zones")


def _own(settled: Settled, site: str) -> list[Exposure]:
    """The site's ranges as others see them, each once."""
    found = (e for bundle in settled.bundles_of(site) for e in bundle.exposures)
    return list(dict.fromkeys(found))


def _directory(settled: Settled, site: str, beyond: list[Far]) -> Iterator[Block]:
    yield Paragraph("Subnets for the directory's own map of places:")
    rows = [(str(e.real), site, e.network) for e in _own(settled, site)]
    for name, far in beyond:
        region = settled.clouds[name].region
        rows.append((str(far.seen), name if region is None else f"{name} ({region})", far.network))
    yield Table(("Subnet", "Place", "What it is"), rows, name="subnets")


def _dhcp(settled: Settled, site: str) -> Iterator[Block]:
    yield Paragraph("The gateway has the first address of a network: keep it out of every pool.")
    rows = []
    for network in settled.sites[site].networks.values():
        inner = any(network.behind)
        for prefix in network.prefix:
            gateway = "an inner router's" if inner else prefix.address(1)
            rows.append((network.name, str(prefix), gateway))
    yield Table(("Network", "Range", "Gateway address"), rows, keys=2, name="dhcp")


def _monitoring(settled: Settled, site: str) -> Iterator[Block]:
    yield Paragraph(
        "Watch both ends of every way. One that is down while another carries is a warning; all of "
        "them down is an outage."
    )
    rows = []
    for bundle in settled.bundles_of(site):
        for leg in bundle.legs:
            gateway = settled.gateways[leg.gateway]
            rows.append(
                (
                    leg.label,
                    gateway.name,
                    str(leg.site_inside),
                    str(leg.cloud_inside),
                    f"{leg.peers[0]} - {leg.peers[1]}" if bundle.routing == "bgp" else "none",
                )
            )
    head = ("Way", "Gateway", "Ping here", "Ping there", "BGP session")
    yield Table(head, rows, name="watch")


def _time(settled: Settled, site: str) -> Iterator[Block]:
    certified = [
        bundle.name for bundle in settled.bundles_of(site) if bundle.authentication == "certificate"
    ]
    if certified:
        yield Paragraph(
            f"The gateways prove themselves by certificates on {', '.join(certified)}: a clock "
            "that is wrong by more than their validity allows keeps the tunnels down. Give the "
            "gateways a time server that is reached without the tunnels."
        )
    else:
        yield Paragraph(
            "Logs of both ends can be compared only if their clocks agree: give the gateways a "
            "time server that is reached without the tunnels."
        )


def _crossing(settled: Settled, site: str) -> Iterator[Block]:
    yield Paragraph(
        "What is let across by its registered port. What is not listed does not cross: ask for it "
        "before you rely on it."
    )
    wishes = [w for w in settled.expectations_at(site) if w.must == "work"]
    rows = []
    for service, ports in _PORTS.items():
        found: dict[tuple[str, str], dict[str, None]] = {}
        for wish in (w for w in wishes if any(_lets(w, port) for port in ports)):
            found.setdefault((str(wish.source), str(wish.destination)), {})[wish.service] = None
        crossing = [(*ends, ", ".join(what)) for ends, what in found.items()]
        rows += [(service, *row) for row in crossing or [("nobody", "nowhere", "does not cross")]]
    yield Table(("Service", "From", "To", "What"), rows, keys=3, name="crossing")


def _lets(wish: Expected, port: int) -> bool:
    return any(wish.flow.lets(protocol, port) for protocol in (TCP, UDP))
