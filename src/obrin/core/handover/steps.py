"""The order of steps at one gateway, with the check that shows each step worked."""

from __future__ import annotations

from obrin.core.address.prefix import format_address
from obrin.core.design.settled import Settled
from obrin.core.drill.outage import predict_outage
from obrin.core.handover.mirror import TunnelEnd, ends_at
from obrin.core.handover.standard_data import interface_name
from obrin.core.reach.trace import probe_key


def steps(settled: Settled, place: str) -> str:
    """Markdown, numbered. Nothing that works is cut before its replacement is proven."""
    ends = ends_at(settled, place)
    cloud = place in settled.clouds
    lines = [
        f"# {place}: order of steps",
        "",
        "Values are on the sheet, keys in `keys.json`. Go on only when a step's check holds.",
        "",
    ]
    parts = [_cloud_first(settled, place)] if cloud else [_site_first(settled, place)]
    parts += [_tunnel(end) for end in ends]
    parts.append(
        (
            "Enter the filter, and leave tunnel traffic out of source translation (sheet, 5 on)",
            "the filter's last rule drops everything else; the internet still works from the site",
        )
    )
    parts += [_routing(end) for end in ends]
    parts += [_flow(settled, place), _failover(settled, place)]
    for number, (what, check) in enumerate(parts, 1):
        lines += [f"{number}. {what}.", f"   *Check:* {check}.", ""]
    return "\n".join(lines)


def _cloud_first(settled: Settled, place: str) -> tuple[str, str]:
    cloud = settled.clouds[place]
    held = ", ".join(map(str, cloud.spaces))
    return (
        f"Build network {held}, its subnets and gateway subnet {cloud.gateway_subnet}, "
        f"then the gateway of class {cloud.gateway_class} with {len(cloud.instances)} instances. "
        "'obrin connect' does this step and all others at the cloud",
        f"the gateway is ready and has the addresses {', '.join(cloud.instances)}",
    )


def _site_first(settled: Settled, place: str) -> tuple[str, str]:
    uplinks = settled.gateways[place].uplinks.values()
    return (
        "Allow UDP 500, UDP 4500 and ESP on the internet side (sheet, last part)",
        f"the uplinks {', '.join(f'{u.name} ({u.address})' for u in uplinks)} reach the internet",
    )


def _tunnel(end: TunnelEnd) -> tuple[str, str]:
    starts = "The gateway starts it by itself" if end.initiator else "The remote end starts it"
    return (
        f"Enter suite {end.suite.name}, tunnel {end.tunnel} with its key, and interface "
        f"{interface_name(end.tunnel)} (sheet, 2 and 3). {starts}",
        f"the IKE SA with {end.remote_address} is up, its child SA is up, and "
        f"{end.remote_inside} answers a ping from {end.local_inside}",
    )


def _routing(end: TunnelEnd) -> tuple[str, str]:
    prefixes = ", ".join(map(str, end.remote_prefixes))
    if end.routing == "static":
        return (
            f"Enter the static routes to {prefixes} through {end.tunnel} (sheet, 4)",
            f"the table shows {prefixes} through {interface_name(end.tunnel)}",
        )
    return (
        f"Enter the BGP peer {end.remote_inside} of tunnel {end.tunnel} (sheet, 4)",
        f"the session is established and {prefixes} is learned from it",
    )


def _flow(settled: Settled, place: str) -> tuple[str, str]:
    here = place if place in settled.clouds else settled.gateways[place].site
    for _, expectation in settled.expectations_at(here):
        if expectation.must == "work":
            key = probe_key(settled, expectation)
            source, destination = format_address(key.source), format_address(key.destination)
            return (
                "Try the flows that must work, from both sides ('obrin probe')",
                f"for one, {expectation.flow} from {source} to {destination} is answered, and "
                "packets are counted in and out at both ends",
            )
    return (
        "Send traffic from both sides",
        "packets are counted in and out at both ends of the preferred tunnel",
    )


def _failover(settled: Settled, place: str) -> tuple[str, str]:
    tunnels = settled.tunnels_at(place)
    if not tunnels:
        return "Nothing is connected here", "there is nothing to check"
    first = tunnels[0]
    return (
        f"Lose tunnel {first.label} on purpose, then bring it back",
        f"traffic stops for {predict_outage(settled, first)}",
    )
