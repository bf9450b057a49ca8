"""What a practice device reports in the standard tables, as one of any make would."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from obrin.core.address.prefix import Address, Prefix
from obrin.core.handover.standard.interfaces import CIRCUIT, Interface
from obrin.core.handover.standard.operational import (
    BGP,
    DIRECT,
    STATIC,
    DeviceState,
    InterfaceState,
    NeighbourState,
    UsedRoute,
)
from obrin.core.routing.forwarding import Route, RouteKind
from obrin.core.settled.links import circuit_label
from obrin.device.config import RouterWay
from obrin.device.router.router import Router
from obrin.device.standard.state import circuit_states, tunnel_states

_SOURCES = {RouteKind.CONNECTED: DIRECT, RouteKind.STATIC: STATIC, RouteKind.BGP: BGP}


def operational_state(router: Router, configured: Sequence[Interface], now: float) -> DeviceState:
    """`configured` are its interfaces."""
    return DeviceState(
        interfaces=tuple(_interfaces(router, configured, now)),
        neighbours=tuple(_neighbours(router)),
        routes=tuple(_routes(router, configured)),
    )


def _interfaces(
    router: Router, configured: Sequence[Interface], now: float
) -> Iterator[InterfaceState]:
    """A tunnel's is up while packets can go; that of a network or an uplink always is."""
    ways = {
        state["name"]: (state, state["child-sa"] == "up") for state in tunnel_states(router, now)
    }
    ways |= {
        state["name"]: (state, state["path"] != "down") for state in circuit_states(router, now)
    }
    for one in configured:
        state, up = ways.get(_way(one), ({}, True))
        yield InterfaceState(
            name=one.name,
            description=f"{one.role} {one.leg}".strip(),
            up=up,
            packets_in=int(state.get("packets-in", 0)),
            packets_out=int(state.get("packets-out", 0)),
            addresses=tuple(address for address, _ in one.addresses),
        )


def _way(one: Interface) -> str:
    """What packets that leave by it are said to leave by."""
    return circuit_label(one.leg) if one.role == CIRCUIT else one.leg or one.name


def _neighbours(router: Router) -> Iterator[NeighbourState]:
    for neighbour in router.bgp.speaker.neighbours.values():
        yield NeighbourState(
            address=neighbour.peer.address,
            state=neighbour.session.state.value,
            learned=dict(neighbour.received),
            last_error=neighbour.session.last_error,
        )


def _routes(router: Router, configured: Sequence[Interface]) -> Iterator[UsedRoute]:
    names, ways = {_way(one): one.name for one in configured}, router.config.ways()
    for prefix, route in router.table.items():
        for via in (route.via, *route.others):
            yield UsedRoute(
                prefix=prefix,
                interface=names.get(via, via),
                next_hop=_beyond(ways.get(via), prefix, route),
                source=_SOURCES[route.kind],
            )


def _beyond(way: RouterWay | None, prefix: Prefix, route: Route) -> Address | None:
    """The other end of a tunnel or circuit; none for what is on a network of its own."""
    if route.kind is RouteKind.CONNECTED:
        return None
    ends = None if way is None else way.ends_in(prefix.bits)
    return None if ends is None else ends.remote
