"""The BGP sessions of an instance of the practice cloud, from the tunnels that carry them."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import replace
from typing import NamedTuple

from obrin.core.address.dual import of_families
from obrin.core.address.prefix import Address, parse_address
from obrin.core.routing.policy import PrefixList, SessionPolicy
from obrin.device.config import InsideEnds, RouterNeighbour
from obrin.live.practice.cloud.bodies import BgpBody, Way
from obrin.wire.bgp.session import SessionConfig


class Own(NamedTuple):
    """What an instance says of itself."""

    asn: int
    identifier: int


def neighbours(
    ways: Mapping[str, Way], own: Own, peer_as: Mapping[str, int]
) -> dict[str, RouterNeighbour]:
    """Group tunnels by session. Tunnels between the same two addresses carry one, that of the
    lowest metric first. `peer_as` is by the name of the way."""
    found: dict[tuple[Address, Address], RouterNeighbour] = {}
    for name, body in sorted(ways.items(), key=lambda entry: entry[1].metric):
        if body.bgp is None:
            continue
        for made in _sessions(name, body, body.bgp, own, peer_as[name]):
            key = made.session.local_address, made.session.peer_address
            if key in found:
                made = replace(found[key], ways=(*found[key].ways, name))
            found[key] = made
    return {made.session.name: made for made in found.values()}


def inside_ends(body: Way) -> tuple[InsideEnds, ...]:
    """IPv4 first."""
    pairs = zip(map(parse_address, body.inside_addresses), body.inside, strict=True)
    found = [InsideEnds.of(address, block.length) for address, block in pairs]
    return tuple(sorted(found, key=lambda ends: ends.local.bits))


def peers(body: Way, bgp: BgpBody) -> tuple[Address, Address]:
    """The ends of its first session, the cloud's first."""
    inside = inside_ends(body)[0]
    local = inside.local if bgp.local_address is None else parse_address(bgp.local_address)
    peer = inside.remote if bgp.peer_address is None else parse_address(bgp.peer_address)
    return local, peer


def _sessions(
    name: str, body: Way, bgp: BgpBody, own: Own, peer_as: int
) -> Iterator[RouterNeighbour]:
    held = inside_ends(body)
    families = [ends.local.bits for ends in held]
    ends = [peers(body, bgp)]
    carried = [families]
    if bgp.one_each and len(held) == 2:
        ends = [(inside.local, inside.remote) for inside in held]
        carried = [[bits] for bits in families]
    for number, ((local, peer), bits) in enumerate(zip(ends, carried, strict=True)):
        hops = [*(e.local for e in held if e.local.bits != local.bits), local]
        password = body.session_passwords[number] if body.session_passwords else ""
        session = SessionConfig(
            name=name if number == 0 else f"{name}:ipv6",
            local_as=own.asn,
            peer_as=peer_as,
            router_id=own.identifier,
            local_address=local,
            peer_address=peer,
            next_hops=of_families(hop for hop in hops if hop.bits in bits),
            multihop=all((local, peer) != (inside.local, inside.remote) for inside in held),
            hold=bgp.hold_time,
            passive=not body.initiate,
            password=password.encode(),
            signature=bgp.signature,
        )
        announce = tuple(prefix for prefix in bgp.announce if prefix.bits in bits)
        policy = SessionPolicy(
            local_as=own.asn,
            peer_as=peer_as,
            accept=PrefixList(prefix for prefix in bgp.accept if prefix.bits in bits),
            local_pref=bgp.local_preference,
            med=bgp.discriminator,
            summaries=announce if body.joined is not None else (),
            passes_on=body.joined is not None,
        )
        yield RouterNeighbour(session, policy, announce, (name,))
