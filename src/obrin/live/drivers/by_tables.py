"""What a device of any make reports in its standard tables, as ends of the design's tunnels.

A tunnel is found by the addresses inside it, or by an interface that bears its name. A device may
report less than it has: what is not in its tables is not known, and never taken for absent.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Protocol

from obrin.core.address.prefix import Address
from obrin.core.errors import OutsideError
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
from obrin.core.known import NotKnown, Verdict, all_of
from obrin.core.routing.against_dump import SeenPaths
from obrin.core.routing.forwarding import RouteKind
from obrin.core.settled.links import Leg, SettledCircuit, SettledTunnel
from obrin.core.settled.model import Settled
from obrin.live.drivers.observations import NO_IKE, EndStatus, RouteSeen, silent


class Observer(Protocol):
    """Reads the tables of one device. Each method raises OutsideError where it does not answer."""

    def state(self) -> DeviceState:
        """Interfaces, neighbours and routes as they are now."""

    def close(self) -> None: ...


def ends_by_tables(settled: Settled, gateway: str, state: DeviceState) -> dict[str, EndStatus]:
    """State of every tunnel and circuit of a gateway, by label; a reason for what the tables do not
    have."""
    return {leg.label: _end(settled, leg, state) for leg in settled.legs_at(gateway)}


def routes_by_tables(settled: Settled, gateway: str, state: DeviceState) -> list[RouteSeen]:
    """Routes with the tunnel, circuit or network that they lead to; those to anywhere else by the
    name of the interface. Raises OutsideError where the device reports none."""
    if state.routes is None:
        raise OutsideError(f"{gateway} reports no routes. See 'observe' in docs/drivers.md")
    names = dict(_names(settled, gateway, state))
    inside = {leg.cloud_inside: leg.label for leg in settled.legs_at(gateway)}
    return [
        RouteSeen(
            prefix=route.prefix,
            via=via,
            kind=_KINDS.get(route.source, route.source),
            used=route.used if via else all_of((route.used, _NO_WAY_OUT)),
        )
        for route in state.routes
        for via in (_via(route, names, inside),)
    ]


_NO_WAY_OUT: Verdict = NotKnown("its interface is not reported")


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
    names = set(_called(leg))
    return next((i for i in state.interfaces if names & {i.name, i.description}), None)


def _called(leg: Leg) -> tuple[str, str]:
    """Names by which the interface of a tunnel or circuit is known."""
    tunnel = isinstance(leg, SettledTunnel)
    return leg.label, interface_name(leg.label) if tunnel else circuit_interface(leg.name)


def _not_found(settled: Settled, leg: Leg, state: DeviceState) -> str:
    """Why a tunnel or circuit is not seen, though it may be there."""
    if not state.interfaces:
        return "the device reports no interfaces"
    count = len(state.interfaces)
    if settled.bundle(leg).selection == POLICY:
        return f"none of the {count} interfaces that the device reports is called {leg.label}"
    address = " or ".join(map(str, leg.insides(at_site=True)))
    if not any(one.addresses for one in state.interfaces):
        return f"the device reports no addresses, and no interface is called {leg.label}"
    return f"none of the {count} interfaces that the device reports has {address}"


NO_TABLE = NotKnown("no standard table has it")


def _end(settled: Settled, leg: Leg, state: DeviceState) -> EndStatus:
    found = _interface(leg, state)
    if found is None:
        return silent(_not_found(settled, leg, state))
    session = _session(settled, leg, state)
    learned = [n.learned for n in session.neighbours if n.learned is not None]
    speaks = settled.bundle(leg).routing == "bgp"
    received: tuple[str, ...] | NotKnown = ()
    if speaks:
        received = NotKnown("the device reports no paths of this neighbour")
    if learned:
        received = tuple(str(p) for paths in learned for p in sorted(paths))
    inside = next(iter(set(leg.insides(at_site=True)) & set(found.addresses)), None)
    return EndStatus(
        ike=NO_IKE if isinstance(leg, SettledCircuit) else NO_TABLE,
        child=found.up if isinstance(found.up, NotKnown) else "up" if found.up else "down",
        packets_in=found.packets_in,
        packets_out=found.packets_out,
        bgp=session.state if speaks else "none",
        bgp_error=session.error,
        received=received,
        announced=NO_TABLE if speaks else (),
        idle_in=NO_TABLE,
        idle_out=NO_TABLE,
        inside="" if inside is None else str(inside),
    )


@dataclass(frozen=True, slots=True)
class _Sessions:
    """What a device reports of the sessions over a tunnel; of several, of the one that is not
    established."""

    neighbours: tuple[NeighbourState, ...]
    state: str | NotKnown
    error: str = ""


def _session(settled: Settled, leg: Leg, state: DeviceState) -> _Sessions:
    wanted = {session.ends[1] for session in settled.sessions_over(leg)} or {leg.cloud_inside}
    reported = state.neighbours or ()
    found = tuple(one for one in reported if one.address in wanted)
    for one in found:
        if not isinstance(one.state, NotKnown) and one.state != "established":
            return _Sessions(found, one.state, one.last_error)
    lacking = sorted(wanted - {one.address for one in found})
    if lacking:
        return _Sessions(found, NotKnown(_no_neighbour(lacking, reported)))
    unclear = next((one.state for one in found if isinstance(one.state, NotKnown)), "established")
    return _Sessions(found, unclear, next((n.last_error for n in found if n.last_error), ""))


def _no_neighbour(lacking: Sequence[Address], reported: Sequence[NeighbourState]) -> str:
    addresses = ", ".join(map(str, lacking))
    if not reported:
        return "the device reports no BGP neighbours"
    if not {one.address.bits for one in reported} & {address.bits for address in lacking}:
        return f"the device reports no BGP neighbours of the family of {addresses}"
    return f"{addresses} is not among the {len(reported)} BGP neighbours that the device reports"
