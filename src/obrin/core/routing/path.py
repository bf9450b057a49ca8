"""BGP paths and where they were learned: the values that decision, policy and both engines
share."""

from __future__ import annotations

import enum
from collections.abc import Iterator
from dataclasses import dataclass

from obrin.core.address.prefix import Address, Prefix

DEFAULT_LOCAL_PREF = 100


class Origin(enum.IntEnum):
    """RFC 4271 section 4.3, attribute ORIGIN; the lower is preferred."""

    IGP = 0
    EGP = 1
    INCOMPLETE = 2


class AsSet(frozenset[int]):
    """An AS_SET inside an AS path: one hop, whatever its size (RFC 4271 section 9.1.2.2)."""

    def __str__(self) -> str:
        return "{" + ",".join(map(str, sorted(self))) + "}"


AsPath = tuple[int | AsSet, ...]
"""The nearest AS first."""


def ases(as_path: AsPath) -> Iterator[int]:
    """Every AS number of a path, those in sets too, for the loop check (section 9.1.2)."""
    for hop in as_path:
        if isinstance(hop, AsSet):
            yield from hop
        else:
            yield hop


def has_as(as_path: AsPath, asn: int) -> bool:
    """The same for one number, at the speed of a search where no set is on the way."""
    return asn in as_path or (AsSet in map(type, as_path) and asn in ases(as_path))


AS_TRANS = 23456
"""What stands where an AS number needs more than two octets and has no more (RFC 6793)."""


def short(asn: int) -> int:
    """The AS number in two octets: itself or AS_TRANS (RFC 6793)."""
    return asn if asn <= 0xFFFF else AS_TRANS


def shortened(as_path: AsPath) -> AsPath:
    """The AS path as a speaker with two-octet AS numbers advertises it."""
    return tuple(
        AsSet(map(short, hop)) if isinstance(hop, AsSet) else short(hop) for hop in as_path
    )


Carried = tuple[int, int, bytes]
"""An attribute that decides nothing here and is passed on: its flags, type and value."""


@dataclass(frozen=True, slots=True)
class Path:
    """The attributes of a route that decide its fate; `carried` are transitive ones that do not,
    by type."""

    next_hop: int
    as_path: AsPath = ()
    origin: int = Origin.IGP
    med: int | None = None
    local_pref: int = DEFAULT_LOCAL_PREF
    communities: tuple[int, ...] = ()
    carried: tuple[Carried, ...] = ()


@dataclass(frozen=True, slots=True)
class Peer:
    """The neighbour a path came from; `name` is the tunnel's."""

    name: str
    asn: int
    address: Address
    router_id: int
    external: bool = True


@dataclass(frozen=True, slots=True)
class Candidate:
    """One path for one prefix from one peer; `cost` is the way to its next hop inside our AS."""

    prefix: Prefix
    path: Path
    peer: Peer
    cost: int = 0
