"""Check devices: that each can do, and shows, what the design asks of it."""

from __future__ import annotations

from collections.abc import Iterator

from obrin.core.check.finding import Finding, Severity
from obrin.core.design.arrangement import SPARE
from obrin.core.design.reader import Location
from obrin.core.drill.detection import Detector, detectors, unwatching
from obrin.core.handover.sheet.awake import sleeps
from obrin.core.ipsec.profile import UNKNOWN, Profile
from obrin.core.quantity import plain
from obrin.core.routing.model import accepted_at_site
from obrin.core.settled.clouds import SettledCloud
from obrin.core.settled.links import SettledLink, SettledTunnel
from obrin.core.settled.model import Settled
from obrin.core.settled.sites import SettledGateway
from obrin.core.settled.telling import announced_by_site

End = tuple[Location, str, Profile, tuple[SettledTunnel, ...]]


def devices(settled: Settled) -> Iterator[Finding]:
    """Every gateway and cloud that a profile describes."""
    kind = settled.standards.certificates.kind
    for where, name, profile, tunnels in _described(settled):
        if profile.unsaid:
            yield Finding(
                Severity.NOTE,
                "profile-unsaid",
                where,
                f"profile {profile.name} of {name} does not say: {', '.join(profile.unsaid)}",
                "what is unsaid is taken for possible, and shows only when it is entered",
                "look it up in the device's data sheet, and say it in the profile",
            )
        links = [settled.links[n] for n in dict.fromkeys(t.link for t in tunnels)]
        cannot = list(
            dict.fromkeys(_cannot(profile, links, tunnels, kind, at_cloud=name in settled.clouds))
        )
        if cannot:
            yield Finding(
                Severity.ERROR,
                "device-cannot",
                where,
                f"{name} ({profile.name}) cannot do what is asked: {'; '.join(cannot)}",
                "it shows when the device is configured, and the plan has to change then",
                "ask for what it can do, or use another device",
            )
        for link in links:
            yield from _lifetimes(link, name, profile)
    yield from _circuits(settled)
    yield from _selectors(settled)
    for link in settled.links.values():
        yield from _spares(link)
        yield from _detection(settled, link)
        yield from _sleep(settled, link)
        yield from _starts(link)


def _described(settled: Settled) -> Iterator[End]:
    ends: list[SettledGateway | SettledCloud] = list(settled.gateways.values())
    ends += settled.clouds.values()
    for device in ends:
        if device.profile is not UNKNOWN:
            where = (*settled.location_of(device.name), "profile")
            yield where, device.name, device.profile, settled.tunnels_at(device.name)


def _cannot(
    profile: Profile,
    links: list[SettledLink],
    tunnels: tuple[SettledTunnel, ...],
    kind: str,
    *,
    at_cloud: bool,
) -> Iterator[str]:
    if profile.tunnels is not None and len(tunnels) > profile.tunnels:
        yield f"{len(tunnels)} tunnels, at most {profile.tunnels}"
    for link in links:
        if link.routing == "bgp" and profile.bgp is False:
            yield "BGP; use 'routing: static'"
        if link.routing == "bgp" and link.selection == "policy":
            able = profile.selection is None or "interface" in profile.selection
            cure = "drop 'selection: policy'" if able else "use 'routing: static'"
            yield f"BGP without tunnel interfaces; {cure}"
        if profile.selection is not None and link.selection not in profile.selection:
            yield f"tunnels by {link.selection}"
        method = "pre-shared-key" if link.authentication == "pre-shared-key" else kind
        if profile.authentication is not None and method not in profile.authentication:
            what = "a pre-shared key" if method == "pre-shared-key" else f"{kind} certificates"
            yield f"authentication by {what}"
        if link.bfd is not None and profile.bfd is False:
            yield "BFD"
        if link.bfd is not None and link.selection == "policy":
            yield "BFD without tunnel interfaces"
        if link.always_encapsulate and profile.nat_traversal is False:
            yield "UDP encapsulation"
        fault = profile.liveness.fault(link.liveness)
        if fault:
            yield fault
    for tunnel in tunnels:
        if at_cloud and tunnel.cloud_initiates and profile.initiates is False:
            yield f"starting tunnel {tunnel.label} by itself"
        if tunnel.uplink.translated and profile.nat_traversal is False:
            yield f"working behind the translator of uplink {tunnel.uplink.name}"


def _circuits(settled: Settled) -> Iterator[Finding]:
    """What circuits ask of the gateways at which they end."""
    for name, circuit in settled.circuits.items():
        device = settled.gateways[circuit.gateway]
        cannot = []
        if circuit.routing == "bgp" and device.profile.bgp is False:
            cannot.append("BGP; use 'routing: static'")
        if circuit.bfd is not None and device.profile.bfd is False:
            cannot.append("BFD")
        if cannot:
            yield Finding(
                Severity.ERROR,
                "device-cannot",
                ("circuits", name),
                f"{device.name} ({device.profile.name}) cannot do what circuit {name} asks: "
                f"{'; '.join(cannot)}",
                "it shows when the device is configured, and the plan has to change then",
                "ask for what it can do, or use another device",
            )


