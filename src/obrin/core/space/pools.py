"""How full each pool is, and what is free in it."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

from obrin.core.address.nested import overlapping_pairs
from obrin.core.address.prefix import Prefix
from obrin.core.address.space import FreeSpace, merged, summaries
from obrin.core.naming import unknown
from obrin.core.settle.pools import DEFAULTS, unique_local_part
from obrin.core.settled.model import Settled
from obrin.core.space.view import Entry, SpaceView

PURPOSES = ("sites", "clouds", "translation", "inside", "loopbacks")
_KINDS = {
    "sites": ("network", "site space"),
    "clouds": ("cloud space",),
    "inside": ("inside",),
    "loopbacks": ("loopback",),
    "translation": ("stands for",),
}


_TAKEN = (
    "network",
    "subnet",
    "gateway subnet",
    "cloud space",
    "site space",
    "elsewhere",
    "inside",
    "loopback",
    "stands for",
    "forbidden by the cloud",
)


@dataclass(frozen=True, slots=True, kw_only=True)
class PoolUse:
    """`taken` are ranges of the pool that somebody has; addresses are counted once."""

    name: str
    purpose: str
    region: str
    prefixes: tuple[Prefix, ...]
    taken: tuple[Prefix, ...]
    free: FreeSpace

    @property
    def size(self) -> int:
        return sum(p.size for p in summaries(self.prefixes))

    @property
    def used(self) -> int:
        return self.size - self.free.size


def pool_uses(settled: Settled, view: SpaceView) -> list[PoolUse]:
    """The design's pools, and the default ones from which something was taken."""
    found = []
    named = {(p.purpose, p.prefixes[0].bits) for p in settled.surroundings.pools.values()}
    for name, pool in settled.surroundings.pools.items():
        found.append(_use(name, pool.purpose, pool.region or "", pool.prefixes, view))
    seen: dict[Prefix, list[str]] = {}
    for purpose in PURPOSES:
        if (purpose, 32) not in named:
            for prefix in DEFAULTS.get(purpose, ()):
                if _serves(prefix, purpose, view):
                    seen.setdefault(prefix, []).append(purpose)
        ula = _ula(settled, view)
        if ula is not None and (purpose, 128) not in named:
            prefix = unique_local_part(ula, purpose)
            if _serves(prefix, purpose, view):
                seen.setdefault(prefix, []).append(purpose)
    for prefix, purposes in seen.items():
        found.append(_use(str(prefix), " and ".join(purposes), "", (prefix,), view))
    return found


def _ula(settled: Settled, view: SpaceView) -> Prefix | None:
    """The unique local /48, where the design carries IPv6."""
    if 128 not in settled.families:
        return None
    given = settled.surroundings.ula
    if given is not None:
        return given
    inside = next((e.prefix for e in view.of_kind("inside") if e.prefix.bits == 128), None)
    return None if inside is None else inside.widened(48)


def _serves(pool: Prefix, purpose: str, view: SpaceView) -> bool:
    return any(pool.covers(e.prefix) for e in view.of_kind(*_KINDS[purpose]))


def _use(
    name: str, purpose: str, region: str, prefixes: tuple[Prefix, ...], view: SpaceView
) -> PoolUse:
    kinds: tuple[str, ...] = _TAKEN
    if "inside" in purpose:
        kinds = ("inside", "elsewhere", "reserved by the cloud")
    taken = [
        e.prefix
        for e in view.entries
        if e.kind in kinds and any(pool.overlaps(e.prefix) for pool in prefixes)
    ]
    free = FreeSpace(prefixes, taken)
    return PoolUse(
        name=name,
        purpose=purpose,
        region=region,
        prefixes=prefixes,
        taken=tuple(summaries(taken)),
        free=free,
    )


def pool_named(uses: list[PoolUse], name: str) -> PoolUse:
    """Raises ObrinError naming the pools there are."""
    for use in uses:
        if use.name == name:
            return use
    raise unknown("pool", name, (use.name for use in uses))


def free_of_length(use: PoolUse, length: int, count: int) -> list[Prefix]:
    """The blocks of a length that would be taken next, at most `count`."""
    trial = use.free.copy()
    found: list[Prefix] = []
    while len(found) < count and (block := trial.take(length)) is not None:
        found.append(block)
    return found


def overlapping(
    view: SpaceView, contested: Callable[[Entry, Entry], object] = lambda one, other: True
) -> Iterator[tuple[Entry, Entry]]:
    """Pairs of uses by different owners that share addresses, outer first. Only those that are
    `contested`."""
    kinds = ("network", "cloud space", "elsewhere", "stands for", "loopback")
    entries = list(view.of_kind(*kinds))
    for outer, inner in overlapping_pairs([e.prefix for e in entries]):
        one, other = entries[outer], entries[inner]
        if one.kind == other.kind == "elsewhere":
            continue  # what others do among themselves
        if contested(one, other):
            yield one, other


def covered(prefixes: list[Prefix]) -> int:
    """Addresses covered by prefixes of one family, each counted once."""
    return sum(last - first + 1 for first, last in merged(prefixes))
