"""Point-to-point blocks inside tunnels, and loopbacks of site gateways."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator

from obrin.core.address.prefix import Prefix, format_address, parse_ipv4, parse_prefix
from obrin.core.address.space import FreeSpace
from obrin.core.design.joining import Circuit
from obrin.core.design.model import Design, Tunnel
from obrin.core.errors import AddressError, SettleError
from obrin.core.settle.blank import circuit_key, link_key, site_key, suffix
from obrin.core.settle.choices import Value
from obrin.core.settle.holders import survey
from obrin.core.settle.left import SetAside
from obrin.core.settle.pools import pool_names, pools_of
from obrin.core.settle.work import Work, families


def settle_inside_blocks(work: Work, bits: int) -> None:
    """A block for each tunnel and circuit, its own as long as there are enough.

    After that a block is used again at gateways that do not have it yet. Raises SettleError.
    """
    design, tail = work.design, suffix(bits)
    length = design.inside.length if bits == 32 else design.inside.length6
    pools = [p for level in pools_of(work, "inside", None, bits) for p in level]
    spaces = [FreeSpace([pool], work.offering.reserved_inside) for pool in pools]
    at: dict[str, list[Prefix]] = {}
    blanks: list[tuple[str, str, str]] = []
    for place, gateway, cloud, one in _with_insides(design):
        given = one.inside if bits == 32 else one.inside6
        if given is None:
            blanks.append((f"{place}.inside{tail}", gateway, cloud))
            continue
        for end in (gateway, cloud):
            at.setdefault(end, []).append(given)
        for space in spaces:
            space.reserve(given)
    waiting = []
    for key, gateway, cloud in blanks:
        earlier = work.earlier_prefixes(key, bits)
        usable = bool(earlier) and earlier[0].length in ((30, 31) if bits == 32 else (126, 127))
        if usable and (
            any(space.reserve(earlier[0]) for space in spaces)
            or _may_repeat(work, earlier[0], at, gateway, cloud, pools)
        ):
            work.chosen[key] = work.previous[key]
        else:
            waiting.append((key, gateway, cloud))
            continue
        for place in (gateway, cloud):
            at.setdefault(place, []).append(earlier[0])
    SetAside(spaces, work.left_prefixes(bits, inside=True))
    names = pool_names(work, "inside", None, bits)
    for key, gateway, cloud in waiting:
        block = next((b for space in spaces if (b := space.take(length)) is not None), None)
        why = f"a free /{length} of {names}"
        if block is None:
            block = _again(work, length, pools, at, gateway, cloud)
            why += f"; used at other gateways, but neither at {gateway} nor at {cloud}"
        if block is None:
            raise SettleError(
                f"{key}: {names} has no /{length} left that is free at {gateway} and at {cloud}. "
                "Add a pool for 'inside', or use shorter blocks ('inside: {length: 31}')"
            )
        for place in (gateway, cloud):
            at.setdefault(place, []).append(block)
        work.choose(key, str(block), why)


def _with_insides(design: Design) -> Iterator[tuple[str, str, str, Tunnel | Circuit]]:
    """Tunnels and circuits: place in the design, both ends, and what the design says."""
    for link_name, link in design.links.items():
        for name, tunnel in link.tunnels.items():
            yield link_key(link_name, "tunnels", name), tunnel.gateway, link.cloud, tunnel
    for name, circuit in design.circuits.items():
        yield circuit_key(name), circuit.gateway, circuit.cloud, circuit


def _may_repeat(
    work: Work,
    block: Prefix,
    at: dict[str, list[Prefix]],
    gateway: str,
    cloud: str,
    pools: list[Prefix],
) -> bool:
    """Whether an earlier block, used elsewhere as well, is free at both ends."""
    here = [*at.get(gateway, ()), *at.get(cloud, ())]
    return (
        any(pool.covers(block) for pool in pools)
        and not any(reserved.overlaps(block) for reserved in work.offering.reserved_inside)
        and not any(other.overlaps(block) for other in here)
    )


def _again(
    work: Work,
    length: int,
    pools: list[Prefix],
    at: dict[str, list[Prefix]],
    gateway: str,
    cloud: str,
) -> Prefix | None:
    used = [*at.get(gateway, ()), *at.get(cloud, ()), *work.offering.reserved_inside]
    for pool in pools:
        found = FreeSpace([pool], used).take(length)
        if found is not None:
            return found
    return None


DEFAULT_LOOPBACKS = (parse_prefix("192.168.255.0/24"), parse_prefix("172.31.0.0/16"))
"""Where loopbacks come from that a design needs and has no pool for."""


def settle_loopbacks(work: Work) -> None:
    """An address for each site gateway where the design has a pool for loopbacks; without one, for
    those whose sessions end at one. Raises SettleError."""
    pools = [p for level in pools_of(work, "loopbacks", None, 32) for p in level]
    named, taken, needed = bool(pools), list[Prefix](), frozenset[str]()
    if not named:
        if not (needed := _need_loopbacks(work)):
            return
        pools, taken = list(DEFAULT_LOOPBACKS), list(_taken(work))
    free = FreeSpace(pools, taken)
    blanks = []
    for site_name, site in work.design.sites.items():
        for name, gateway in site.gateways.items():
            if gateway.loopback is None and (named or name in needed):
                blanks.append(site_key(site_name, "gateways", name, "loopback"))
            elif gateway.loopback is not None:
                free.reserve(Prefix(32, parse_ipv4(gateway.loopback), 32))

    def fits(value: Value) -> bool:
        return free.reserve(Prefix(32, parse_ipv4(str(value)), 32))

    waiting = [key for key in blanks if not work.keep(key, fits)]
    for key in waiting:
        found = free.take(32)
        if found is None:
            names = pool_names(work, "loopbacks", None, 32)
            raise SettleError(f"{key}: {names} is used up. Add a pool for 'loopbacks'")
        why = f"a free address of {pool_names(work, 'loopbacks', None, 32)}"
        if not named:
            why = "its BGP sessions end at a loopback; an address that nobody has"
        work.choose(key, format_address(found.value), why)


def _need_loopbacks(work: Work) -> frozenset[str]:
    """Gateways that need one, though there is no pool: for internal BGP, which runs between
    loopbacks, or for sessions that end there. They are IPv4."""
    design = work.design
    if 32 not in families(design):
        return frozenset()
    inner = (s.gateways for s in design.sites.values() if s.internal_bgp and len(s.gateways) > 1)
    ends = (
        tunnel.gateway
        for link in design.links.values()
        if link.routing == "bgp" and link.bgp.site_end == "loopback"
        for tunnel in link.tunnels.values()
    )
    return frozenset(ends).union(*inner)


def _taken(work: Work) -> Iterator[Prefix]:
    """Every IPv4 range that is given or chosen."""
    yield from survey(work, 32).hard
    for choice in work.chosen.values():
        values = choice.value if isinstance(choice.value, list) else [choice.value]
        for value in values:
            with contextlib.suppress(AddressError):
                found = parse_prefix(str(value))
                if found.bits == 32:
                    yield found
