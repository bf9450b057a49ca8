"""What a device of any make reports by the standard modules, and those tables as data.

Interfaces with their counters (ietf-interfaces, RFC 8343), their addresses (ietf-ip, RFC 8344) and
the routes in use (ietf-routing, RFC 8349). BGP neighbours have no standard module: what is known of
them comes from elsewhere.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass

from obrin.core.address.prefix import Address, Prefix, parse_address, parse_prefix
from obrin.core.json_text import Json
from obrin.core.known import NotKnown, Verdict, known
from obrin.core.routing.path import Path
from obrin.core.text import clean

INTERFACES, ROUTING = "ietf-interfaces:interfaces", "ietf-routing:routing"
_IPS = {32: "ietf-ip:ipv4", 128: "ietf-ip:ipv6"}
_ROUTES = {32: "ietf-ipv4-unicast-routing", 128: "ietf-ipv6-unicast-routing"}
DIRECT, STATIC, BGP = "direct", "static", "bgp"
_PROTOCOLS = {
    DIRECT: "ietf-routing:direct",
    STATIC: "ietf-routing:static",
    BGP: "obrin-bgp:bgp",
}


_NO_STATUS = NotKnown("its oper-status is not reported")
_NO_PACKETS_IN = NotKnown("in-unicast-pkts is not reported")
_NO_PACKETS_OUT = NotKnown("out-unicast-pkts is not reported")


@dataclass(frozen=True, slots=True, kw_only=True)
class InterfaceState:
    """Packets are unicast ones, since the device counts. `description` is what an administrator
    wrote of it. `up` is whether it passes packets."""

    name: str
    description: str = ""
    up: Verdict = _NO_STATUS
    packets_in: int | NotKnown = _NO_PACKETS_IN
    packets_out: int | NotKnown = _NO_PACKETS_OUT
    addresses: tuple[Address, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class NeighbourState:
    """A BGP neighbour; `state` as RFC 4271 section 8.2.2 names it, in small letters. `learned`
    is what it advertised, None where the device does not report it."""

    address: Address
    state: str | NotKnown
    learned: Mapping[Prefix, Path] | None = None
    last_error: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class UsedRoute:
    """`source` is direct, static, bgp or the device's own word; `interface` may be empty. `used`
    is not known where the device lists several and does not say which it uses."""

    prefix: Prefix
    interface: str
    next_hop: Address | None
    source: str
    used: Verdict = True


@dataclass(frozen=True, slots=True, kw_only=True)
class DeviceState:
    """The state of a device; None is what it does not report at all."""

    interfaces: tuple[InterfaceState, ...]
    neighbours: tuple[NeighbourState, ...] | None = None
    routes: tuple[UsedRoute, ...] | None = None


def encode(state: DeviceState, since: str) -> Json:
    """State data of the two modules. `since` is when counting began, as a date and time."""
    return {INTERFACES: encode_interfaces(state, since), ROUTING: encode_routes(state)}


def encode_interfaces(state: DeviceState, since: str) -> Json:
    return {"interface": [_interface(one, since) for one in state.interfaces]}


def _interface(one: InterfaceState, since: str) -> Json:
    held = {
        key: {"address": [{"ip": str(a)} for a in one.addresses if a.bits == bits]}
        for bits, key in _IPS.items()
        if any(a.bits == bits for a in one.addresses)
    }
    return {
        "name": one.name,
        "oper-status": "unknown" if isinstance(one.up, NotKnown) else "up" if one.up else "down",
        "statistics": {
            "discontinuity-time": since,
            "in-unicast-pkts": str(known(one.packets_in, 0)),
            "out-unicast-pkts": str(known(one.packets_out, 0)),
        },
        **held,
    }


def encode_routes(state: DeviceState) -> Json:
    """A RIB for each family that has routes."""
    ribs = [
        {
            "name": f"ipv{4 if bits == 32 else 6}-main",
            "address-family": f"{_ROUTES[bits]}:ipv{4 if bits == 32 else 6}-unicast",
            "routes": {"route": [_route(r) for r in state.routes or () if r.prefix.bits == bits]},
        }
        for bits in _ROUTES
        if any(r.prefix.bits == bits for r in state.routes or ())
    ]
    return {"ribs": {"rib": ribs}}


def _route(route: UsedRoute) -> Json:
    module = _ROUTES[route.prefix.bits]
    hop: Json = {"outgoing-interface": route.interface}
    if route.next_hop is not None and route.next_hop.bits == route.prefix.bits:
        hop[f"{module}:next-hop-address"] = str(route.next_hop)
    return {
        "next-hop": hop,
        "source-protocol": _PROTOCOLS.get(route.source, _PROTOCOLS[DIRECT]),
        "active": [None],
        f"{module}:destination-prefix": str(route.prefix),
    }


def merged(config: Json, state: Json) -> Json:
    """One container with the configuration and the state of it, which share interfaces by name."""
    found = {**config, **state}
    if "interface" in state:
        learned = {one["name"]: one for one in config.get("interface", [])}
        found["interface"] = [{**one, **learned.get(one["name"], {})} for one in state["interface"]]
    return found


def decode(interfaces: Json, routing: Json | None) -> DeviceState:
    """What a device reported: the containers of both modules, of its kind or of any other.

    Raises AddressError, LookupError, TypeError, ValueError or AttributeError for what does not fit.
    """
    return DeviceState(
        interfaces=tuple(map(_interface_of, interfaces.get("interface", []))),
        routes=None if "ribs" not in (routing or {}) else tuple(_routes_of(routing or {})),
    )


def _interface_of(entry: Json) -> InterfaceState:
    counted = entry.get("statistics", {})
    return InterfaceState(
        name=str(entry["name"]),
        description=str(entry.get("description", "")),
        up=_passes(entry.get("oper-status")),
        packets_in=_counter("in-unicast-pkts", counted),
        packets_out=_counter("out-unicast-pkts", counted),
        addresses=tuple(
            parse_address(held["ip"])
            for key in _IPS.values()
            for held in entry.get(key, {}).get("address", [])
        ),
    )


_DOES_NOT_PASS = frozenset(("down", "testing", "dormant", "not-present", "lower-layer-down"))
"""Values of oper-status of an interface that passes no packets (RFC 8343 section 5)."""


def _passes(status: object) -> Verdict:
    if status == "up" or status in _DOES_NOT_PASS:
        return status == "up"
    if status is None:
        return _NO_STATUS
    return NotKnown(f"its oper-status is '{clean(str(status), 40)}'")


def _counter(name: str, counted: Json) -> int | NotKnown:
    """A counter64 (RFC 6991), which RFC 7951 section 6.1 writes as text."""
    if name not in counted:
        return NotKnown(f"{name} is not reported")
    text = str(counted[name])
    if not (text.isascii() and text.isdigit() and int(text[:40]) < 1 << 64):
        return NotKnown(f"{name} is '{clean(text, 40)}', which is not a counter")
    return int(text)


def _routes_of(routing: Json) -> Iterator[UsedRoute]:
    """Active ones; of several next hops, each. Those of other families are left out. In a RIB in
    which no route at all is active, the device does not report which are."""
    for rib in routing.get("ribs", {}).get("rib", []):
        listed = rib.get("routes", {}).get("route", [])
        active = [route for route in listed if "active" in route]
        used: Verdict = True if active else NotKnown("it reports no route as active")
        for entry in active or listed:
            prefixes = (entry.get(f"{module}:destination-prefix") for module in _ROUTES.values())
            prefix = next((text for text in prefixes if text), "")
            if prefix:
                source = str(entry.get("source-protocol", ""))
                for hop in _hops(entry.get("next-hop", {})):
                    yield _used(parse_prefix(prefix), hop, source, used)


def _hops(hop: Json) -> list[Json]:
    several: list[Json] = hop.get("next-hop-list", {}).get("next-hop", [])
    return several or [hop]


def _used(prefix: Prefix, hop: Json, source: str, used: Verdict) -> UsedRoute:
    module = _ROUTES[prefix.bits]
    names = f"{module}:next-hop-address", f"{module}:address"
    beyond = next((text for name in names if (text := hop.get(name))), None)
    return UsedRoute(
        prefix=prefix,
        interface=str(hop.get("outgoing-interface", "")),
        next_hop=None if beyond is None else parse_address(beyond),
        source=source.rpartition(":")[2],
        used=used,
    )
