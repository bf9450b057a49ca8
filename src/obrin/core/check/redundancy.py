"""Redundancy: is there a second tunnel, and does it share its fate with the first?"""

from __future__ import annotations

from collections.abc import Iterator

from obrin.core.address.prefix import Address
from obrin.core.check.finding import Finding, Severity
from obrin.core.design.reader import Location
from obrin.core.settled.links import SettledLink
from obrin.core.settled.model import Settled


def tunnels(settled: Settled) -> Iterator[Finding]:
    for name, link in settled.links.items():
        here: Location = ("links", name, "tunnels")
        if len(link.tunnels) < 2:
            yield Finding(
                Severity.ERROR,
                "one-tunnel",
                here,
                f"link {name} has one tunnel",
                "any failure and any maintenance cuts the site off",
                "add a tunnel over another uplink to another instance",
            )
            continue
        yield from _shared_fate(settled, link, here)


def same_ends(settled: Settled) -> Iterator[Finding]:
    """Two tunnels between the same two public addresses: neither end can tell them apart."""
    seen: dict[tuple[Address, Address], str] = {}
    for tunnel in settled.tunnels():
        ends = (tunnel.uplink.address, tunnel.cloud_address)
        first = seen.setdefault(ends, tunnel.label)
        if first != tunnel.label:
            yield Finding(
                Severity.ERROR,
                "tunnel-same-ends",
                ("links", tunnel.link, "tunnels", tunnel.name),
                f"{tunnel.label} and {first} both run between {ends[0]} and {ends[1]}",
                "neither end can tell them apart: one of them never comes up",
                "give the gateways public addresses of their own, or end it at another instance",
            )


def _shared_fate(settled: Settled, link: SettledLink, here: Location) -> Iterator[Finding]:
    uplinks = {(t.gateway, t.uplink.name) for t in link.tunnels}
    providers = {t.uplink.provider or f"{t.gateway}/{t.uplink.name}" for t in link.tunnels}
    instances = {t.instance for t in link.tunnels}
    cloud = settled.clouds[link.cloud]
    shared: list[tuple[Severity, str, str, str]] = []
    error = Severity.ERROR
    if len(uplinks) == 1:
        uplink = f"uplink {link.tunnels[0].uplink.name}"
        if sum(len(g.uplinks) for g in settled.gateways.values() if g.site == link.site) > 1:
            shared.append((error, "uplink", uplink, "lead one of them over another uplink"))
        else:
            fix = "order a second path to the internet, if the site cannot bear that outage"
            what = f"{uplink}, the only one of {link.site}"
            shared.append((Severity.WARNING, "uplink", what, fix))
    elif len(providers) == 1:
        name = next(iter(providers))
        shared.append((error, "provider", f"provider {name}", "use an uplink of another provider"))
    if len(instances) == 1:
        fix = "end one of them at the other instance"
        if len(cloud.instances) == 1:
            fix = "run two instances and end one tunnel at each"
        what = f"instance {link.tunnels[0].instance} of {link.cloud}"
        shared.append((error, "instance", what, fix))
    for severity, kind, what, fix in shared:
        yield Finding(
            severity,
            f"shared-{kind}",
            here,
            f"all tunnels of link {link.name} depend on {what}",
            "when it fails, all of them fail with it",
            fix,
        )
    gateways = {t.gateway for t in link.tunnels}
    if len(gateways) == 1:
        yield Finding(
            Severity.NOTE,
            "one-gateway",
            here,
            f"all tunnels of link {link.name} end at gateway {link.tunnels[0].gateway}",
            "when the device fails or restarts, the site is cut off",
            "add a second gateway at the site, if that outage is too long",
        )
