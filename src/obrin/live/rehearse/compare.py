"""The practice gateways, held against the model: what is up, and what stands in their tables."""

from __future__ import annotations

from collections.abc import Collection, Iterator

from obrin.core.address.prefix import Address, Prefix
from obrin.core.design.arrangement import SPARE
from obrin.core.routing.forwarding import Route, RouteKind
from obrin.core.routing.packet import PacketKey
from obrin.core.routing.stable import Stable
from obrin.core.settled.model import host_of
from obrin.live.rehearse.virtual import VirtualWorld

Used = dict[Prefix, tuple[str, frozenset[str]]]
"""By prefix, the kind of its route and the ways that share it."""


def differences(world: VirtualWorld, stable: Stable) -> Iterator[str]:
    """Where a gateway is not as the model says, in words; nothing when all are."""
    yield from _down(world, stable.lost)
    for name, router in world.routers.items():
        yield from _apart(name, _used(stable.table(name)), _used(router.table.items()))
    for name, cloud in world.settled.clouds.items():
        if cloud.gateway is not None:
            yield from _at_cloud(world, stable, name)


def _down(world: VirtualWorld, lost: Collection[str]) -> Iterator[str]:
    """Tunnels and sessions that ought to be up; a spare may rest."""
    instances = [(n, i.router) for n, i in world.cloud.instances.items()]
    for name, router in (*world.routers.items(), *instances):
        labels = {tunnel: tunnel.replace(".", "/") for tunnel in router.ike.tunnels}
        for tunnel, label in labels.items():
            rests = world.settled.tunnel(label).role == SPARE
            if label not in lost and not rests and router.ike.tunnels[tunnel].outbound is None:
                yield f"{name}: tunnel {label} is down"
        for session, neighbour in router.bgp.speaker.neighbours.items():
            ways = {labels[way] for way in router.config.neighbours[session].ways}
            if not ways <= set(lost) and not neighbour.session.established:
                yield f"{name}: BGP session {session} is {neighbour.session.state.value}"


def _used(routes: Iterator[tuple[Prefix, Route]]) -> Used:
    """What is connected is not a matter of routing."""
    return {
        prefix: (route.kind.label, frozenset((route.via, *route.others)))
        for prefix, route in routes
        if route.kind is not RouteKind.CONNECTED
    }


def _apart(name: str, model: Used, seen: Used) -> Iterator[str]:
    for prefix in sorted({*model, *seen}):
        one, two = model.get(prefix), seen.get(prefix)
        if one != two:
            yield f"{name}: {prefix} goes {_words(two)}, by the model {_words(one)}"


def _words(used: tuple[str, frozenset[str]] | None) -> str:
    if used is None:
        return "nowhere"
    return f"{used[0]} by {' and '.join(sorted(used[1]))}"


def _at_cloud(world: VirtualWorld, stable: Stable, cloud: str) -> Iterator[str]:
    """Which tunnel leads to each network of each site."""
    settled = world.settled
    for site in settled.sites:
        for network, prefix in settled.networks_at(site):
            found = stable.match(cloud, host_of(prefix))
            if found is not None and found[1].kind is RouteKind.CONNECTED:
                found = None
            key = PacketKey(Address(prefix.bits, 0), host_of(prefix), 1)
            chosen = world.cloud.choose(cloud, key)
            route = None if found is None else found[1]
            ways = frozenset[str]() if route is None else frozenset((route.via, *route.others))
            via = None if chosen is None else chosen[1].replace(".", "/")
            if (via in ways) is not bool(ways) or (not ways and via is not None):
                meant = f"bgp or static by {' or '.join(sorted(ways))}" if ways else "nowhere"
                yield f"{cloud}: {site}/{network} goes by {via or 'nothing'}, by the model {meant}"