def _lifetimes(link: SettledLink, name: str, profile: Profile) -> Iterator[Finding]:
    here: Location = ("links", link.name, "suite")
    for fault in profile.lifetime_faults(link.suite):
        yield Finding(
            Severity.ERROR,
            "lifetime-range",
            here,
            f"{name} ({profile.name}) does not accept the {fault}",
            "the device takes another one, and each end acts on its own lifetime",
            "give the suite a lifetime that the device accepts, or leave it blank",
        )
    for what, able, wanted in (
        ("IKE SA", profile.ike.lifetime, link.suite.ike.lifetime),
        ("child SA", profile.esp.lifetime, link.suite.esp.lifetime),
    ):
        if able.shown is False and able.default not in (None, wanted):
            yield Finding(
                Severity.NOTE,
                "lifetime-hidden",
                here,
                f"{name} ({profile.name}) takes {plain(able.default)} s for the {what} and does "
                f"not show it; the suite says {plain(wanted)} s",
                "lifetimes are not negotiated: the ends rekey at times that nobody expects",
                f"enter {plain(wanted)} s there, also if the field seems to be filled",
            )


def _selectors(settled: Settled) -> Iterator[Finding]:
    """More tunnels at once for equal selectors than a device holds, in one link or in several."""
    for gateway in settled.gateways.values():
        most = gateway.profile.same_selectors
        alike: dict[object, list[SettledTunnel]] = {}
        for tunnel in settled.tunnels_at(gateway.name) if most is not None else ():
            if tunnel.role != SPARE:
                alike.setdefault(_selects(settled, tunnel), []).append(tunnel)
        for held in alike.values():
            if most is not None and len(held) > most:
                links = " and ".join(dict.fromkeys(t.link for t in held))
                yield Finding(
                    Severity.ERROR,
                    "same-selectors",
                    ("links", held[most].link, "tunnels", held[most].name),
                    f"{len(held)} tunnels of {links} are to be up at {gateway.name}, which holds "
                    f"{most} at once for equal traffic selectors",
                    "the second one takes the child SA of the first away, and they take turns",
                    "leave its 'role' blank, or make it 'spare'",
                )


def _selects(settled: Settled, tunnel: SettledTunnel) -> object:
    """What is equal for tunnels that a device cannot hold beside each other."""
    link = settled.links[tunnel.link]
    if link.selection != "policy":
        return link.name  # each interface has its own
    return frozenset(announced_by_site(link)), frozenset(accepted_at_site(settled, link))


def _spares(link: SettledLink) -> Iterator[Finding]:
    for tunnel in link.tunnels:
        if tunnel.role == SPARE and tunnel.rank == 1:
            yield Finding(
                Severity.ERROR,
                "spare-first",
                ("links", link.name, "tunnels", tunnel.name, "role"),
                f"tunnel {tunnel.label} is a spare, and there is none before it to stand in for",
                "it comes up only when all before it failed: never",
                "put the tunnels that it waits for before it, or leave its role blank",
            )


_SLOW = 180.0
"""Seconds for which people wait before they call somebody."""


def _slow(link: SettledLink, first: Detector) -> Finding:
    return Finding(
        Severity.WARNING,
        "detection-slow",
        ("links", link.name, "bgp" if link.routing == "bgp" else "liveness"),
        f"a dead tunnel of {link.name} is noticed after up to {plain(first.longest)} s, by "
        f"{first.name}",
        "nothing passes meanwhile, though another tunnel is up; most often a unit was mistyped",
        "a hold time of some seconds ('hold-time'), a shorter silence ('delay'), or BFD",
    )


def _detection(settled: Settled, link: SettledLink) -> Iterator[Finding]:
    found = detectors(settled, link)
    if found:
        if found[0].longest > _SLOW and len(link.tunnels) > 1:
            yield _slow(link, found[0])
        return
    names = unwatching(settled, link)
    yield Finding(
        Severity.ERROR,
        "static-unmonitored",
        ("links", link.name, "routing"),
        f"static routes over {link.name}, and {', '.join(names)} does not watch them",
        "when the tunnel dies the route stays: traffic goes nowhere, the other tunnel is not used",
        "use 'routing: bgp', a device that watches its routes, or selection by policy",
    )


def _starts(link: SettledLink) -> Iterator[Finding]:
    """Check that the cloud can reach the gateway of a tunnel that it is to initiate."""
    for tunnel in link.tunnels:
        uplink, why = tunnel.uplink, ""
        if not tunnel.cloud_initiates:
            continue
        if tunnel.role == SPARE:
            why = "it is a spare: only the site's gateway knows when it is needed"
        elif uplink.translated and not uplink.forwards:
            says = "passes nothing" if uplink.forwards is False else "is not said to pass anything"
            why = f"the translator at {uplink.address} {says} on to {tunnel.gateway}"
        if why:
            yield Finding(
                Severity.ERROR,
                "start-blocked",
                ("links", link.name, "tunnels", tunnel.name, "initiator"),
                f"the cloud is to start {tunnel.label}, and {why}",
                "nobody begins: the tunnel never comes up",
                "let the site start it, or have UDP 500 and 4500 forwarded and say so with "
                "'forwards: true' at the uplink",
            )


def _sleep(settled: Settled, link: SettledLink) -> Iterator[Finding]:
    for tunnel in link.tunnels:
        profile = settled.gateways[tunnel.gateway].profile
        if sleeps(settled, tunnel):
            yield Finding(
                Severity.WARNING,
                "tunnel-asleep",
                ("links", link.name, "tunnels", tunnel.name),
                f"{tunnel.gateway} starts tunnel {tunnel.label} only for traffic",
                "after a quiet night the first packets are lost, and the cloud cannot reach the "
                "site at all",
                "send the traffic that the sheet names under 'Kept awake by'",
            )
        if profile.mss_clamping is False:
            yield Finding(
                Severity.WARNING,
                "mss-not-clamped",
                ("links", link.name, "tunnels", tunnel.name),
                f"{tunnel.gateway} does not lower the MSS of TCP through {tunnel.label}",
                "small packets pass and large ones hang, where ICMP is dropped on the way",
                "lower the MTU of the hosts to the one on the sheet, or clamp at the cloud's end",
            )
