"""The order of steps at one gateway, with the check that shows each step worked."""

from __future__ import annotations

from collections.abc import Iterator

from obrin.core.address.prefix import Address
from obrin.core.drill.outage import Predictor
from obrin.core.handover.configured import speaker_of
from obrin.core.handover.ends.records import (
    InternalEnd,
    TunnelEnd,
    circuits_at,
    ends_at,
    internal_at,
)
from obrin.core.handover.sheet.joining import circuit_steps, hub_steps
from obrin.core.handover.sheet.stand_ins import marked_text
from obrin.core.handover.standard.basic import interface_name
from obrin.core.quantity import plain
from obrin.core.reach.trace import probe_key
from obrin.core.settled.model import Settled
from obrin.core.settled.owners import Owned, owned_at
from obrin.core.settled.sites import GATEWAYS, TUNNELS, SettledNetwork

Part = tuple[str, str, str]
"""What to do, the check that shows it worked, and where to look when it did not."""


def steps(settled: Settled, place: str, predictor: Predictor) -> str:
    """Markdown, numbered. Nothing that works is cut before its replacement is proven."""
    ends = ends_at(settled, place)
    cloud = place in settled.clouds
    lines = [
        f"# {place}: order of steps",
        "",
        "Values are on the sheet, secrets in `keys.json`. Go on only when a step's check holds.",
        "",
    ]
    parts = [_owner(entry) for entry in owned_at(settled, place) if entry.accepted is None]
    parts += [_cloud_first(settled, place)] if cloud else []
    if cloud:
        parts += hub_steps(settled, place)
    elif ends:
        parts.append(_site_first(settled, place))
    if not cloud:
        parts.append(_own_values(settled, place))
        parts += _first_hop(settled, place)
    parts += _inner_routers(settled, place)
    parts += circuit_steps(settled, place)
    parts += [_tunnel(end) for end in ends]
    parts.append(_filter(settled, place, ends))
    parts += [_routing(end) for end in ends if end.selection == "interface"]
    parts += [_internal(end) for end in internal_at(settled, place)]
    parts += _hosts(settled, place)
    parts.append(_flow(settled, place))
    if settled.legs_at(place):
        parts.append(_failover(settled, place, predictor))
    for number, (what, check, otherwise) in enumerate(parts, 1):
        lines += [f"{number}. {what}.", f"   *Check:* {check}.", f"   *If not:* {otherwise}.", ""]
    return marked_text(settled, "\n".join(lines))


def _owner(entry: Owned) -> Part:
    return (
        f"Have {entry.owner} accept, at {entry.kind} {entry.name}: {', '.join(entry.asks)}",
        "they say so, and the other side shows it as accepted",
        "the rest of these steps can be done, and nothing passes: ask who else may accept it",
    )


def _filter(settled: Settled, place: str, ends: tuple[TunnelEnd, ...]) -> Part:
    otherwise = "a rule that is missing shows in a later step: its flow is not answered"
    if not settled.legs_at(place):
        return "Enter the filter (sheet, 5)", _LAST_RULE, otherwise
    translated = [end.tunnel for end in ends if end.translations]
    both = f", the one-to-one translation at {', '.join(translated)}" if translated else ""
    return (
        f"Enter the filter{both}, and leave tunnel traffic out of source translation "
        "(sheet, 5 to the end)",
        f"{_LAST_RULE}; the internet still works from the site",
        "if the internet stopped, the exemption from translation is too wide: it is for the "
        f"destinations on the sheet only; {otherwise}",
    )


_LAST_RULE = "the filter's last rule drops everything else"


def _own_values(settled: Settled, place: str) -> Part:
    speaks = speaker_of(settled, place) is not None
    more = ", the AS number and the BGP identifier" if speaks else ""
    more = ", the loopback" + more if settled.gateways[place].loopback is not None else more
    return (
        f"See that the device has the networks and uplinks of the sheet; enter what is "
        f"missing{more} (sheet, 1)",
        "its own table shows the networks as connected, or by their inner routers",
        "another address on the device: either it changes, or the design does; ask before you "
        "enter anything",
    )


def _internal(end: InternalEnd) -> Part:
    return (
        f"Enter the internal BGP session with {end.neighbour} (sheet, 4)",
        f"the session with {end.peers[1]} is established",
        f"a route to {end.peers[1]} over the site's own network is missing, or TCP 179 is "
        f"filtered; it comes up only once {end.neighbour} has it, too",
    )


def _hosts(settled: Settled, place: str) -> Iterator[Part]:
    here = place if place in settled.clouds else settled.gateways[place].site
    networks = [name.network for name, _ in settled.hosts_accept_at(here)]
    if networks:
        yield (
            f"Have the firewalls of the hosts in {', '.join(networks)} let in what is listed "
            "(sheet, 5, the hosts' own)",
            "a host there shows these rules",
            "a host whose firewall somebody else manages: ask them; it answers nothing until then",
        )


