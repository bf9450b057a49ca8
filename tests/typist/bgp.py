"""BGP sessions of a device whose screen has these fields."""

from __future__ import annotations

import re
from collections.abc import Iterator

from obrin.core.address.prefix import Prefix, parse_address
from obrin.core.handover.standard.bgp import Neighbour
from tests.typist.words import NONE, addresses, dual, number, prefixes, several, with_lengths

SIGNED = {
    "TCP-MD5": "tcp-md5",
    "HMAC-SHA-1-96": "hmac-sha-1-96",
    "AES-128-CMAC-96": "aes-128-cmac-96",
}


def sessions(label: str, row: dict[str, str], tunnel: dict[str, str]) -> Iterator[Neighbour]:
    """One in each tunnel, or one for each family; one over several is entered once."""
    over = re.match(r"one over (.*): enter it once", row.get("Session", "its own"))
    ways = tuple(several(over[1])) if over else ()
    if ways and ways[0] != label:
        return
    peers, sources = addresses(row["BGP peer address"]), addresses(row["BGP source address"])
    inside = [address for address, _ in with_lengths(tunnel["Inside address"])]
    families = row.get("Address families", "")
    listed = families.removesuffix(", a session each")
    bits = [128 if "IPv6" in one else 32 for one in several(listed)] or [inside[0].bits]
    each = [[one] for one in bits] if len(peers) > 1 else [bits]
    signed = next((name for word, name in SIGNED.items() if word in row["TCP signature"]), None)
    for peer, source, carried in zip(peers, sources, each, strict=True):
        hops = {source.bits: source}
        if 128 in carried and source.bits != 128:
            hops[128] = parse_address(row["Next hop for IPv6"])
        for one in inside:
            hops.setdefault(one.bits, one)
        yield Neighbour(
            name=label if peer is peers[0] else f"{label}:ipv6",
            local_address=source,
            remote_address=peer,
            next_hops=dual(hop for hop in hops.values() if hop.bits in carried),
            remote_as=int(row["Peer's AS number"]),
            hold=int(number(row["Hold time"])),
            passive=row["Session opened by"] != "this gateway",
            local_pref=int(row["Local preference for its routes"]),
            announce=tuple(p for p in prefixes(row.get("Announce to it", "")) if p.bits in carried),
            accept=tuple(p for p in prefixes(row.get("Accept from it", "")) if p.bits in carried),
            prepend=_if_any(row.get("Own AS in front, more often", "")) or 0,
            communities=tuple(several(row.get("Communities on what it advertises (RFC 1997)", ""))),
            med=_if_any(row.get("Multi-exit discriminator to advertise", "")),
            limit=_if_any(row.get("Most prefixes to take", "")),
            signature=signed,
            multihop=row["Multihop"].startswith("on"),
            ways=ways if peer is peers[0] else (label,),
        )


def _if_any(text: str) -> int | None:
    return None if text in NONE else int(text)


def line_session(name: str, row: dict[str, str]) -> Iterator[Neighbour]:
    if row["Routes by"] != "bgp":
        return
    own = [address for address, _ in with_lengths(row["Own address on it"])]
    peers = addresses(row["Address of the far end"])
    carried = [address.bits for address in own]
    yield Neighbour(
        name=f"{name}/circuit",
        local_address=own[0],
        remote_address=peers[0],
        next_hops=dual(own),
        remote_as=int(row["Peer's AS number"]),
        hold=int(row["Hold time in s"]),
        passive=row["Session opened by"] != "this gateway",
        local_pref=int(row["Local preference for its routes"]),
        announce=tuple(p for p in prefixes(row.get("Announce to it", "")) if p.bits in carried),
        accept=tuple(p for p in prefixes(row.get("Accept from it", "")) if p.bits in carried),
        prepend=_if_any(row.get("Own AS in front, more often", "")) or 0,
        limit=_if_any(row.get("Most prefixes to take", "")),
    )


def internal(row: tuple[str, ...]) -> Neighbour:
    neighbour, asn, between, hold, hops, opened, _ = row
    found = re.match(r"(\S+) here and (\S+) there", between)
    assert found, between
    own = [parse_address(one) for one in several(hops)]
    return Neighbour(
        name=neighbour,
        local_address=parse_address(found[1]),
        remote_address=parse_address(found[2]),
        next_hops=dual(own),
        remote_as=int(asn),
        hold=int(hold),
        passive=opened != "this gateway",
        local_pref=None,
        announce=(),
        accept=tuple(Prefix(hop.bits, 0, 0) for hop in own),
        internal=True,
    )
