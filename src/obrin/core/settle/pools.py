"""Which pools serve whom: those of the design, and private space where it names none."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from obrin.core.address.groups import Rooms
from obrin.core.address.prefix import LINK_LOCAL_IPV4, Prefix, parse_prefix
from obrin.core.address.space import FreeSpace, free_blocks
from obrin.core.settle.work import Work

_IN_TEN = {
    "low": parse_prefix("10.0.0.0/10"),
    "middle": parse_prefix("10.64.0.0/10"),
    "high": parse_prefix("10.128.0.0/9"),
}
_OTHERS = (parse_prefix("172.16.0.0/12"), parse_prefix("192.168.0.0/16"))
DEFAULTS = {
    # Clouds from the middle of 10/8, since everybody begins at its start.
    "clouds": (_IN_TEN["middle"], _IN_TEN["low"], _IN_TEN["high"], *_OTHERS),
    "sites": (_IN_TEN["high"], _IN_TEN["low"], _IN_TEN["middle"], *_OTHERS),
    "translation": (_IN_TEN["middle"], _IN_TEN["high"], _IN_TEN["low"], *_OTHERS),
    "inside": (LINK_LOCAL_IPV4,),
}

Claimant = tuple[str, str | None, str]
"""Purpose, region, and a name: what asks for blocks."""


def unique_local_part(ula: Prefix, purpose: str) -> Prefix:
    """The part of a unique local /48 that serves a purpose: half to sites, the rest by need."""
    value, sixteen = ula.value, 1 << 80
    parts = {
        "sites": Prefix(128, value, 49),
        "clouds": Prefix(128, value + sixteen // 2, 50),
        "translation": Prefix(128, value + sixteen // 4 * 3, 52),
        "inside": Prefix(128, value + sixteen - (1 << 72), 56),
        "loopbacks": Prefix(128, value + sixteen - (2 << 72), 56),
    }
    return parts[purpose]


def default_pools(work: Work, purpose: str, bits: int) -> tuple[Prefix, ...]:
    """Pools of a purpose for which the design names none."""
    if bits == 32:
        return DEFAULTS.get(purpose, ())
    return (unique_local_part(work.prefix_of("ula", work.design.ula), purpose),)


def pools_of(work: Work, purpose: str, region: str | None, bits: int) -> list[tuple[Prefix, ...]]:
    """Levels of preference: pools of the region, general pools, or else the default ones."""
    named = [
        pool
        for pool in work.design.pools.values()
        if pool.purpose == purpose and pool.prefixes[0].bits == bits
    ]
    if not named:
        others = [
            prefix
            for pool in work.design.pools.values()
            for prefix in pool.prefixes
            if prefix.bits == bits
        ]
        return [
            tuple(blocks)
            for pool in default_pools(work, purpose, bits)
            if (blocks := list(free_blocks([pool], others)))
        ]
    own = [pool.prefixes for pool in named if pool.region is not None and pool.region == region]
    general = [pool.prefixes for pool in named if pool.region is None]
    return [*own, *general]


def pool_names(work: Work, purpose: str, region: str | None, bits: int) -> str:
    """The same for a message."""
    named = {
        name: pool
        for name, pool in work.design.pools.items()
        if pool.purpose == purpose and pool.prefixes[0].bits == bits
    }
    found = [
        f"{name} ({', '.join(map(str, pool.prefixes))})"
        for name, pool in named.items()
        if pool.region in (None, region)
    ]
    if found:
        return ", ".join(found)
    if named:
        # Every one of them is for a region, and none for this one: they are not fallen back from.
        regions = ", ".join(dict.fromkeys(str(pool.region) for pool in named.values()))
        where = f"region {region}" if region else "places without a region"
        return f"any pool (none is for {where}; those for {purpose} are for {regions})"
    return ", ".join(map(str, default_pools(work, purpose, bits))) or "no pool"


def pool_of(work: Work, purpose: str, block: Prefix) -> str:
    """The pool that a block was taken from, for a message."""
    for name, pool in work.design.pools.items():
        for prefix in pool.prefixes:
            if pool.purpose == purpose and prefix.covers(block):
                return f"pool {name} ({prefix})"
    defaults = default_pools(work, purpose, block.bits)
    return next((str(prefix) for prefix in defaults if prefix.covers(block)), "its old place")


def rooms_for(
    work: Work, claimants: Iterable[Claimant], bits: int, used: Sequence[Prefix]
) -> Rooms[Claimant]:
    """Free space of all pools that serve these claimants, around what is used."""
    spaces: list[FreeSpace] = []
    index: dict[tuple[Prefix, ...], int] = {}
    levels: dict[tuple[str, str | None], list[int]] = {}
    family = sorted(p for p in used if p.bits == bits)
    for purpose, region, _ in claimants:
        if (purpose, region) in levels:
            continue
        mine = levels[purpose, region] = []
        for pool in pools_of(work, purpose, region, bits):
            if pool not in index:
                index[pool] = len(spaces)
                spaces.append(FreeSpace(pool, family))
            mine.append(index[pool])
    return Rooms(spaces, lambda claimant: levels[claimant[0], claimant[1]], bits)
