"""The practice world, held against the model: what is up, and what stands in the tables of its
gateways, networks and hubs."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping

from obrin.core.address.prefix import Prefix
from obrin.core.design.arrangement import SPARE
from obrin.core.routing.forwarding import Route, RouteKind
from obrin.core.routing.stable import Stable
from obrin.live.practice.cloud.names import cloud_name
from obrin.live.rehearse.virtual import VirtualWorld

Used = dict[Prefix, tuple[str, frozenset[str]]]
"""Kind of route and the paths that share it, by prefix."""


def differences(world: VirtualWorld, stable: Stable) -> Iterator[str]:
    """Say where a gateway is not as the model says, in words; nothing when all are."""
    yield from _down(world, stable.lost)
    for name, router in world.routers.items():
        if name not in world.dead:
            yield from _apart(name, _used(stable.table(name)), _used(router.table.items()))
    labels = {cloud_name(leg.label): leg.label for leg in world.settled.legs()}
    for name, table in world.cloud.tables().tables.items():
        seen = {prefix: _named(used, labels) for prefix, used in _used(table.items()).items()}
        yield from _apart(name, _used(stable.table(name)), seen)


def _named(
    used: tuple[str, frozenset[str]], labels: Mapping[str, str]
) -> tuple[str, frozenset[str]]:
    """Replace the cloud's names by those that the design has."""
    return used[0], frozenset(labels.get(way, way) for way in used[1])


def _down(world: VirtualWorld, lost: Collection[str]) -> Iterator[str]:
    """Tunnels and sessions that ought to be up; a spare may rest."""
    settled = world.settled
    labels = {cloud_name(leg.label): leg.label for leg in settled.legs()}
    instances = [(n, i.router) for n, i in world.cloud.instances.items()]
    for name, router in (*world.routers.items(), *instances):
        for tunnel, running in router.ike.tunnels.items():
            label = labels.get(tunnel, tunnel)
            rests = settled.tunnel(label).role == SPARE
            if label not in lost and not rests and running.outbound is None:
                yield f"{name}: tunnel {label} is down"
        for session, neighbour in router.bgp.speaker.neighbours.items():
            ways = {labels.get(way, way) for way in router.config.neighbours[session].ways}
            expected = not ways <= set(lost) and name not in world.dead
            if expected and not neighbour.session.established:
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