def _cloud_first(settled: Settled, place: str) -> Part:
    cloud = settled.clouds[place]
    held = ", ".join(map(str, cloud.all_spaces))
    gateway = cloud.gateway
    if gateway is None:
        return (
            f"Build network {held} and its subnets, and have it attached to "
            f"{', '.join(settled.hubs_of(place)) or 'nothing yet'}",
            "the subnets' route tables show what the hub's table for this network holds",
            "the attachment waits for its acceptance, or propagation is off at the subnet",
        )
    connect = "" if cloud.is_hub else ". 'obrin connect' does this step and all others at the cloud"
    return (
        f"Build network {held}, its subnets and gateway subnet {gateway.subnet}, "
        f"then the gateway of class {gateway.gateway_class} with {len(cloud.instances)} instances"
        + connect,
        f"the gateway is ready and has the addresses {', '.join(map(str, cloud.addresses))}",
        "the cloud says which resource it refuses; 'obrin check' names ranges and sizes that it "
        "does not allow. A gateway takes tens of minutes",
    )


def _site_first(settled: Settled, place: str) -> Part:
    uplinks = settled.gateways[place].uplinks.values()
    behind = [u for u in uplinks if u.translated]
    passed = "".join(f"; the translator at {u.address} passes them to {u.own}" for u in behind)
    return (
        "Allow UDP 500, UDP 4500 and ESP on the internet side (sheet, last part)",
        f"the uplinks {', '.join(f'{u.name} ({u.address})' for u in uplinks)} reach the internet",
        f"ask the provider whether UDP 500 and 4500 pass{passed}",
    )


def _first_hop(settled: Settled, place: str) -> Iterator[Part]:
    """How hosts come to leave this gateway for another of its site, where there is one."""
    site = settled.sites[settled.gateways[place].site]
    others = " or ".join(name for name in site.gateways if name != place)
    if not others:
        return
    seconds = f"{plain(site.first_hop)} s"
    lost = f"hosts leave by {others} once all tunnels of {place} are down"
    if site.follow_is_assumed:
        yield (
            f"Find out what makes hosts leave {place} for {others}: not known. The design assumes "
            "that they leave it when it has lost its tunnels",
            lost,
            f"say what they do in the design (sites.{site.name}.hosts-follow), and settle again",
        )
    elif site.hosts_follow == TUNNELS:
        yield (
            f"Have the first-hop protocol (such as VRRP, RFC 9568) give the shared address to "
            f"{others} when {place} is dead, or has lost its tunnels, within {seconds}",
            lost,
            "the protocol does not follow the tunnels: its priority has to fall with them",
        )
    elif site.hosts_follow == GATEWAYS:
        yield (
            f"Have the first-hop protocol (such as VRRP, RFC 9568) prefer {site.gateways[0]}, and "
            f"give the shared address to the next of {', '.join(site.gateways)} when it is dead, "
            f"within {seconds}",
            f"hosts leave by {site.gateways[0]} while it lives, whatever its tunnels do",
            "the protocol has another order, or follows something else as well",
        )
    elif place == site.gateways[0]:
        yield (
            f"Have hosts keep {place} as their gateway: nothing moves them to {others}",
            f"hosts have the address of {place} as their gateway",
            "hosts have another gateway: the design counts on this one",
        )


def _inner_routers(settled: Settled, place: str) -> Iterator[Part]:
    """What lies behind them needs a route there, and one back."""
    gateway = settled.gateways.get(place)
    if gateway is None:
        return
    behind: dict[Address, list[SettledNetwork]] = {}
    for network in gateway.networks.values():
        for router in network.behind:
            behind.setdefault(router, []).append(network)
    remote = sorted({p for end in ends_at(settled, place) for p in end.remote_prefixes})
    for router, networks in behind.items():
        prefixes = ", ".join(str(network.prefix.of(router.bits)) for network in networks)
        far = [prefix for prefix in remote if prefix.bits == router.bits]
        back = ", ".join(map(str, far)) or "what lies beyond this gateway"
        yield (
            f"Enter static routes to {prefixes} by the inner router {router}; there, routes to "
            f"{back} by this gateway",
            f"a host in {prefixes} answers a ping from the gateway",
            "the inner router has no route back, or filters what is not its own",
        )


