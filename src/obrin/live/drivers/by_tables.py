"""What a device of any make reports in its standard tables, as ends of the design's tunnels.

A tunnel is found by the addresses inside it, or by an interface that bears its name.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Protocol

from obrin.core.address.prefix import Address
from obrin.core.handover.standard.basic import circuit_interface, interface_name
from obrin.core.handover.standard.operational import (
    BGP,
    DIRECT,
    STATIC,
    DeviceState,
    InterfaceState,
    NeighbourState,
    UsedRoute,
)
from obrin.core.routing.against_dump import SeenPaths
from obrin.core.routing.forwarding import RouteKind
from obrin.core.settled.links import Leg, SettledCircuit, SettledTunnel
from obrin.core.settled.model import Settled
from obrin.live.drivers.observations import (
    ANNOUNCED,
    IKE_SA,
    NO_IKE,
    NOT_CONFIGURED,
    NOT_FOUND,
    RECEIVED,
    SESSION,
    EndStatus,
    RouteSeen,
)


class Observer(Protocol):
    """Reads the tables of one device. Each method raises OutsideError where it does not answer."""

    def state(self) -> DeviceState:
        """Interfaces, neighbours and routes as they are now."""

    def close(self) -> None: ...


def ends_by_tables(settled: Settled, gateway: str, state: DeviceState) -> dict[str, EndStatus]:
    """State of every tunnel and circuit of a gateway, by label."""
    return {leg.label: _end(settled, leg, state) for leg in settled.legs_at(gateway)}


def routes_by_tables(settled: Settled, gateway: str, state: DeviceState) -> list[RouteSeen]:
    """Routes with the tunnel, circuit or network that they lead to; those to anywhere else by the
    name of the interface."""
    names = dict(_names(settled, gateway, state))
    inside = {leg.cloud_inside: leg.label for leg in settled.legs_at(gateway)}
    return [
        RouteSeen(
            prefix=route.prefix,
            via=_via(route, names, inside),
            kind=_KINDS.get(route.source, route.source),
        )
        for route in state.routes or ()
    ]


def paths_by_tables(state: DeviceState) -> SeenPaths | None:
    """What each neighbour advertised; None where the device does not say."""
    learned = {n.address: n.learned for n in state.neighbours or () if n.learned is not None}
    return SeenPaths(learned) if learned else None


_KINDS = {
    DIRECT: RouteKind.CONNECTED.label,
    STATIC: RouteKind.STATIC.label,
    BGP: RouteKind.BGP.label,
}
POLICY = "policy"


def _via(route: UsedRoute, names: dict[str, str], inside: dict[Address, str]) -> str:
    """A next hop inside a tunnel says which, whatever the interface is called."""
    if route.next_hop in inside:
        return inside[route.next_hop]
    return names.get(route.interface, route.interface)


def _names(settled: Settled, gateway: str, state: DeviceState) -> Iterator[tuple[str, str]]:
    """What the device calls it, and what the design does."""
    for leg in settled.legs_at(gateway):
        found = _interface(leg, state)
        if found is not None:
            yield found.name, leg.label
    for network in settled.gateways[gateway].networks.values():
        for one in state.interfaces:
            if any(prefix.holds(a) for prefix in network.prefix for a in one.addresses):
                yield one.name, network.name


def _interface(leg: Leg, state: DeviceState) -> InterfaceState | None:
    wanted = set(leg.insides(at_site=True))
    for one in state.interfaces:
        if wanted & set(one.addresses):
            return one
    tunnel = isinstance(leg, SettledTunnel)
    names = {leg.label, interface_name(leg.label) if tunnel else circuit_interface(leg.name)}
    return next((i for i in state.interfaces if names & {i.name, i.description}), None)


def _end(settled: Settled, leg: Leg, state: DeviceState) -> EndStatus:
    found = _interface(leg, state)
    circuit = isinstance(leg, SettledCircuit)
    if found is None:
        by_policy = settled.bundle(leg).selection == POLICY
        return NOT_FOUND if by_policy else NOT_CONFIGURED
    neighbours = _neighbours(settled, leg, state)
    known = neighbours is not None
    worst = min(neighbours or (), key=lambda n: n.state == "established", default=None)
    learned = [n.learned for n in neighbours or () if n.learned is not None]
    speaks = settled.bundle(leg).routing == "bgp"
    unreported = [
        *([] if circuit else [IKE_SA]),
        *([SESSION] if speaks and not known else []),
        *([RECEIVED] if speaks and not learned else []),
        *([ANNOUNCED] if speaks else []),
    ]
    inside = next(iter(set(leg.insides(at_site=True)) & set(found.addresses)), None)
    return EndStatus(
        ike=NO_IKE if circuit else "not reported",
        child="up" if found.up else "down",
        packets_in=found.packets_in,
        packets_out=found.packets_out,
        bgp=_bgp(worst, speaks=speaks, known=known),
        bgp_error="" if worst is None else worst.last_error,
        received=tuple(str(p) for paths in learned for p in sorted(paths)),
        inside="" if inside is None else str(inside),
        unreported=tuple(unreported),
    )


def _bgp(worst: NeighbourState | None, *, speaks: bool, known: bool) -> str:
    if not speaks:
        return "none"
    if not known:
        return "not reported"
    return "not configured" if worst is None else worst.state


def _neighbours(settled: Settled, leg: Leg, state: DeviceState) -> list[NeighbourState] | None:
    """Neighbours over a tunnel or circuit; None where the device reports none of their family."""
    sessions = settled.sessions_over(leg)
    wanted = {session.ends[1] for session in sessions} or {leg.cloud_inside}
    learned = state.neighbours or ()
    families = {one.address.bits for one in learned}
    if not families & {address.bits for address in wanted}:
        return None
    return [one for one in learned if one.address in wanted]
