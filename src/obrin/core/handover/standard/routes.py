"""Static routes: ietf-routing, ietf-ipv4- and ietf-ipv6-unicast-routing (RFC 8349)."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from obrin.core.address.prefix import Address, Prefix, parse_address, parse_prefix
from obrin.core.json_text import Json

MODULE = "ietf-routing:routing"
_FAMILIES = {32: "ietf-ipv4-unicast-routing:ipv4", 128: "ietf-ipv6-unicast-routing:ipv6"}


@dataclass(frozen=True, slots=True, kw_only=True)
class Hop:
    """One way of a static route; that with the lowest `order` that is up comes first."""

    interface: str
    address: Address
    order: int = 1


@dataclass(frozen=True, slots=True, kw_only=True)
class StaticRoute:
    """`hops` are in their order, at least one. `network` names the place's own network that it
    leads to, by an inner router; empty for what lies beyond tunnels and circuits."""

    prefix: Prefix
    hops: tuple[Hop, ...]
    network: str = ""


def encode(routes: Iterable[StaticRoute]) -> Json:
    listed = list(routes)
    families = {
        key: {"route": [_encode(route) for route in listed if route.prefix.bits == bits]}
        for bits, key in _FAMILIES.items()
        if any(route.prefix.bits == bits for route in listed)
    }
    protocol = {"type": "ietf-routing:static", "name": "tunnels", "static-routes": families}
    return {"control-plane-protocols": {"control-plane-protocol": [protocol]}}


def _encode(route: StaticRoute) -> Json:
    """A single hop stands by itself (its order then does not matter), several in a list."""
    hops = [
        {
            "index": str(hop.order),
            "outgoing-interface": hop.interface,
            "next-hop-address": str(hop.address),
        }
        for hop in route.hops
    ]
    alone = {name: value for name, value in hops[0].items() if name != "index"}
    next_hop = alone if len(hops) == 1 else {"next-hop-list": {"next-hop": hops}}
    about = {"description": f"network {route.network}"} if route.network else {}
    return {"destination-prefix": str(route.prefix), **about, "next-hop": next_hop}


def decode(data: Json) -> tuple[StaticRoute, ...]:
    protocols = data.get("control-plane-protocols", {}).get("control-plane-protocol", [])
    return tuple(route for protocol in protocols for route in _decode(protocol))


def _decode(protocol: Json) -> Iterator[StaticRoute]:
    families = protocol.get("static-routes", {})
    for route in (r for key in _FAMILIES.values() for r in families.get(key, {}).get("route", [])):
        hop = route["next-hop"]
        hops = hop.get("next-hop-list", {}).get("next-hop", [{**hop, "index": "1"}])
        yield StaticRoute(
            prefix=parse_prefix(route["destination-prefix"]),
            network=route.get("description", "").removeprefix("network "),
            hops=tuple(
                Hop(
                    interface=one["outgoing-interface"],
                    address=parse_address(one["next-hop-address"]),
                    order=int(one["index"]),
                )
                for one in hops
            ),
        )
