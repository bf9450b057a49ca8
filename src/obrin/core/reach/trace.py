"""One packet through the model: each hop with the route or rule that decided, or where it stops."""

from __future__ import annotations

from dataclasses import dataclass

from obrin.core.address.prefix import format_address
from obrin.core.address.translation import Exposure, inward, outward
from obrin.core.design.model import Expectation
from obrin.core.design.settled import Settled
from obrin.core.reach.model import ReachModel
from obrin.core.reach.packet import PacketKey
from obrin.core.routing.forwarding import Route, RouteKind


@dataclass(frozen=True, slots=True)
class Trace:
    """`dropped` is empty when the packet arrives; `arrived` is the packet as it then is.

    `tunnel` is the one that it takes; empty when it stops before, or needs none.
    """

    hops: tuple[str, ...]
    dropped: str = ""
    arrived: PacketKey | None = None
    tunnel: str = ""


def probe_key(settled: Settled, expectation: Expectation) -> PacketKey:
    """The first packet that a probe of this expectation sends."""
    source, _ = settled.host(expectation.source, expectation.destination.partition("/")[0])
    _, destination = settled.host(expectation.destination, expectation.source.partition("/")[0])
    return PacketKey.first_of(expectation.flow, source, destination)


def far_key(settled: Settled, expectation: Expectation) -> PacketKey:
    """The same packet as the far side sees it, where something is translated on the way."""
    near = expectation.source.partition("/")[0]
    far = expectation.destination.partition("/")[0]
    source = settled.host(expectation.source, far)[1]
    destination = settled.host(expectation.destination, near)[0]
    return probe_key(settled, expectation)._replace(source=source, destination=destination)


def trace(model: ReachModel, start: str, key: PacketKey) -> Trace:
    """Follow a packet from a host in `start` (`place/network`) through the model."""
    place = start.partition("/")[0]
    if place in model.settled.clouds:
        return _from_cloud(model, place, start, key)
    return _from_site(model, place, start, key)


def _stop(hops: list[str], reason: str) -> Trace:
    return Trace(tuple(hops), reason)


def _from_site(model: ReachModel, site: str, start: str, key: PacketKey) -> Trace:
    settled = model.settled
    hops = [f"host {format_address(key.source)} in {start}"]
    best: tuple[int, str, Route] | None = None
    gateways = [settled.gateways[name] for name in settled.design.sites[site].gateways]
    for gateway in gateways:
        found = model.table(gateway.name).match(key.destination)
        if found is None:
            continue
        route = found[1]
        if route.kind is RouteKind.CONNECTED and route.via in gateway.networks:
            return Trace((*hops, f"delivered inside {site}"), "", key)
        rank = settled.tunnel(route.via).preference
        if best is None or rank < best[0]:
            best = (rank, gateway.name, route)
    if best is None:
        names = ", ".join(g.name for g in gateways)
        return _stop(hops, f"no route to {format_address(key.destination)} at {names}")
    _, gateway_name, route = best
    via = route.via_for(key)
    hops.append(f"{gateway_name}: route {route.prefix} ({route.kind.label}) via {via}")
    rule = model.rules(gateway_name).match(key)
    if rule is None:
        return _stop(hops, f"filter at {gateway_name}: no rule lets {key} through")
    hops.append(f"{gateway_name}: filter rule {rule.name}")
    tunnel = settled.tunnel(via)
    hops.append(f"tunnel {tunnel.label} to {tunnel.cloud} instance {tunnel.instance}")
    link = settled.links[tunnel.link]
    key = _translated(key, link.exposures, link.cloud_exposures, hops)
    found = model.table(tunnel.cloud).match(key.destination)
    if found is None or found[1].kind is not RouteKind.CONNECTED:
        where = f"{tunnel.cloud} instance {tunnel.instance}"
        return _stop(hops, f"no subnet with {format_address(key.destination)} behind {where}")
    rule = model.rules(tunnel.cloud).match(key)
    if rule is None:
        return _stop(hops, f"filter at {tunnel.cloud}: no rule lets {key} through")
    hops.append(f"{tunnel.cloud}: filter rule {rule.name}")
    hops.append(f"host {format_address(key.destination)} in {found[1].via}")
    return Trace(tuple(hops), "", key, via)


def _from_cloud(model: ReachModel, cloud: str, start: str, key: PacketKey) -> Trace:
    settled = model.settled
    hops = [f"host {format_address(key.source)} in {start}"]
    subnet = settled.clouds[cloud].subnets[start.partition("/")[2]]
    rule = model.rules(cloud).match(key)
    if any(s.prefix.contains(key.destination) for s in settled.clouds[cloud].subnets.values()):
        return Trace((*hops, f"delivered inside {cloud}"), "", key)
    if rule is None:
        return _stop(hops, f"filter at {cloud}: no rule lets {key} through")
    hops.append(f"{cloud}: filter rule {rule.name}")
    if not subnet.propagation:
        return _stop(
            hops, f"propagation is off at {start}: its route table has no route to the site"
        )
    found = model.table(cloud).match(key.destination)
    if found is None:
        return _stop(hops, f"no route to {format_address(key.destination)} at {cloud}")
    route = found[1]
    via = route.via_for(key)
    hops.append(f"{cloud}: route {route.prefix} ({route.kind.label}) via {via}")
    tunnel = settled.tunnel(via)
    hops.append(f"tunnel {tunnel.label} to {tunnel.gateway}")
    link = settled.links[tunnel.link]
    key = _translated(key, link.cloud_exposures, link.exposures, hops)
    rule = model.rules(tunnel.gateway).match(key)
    if rule is None:
        return _stop(hops, f"filter at {tunnel.gateway}: no rule lets {key} through")
    hops.append(f"{tunnel.gateway}: filter rule {rule.name}")
    arrived = model.table(tunnel.gateway).match(key.destination)
    if arrived is None or arrived[1].via not in settled.gateways[tunnel.gateway].networks:
        return _stop(
            hops, f"no network with {format_address(key.destination)} behind {tunnel.gateway}"
        )
    return Trace(
        (*hops, f"host {format_address(key.destination)} in {arrived[1].via}"), "", key, via
    )


def _translated(
    key: PacketKey, near: tuple[Exposure, ...], far: tuple[Exposure, ...], hops: list[str]
) -> PacketKey:
    """The packet beyond a tunnel: the near gateway changed its source, the far one the rest."""
    moved = key._replace(source=outward(near, key.source), destination=inward(far, key.destination))
    if moved != key:
        hops.append(f"translated one to one: {moved}")
    return moved


def there_and_back(model: ReachModel, expectation: Expectation) -> tuple[Trace, Trace | None]:
    """The first packet of an expectation, and its answer when the first one arrives."""
    key = probe_key(model.settled, expectation)
    there = trace(model, expectation.source, key)
    if there.arrived is None:
        return there, None
    return there, trace(model, expectation.destination, there.arrived.reply())
