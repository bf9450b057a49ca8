"""BGP sessions: obrin-bgp, by the terms of RFC 4271."""

from __future__ import annotations

from dataclasses import dataclass

from obrin.core.address.dual import Dual
from obrin.core.address.prefix import Address, Prefix, parse_address, parse_prefix
from obrin.core.json_text import Json

MODULE = "obrin-bgp:bgp"
_FAMILIES = {32: "ipv4-unicast", 128: "ipv6-unicast"}
_MD5 = "tcp-md5"


@dataclass(frozen=True, slots=True, kw_only=True)
class Neighbour:
    """One session. `name` is the label of the tunnel or circuit that it runs in, or the name of
    another gateway of the site for an `internal` one: that is sent everything that was learned,
    with this gateway as the next hop. `ways` are the tunnels that it goes over, where that is not
    just the one it is named after. `next_hops` are what its routes are advertised with, in each
    family that the session carries (RFC 4760). `hold` is in seconds. `local_pref` None is left as
    it comes. `multihop` is whether it ends beyond the tunnel, `signature` how TCP is signed, with a
    password that is kept apart.
    """

    name: str
    local_address: Address
    remote_address: Address
    next_hops: Dual[Address]
    remote_as: int
    hold: int
    passive: bool
    local_pref: int | None
    announce: tuple[Prefix, ...]
    accept: tuple[Prefix, ...]
    prepend: int = 0
    communities: tuple[str, ...] = ()
    med: int | None = None
    limit: int | None = None
    internal: bool = False
    signature: str | None = None
    multihop: bool = False
    ways: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class Speaker:
    asn: int
    identifier: Address
    neighbours: tuple[Neighbour, ...]


def encode(speaker: Speaker) -> Json:
    return {
        "autonomous-system": speaker.asn,
        "bgp-identifier": str(speaker.identifier),
        "neighbor": [_encode(neighbour) for neighbour in speaker.neighbours],
    }


def _encode(of: Neighbour) -> Json:
    entry: Json = {
        "name": of.name,
        "local-address": str(of.local_address),
        "remote-address": str(of.remote_address),
        "remote-autonomous-system": of.remote_as,
        "hold-time": of.hold,
        "passive": of.passive,
    }
    if of.ways:
        entry["tunnel"] = list(of.ways)
    if of.local_pref is not None:
        entry["local-preference"] = of.local_pref
    for bits, name in _FAMILIES.items():
        hop = of.next_hops.of(bits)
        if hop is not None:
            entry[name] = {"next-hop": str(hop)}
    entry["announce"] = [str(p) for p in of.announce]
    entry["accept"] = [str(p) for p in of.accept]
    if of.prepend:
        entry["prepend"] = of.prepend
    if of.communities:
        entry["community"] = list(of.communities)
    if of.med is not None:
        entry["multi-exit-discriminator"] = of.med
    if of.limit is not None:
        entry["prefix-limit"] = of.limit
    if of.signature == _MD5:
        entry["tcp-md5"] = {}
    elif of.signature is not None:
        entry["tcp-ao"] = {"algorithm": of.signature}
    if of.multihop:
        entry["multihop"] = {}
    if of.internal:
        entry["internal"] = {}
    return entry


def decode(data: Json) -> Speaker:
    return Speaker(
        asn=data["autonomous-system"],
        identifier=parse_address(data["bgp-identifier"]),
        neighbours=tuple(_decode(entry) for entry in data.get("neighbor", [])),
    )


def _decode(entry: Json) -> Neighbour:
    return Neighbour(
        name=entry["name"],
        local_address=parse_address(entry["local-address"]),
        remote_address=parse_address(entry["remote-address"]),
        remote_as=entry["remote-autonomous-system"],
        hold=entry["hold-time"],
        passive=entry["passive"],
        next_hops=Dual(*(_next_hop(entry.get(name)) for name in _FAMILIES.values())),
        local_pref=entry.get("local-preference"),
        announce=tuple(map(parse_prefix, entry.get("announce", ()))),
        accept=tuple(map(parse_prefix, entry.get("accept", ()))),
        prepend=entry.get("prepend", 0),
        communities=tuple(entry.get("community", ())),
        med=entry.get("multi-exit-discriminator"),
        limit=entry.get("prefix-limit"),
        internal="internal" in entry,
        signature=_MD5 if "tcp-md5" in entry else entry.get("tcp-ao", {}).get("algorithm"),
        multihop="multihop" in entry,
        ways=tuple(entry.get("tunnel", ())),
    )


def _next_hop(entry: Json | None) -> Address | None:
    return None if entry is None else parse_address(entry["next-hop"])