def _tunnel(end: TunnelEnd) -> Part:
    secret = "its key" if end.authentication == "pre-shared-key" else "its certificate"
    by_policy = end.selection == "policy"
    where = "the policy of its traffic selectors"
    if not by_policy:
        where = f"interface {interface_name(end.tunnel)}"
    enter = f"Enter suite {end.suite.name}, tunnel {end.tunnel} with {secret}, and {where}"
    if end.stands_in_for:
        elders = ", ".join(end.stands_in_for)
        return (
            f"{enter} (sheet, 2 and 3). It comes up only when {elders} failed",
            "it stays down now; the last step shows that it comes up",
            f"if it is up beside {elders}, the two take each other's traffic: set its role",
        )
    starts = "The gateway starts it by itself" if end.initiator else "The remote end starts it"
    if end.initiator and end.profile.initiates is False:
        starts = "It starts when the first packet comes for it"
    check = f"the IKE SA with {end.remote_address} is up, its child SA is up"
    if not by_policy:
        check += f", and {end.remote_inside} answers a ping from {end.local_inside}"
    proof = "the key, case and all" if secret == "its key" else "the certificates and their dates"
    return (
        f"{enter} (sheet, 2 and 3). {starts}",
        check,
        "no answer at all: the addresses, and UDP 500 on the way; NO_PROPOSAL_CHOSEN: section 2 "
        f"of both sheets; AUTHENTICATION_FAILED: {proof}, and the identities; TS_UNACCEPTABLE: "
        "the traffic selectors; up at one end only: wait a minute, then restart it at both",
    )


def leg_check(settled: Settled, place: str, label: str) -> tuple[str, str]:
    """What shows that a tunnel or circuit works at one end, and where to look when it does not.
    Raises KeyError where none of that label ends there."""
    for end in ends_at(settled, place):
        if end.tunnel == label:
            parts = [_tunnel(end)]
            if end.selection == "interface" and not end.stands_in_for:
                parts.append(_routing(end))
            return "; ".join(check for _, check, _ in parts), "; ".join(why for *_, why in parts)
    for circuit, part in zip(
        circuits_at(settled, place), circuit_steps(settled, place), strict=True
    ):
        if circuit.label == label:
            return part[1], part[2]
    raise KeyError(label)


def _routing(end: TunnelEnd) -> Part:
    prefixes = ", ".join(map(str, end.remote_prefixes))
    if end.routing == "static":
        return (
            f"Enter the static routes to {prefixes} through {end.tunnel} (sheet, 4)",
            f"the table shows {prefixes} through {interface_name(end.tunnel)}",
            "a route that is not in the table: the tunnel is down, or another route is longer",
        )
    mine = [session for session in end.sessions if session.ways[0] == end.tunnel]
    routes = " and ".join(map(str, end.host_routes))
    if not mine:
        return (
            f"Enter the host route to {routes} through {end.tunnel} as well (sheet, 4)",
            f"it stands behind the one through {end.sessions[0].ways[0]}",
            "it replaced the other one: give each its order",
        )
    host = f"the host route to {routes}, then " if routes else ""
    peers = " and ".join(str(session.peers[1]) for session in mine)
    hops = f" from {mine[0].peers[0]}, multihop" if mine[0].beyond else ""
    signed = ", and its password of keys.json" if end.password else ""
    passwords = ", the password" if end.password else ""
    return (
        f"Enter {host}the BGP peer {peers} of tunnel {end.tunnel} (sheet, 4){signed}",
        f"the session is established and {prefixes} is learned from it",
        f"idle or connecting: a ping to {peers}{hops}, TCP 179, the source address, the AS "
        f"numbers{passwords}; established and nothing learned: what the other end announces, and "
        "what this one accepts",
    )


def _flow(settled: Settled, place: str) -> Part:
    here = place if place in settled.clouds else settled.gateways[place].site
    otherwise = (
        "packets out and none in: the other end's routes and filter, its tables without "
        "propagation, the host's own firewall; small ones pass and large ones hang: the MSS"
    )
    for expectation in settled.expectations_at(here):
        if expectation.must == "work":
            key = probe_key(settled, expectation)
            return (
                "Try the flows that must work, from both sides ('obrin probe')",
                f"for one, {expectation.service} from {key.source} to {key.destination} is "
                "answered, and packets are counted in and out at both ends",
                otherwise,
            )
    return (
        "Send traffic from both sides",
        "packets are counted in and out at both ends of the preferred tunnel",
        otherwise,
    )


def _failover(settled: Settled, place: str, predictor: Predictor) -> Part:
    tunnels = settled.tunnels_at(place)
    if not tunnels:
        return (
            "Lose each line on purpose, and see what 'obrin drill' says of it",
            "what is said to move moves, and comes back with the line",
            "nothing takes over: the design has no other way, or nothing notices the death",
        )
    outages = {tunnel.label: predictor.outage(tunnel) for tunnel in tunnels}
    # One that carries something, if there is any: only there can it be seen.
    label = next((n for n, outage in outages.items() if not outage.idle), tunnels[0].label)
    return (
        f"Lose tunnel {label} on purpose, then bring it back",
        outages[label].words,
        "the second tunnel was never up; or the ends prefer different ones; or nothing notices: "
        "hold time and dead-peer detection",
    )
