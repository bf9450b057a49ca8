"""The address space as lanes to be drawn: pools first, then who holds what of them."""

from __future__ import annotations

import bisect
import itertools
from collections.abc import Iterator
from dataclasses import dataclass

from obrin.core.address.prefix import Prefix
from obrin.core.address.space import summaries
from obrin.core.settled.model import Settled
from obrin.core.space.pools import PoolUse, covered, pool_uses
from obrin.core.space.view import Entry, SpaceView

USED, KEPT, OVERLAP, FOREIGN = "used", "kept", "overlap", "elsewhere"


@dataclass(frozen=True, slots=True)
class Part:
    """A range inside a lane; `state` is used, kept (for growth), overlap or elsewhere."""

    prefix: Prefix
    label: str
    state: str


@dataclass(frozen=True, slots=True)
class Lane:
    """`extent` are the ranges that the lane stretches over, side by side, in order."""

    kind: str
    title: str
    region: str
    extent: tuple[Prefix, ...]
    parts: tuple[Part, ...]

    @property
    def size(self) -> int:
        return sum(p.size for p in self.extent)

    @property
    def share(self) -> float:
        """How much of the extent is in use, from 0 to 1."""
        used = [
            part.prefix
            for part in self.parts
            if part.state != KEPT and any(e.covers(part.prefix) for e in self.extent)
        ]
        return covered(used) / self.size if self.size else 0.0


@dataclass(frozen=True, slots=True)
class Chart:
    pools: tuple[Lane, ...]
    holders: tuple[Lane, ...]
    overlaps: tuple[tuple[Entry, Entry], ...]


def chart(settled: Settled, view: SpaceView, pairs: tuple[tuple[Entry, Entry], ...]) -> Chart:
    """Everything in it is in address order within its kind. `pairs` are uses that are in each
    other's way."""
    bad = {entry for pair in pairs for entry in pair}
    uses = pool_uses(settled, view)
    pools = tuple(
        Lane(
            "pool",
            _title(settled, use),
            use.region,
            use.prefixes,
            tuple(_parts(view, use.prefixes, bad)),
        )
        for use in uses
    )
    return Chart(pools, tuple(_holders(view, pairs, bad)), pairs)


def _title(settled: Settled, use: PoolUse) -> str:
    if use.name in settled.surroundings.pools:
        return use.name
    return "inside tunnels" if use.purpose == "inside" else f"for {use.purpose}"


def _state(entry: Entry, bad: set[Entry]) -> str:
    if entry in bad:
        return OVERLAP
    if entry.kind in ("region", "site space"):
        return KEPT
    return FOREIGN if entry.kind in ("elsewhere", "forbidden by the cloud") else USED


def _parts(view: SpaceView, pool: tuple[Prefix, ...], bad: set[Entry]) -> Iterator[Part]:
    kinds = (
        "region",
        "site space",
        "network",
        "cloud space",
        "elsewhere",
        "inside",
        "loopback",
        "stands for",
    )
    for entry in view.of_kind(*kinds):
        if any(prefix.covers(entry.prefix) for prefix in pool):
            yield Part(entry.prefix, entry.owner, _state(entry, bad))


def _holders(
    view: SpaceView, pairs: tuple[tuple[Entry, Entry], ...], bad: set[Entry]
) -> Iterator[Lane]:
    """A lane for each cloud, each site, and all ranges elsewhere."""
    for kind, space, inner in (
        ("cloud", "cloud space", ("subnet", "gateway subnet")),
        ("site", "site space", ("network",)),
    ):
        held: dict[str, list[Entry]] = {}
        for entry in view.of_kind(space, *inner):
            held.setdefault(entry.place, []).append(entry)
        for place, entries in held.items():
            yield from _lanes_of(kind, place, entries, space, pairs)
    for entry in view.of_kind("elsewhere"):
        state = OVERLAP if entry in bad else FOREIGN
        part = Part(entry.prefix, entry.note or entry.owner, state)
        yield Lane("elsewhere", entry.owner, "", (entry.prefix,), (part,))


def _lanes_of(
    kind: str,
    place: str,
    entries: list[Entry],
    space: str,
    pairs: tuple[tuple[Entry, Entry], ...],
) -> Iterator[Lane]:
    """One lane for each family; what others use of it is marked where it is."""
    foreign = [
        (far, mine)
        for one, other in pairs
        for far, mine in ((one, other), (other, one))
        if mine.place == place
    ]
    for bits in (32, 128):
        mine = [e for e in entries if e.prefix.bits == bits]
        if not mine:
            continue
        spaces = [e.prefix for e in mine if e.kind == space]
        inner = [e for e in mine if e.kind != space]
        parts = [Part(e.prefix, e.network or e.kind, USED) for e in inner]
        parts += [
            Part(max(far.prefix, near.prefix, key=lambda p: p.length), far.owner, OVERLAP)
            for far, near in foreign
            if far.prefix.bits == bits
        ]
        outside = [e.prefix for e in inner if not any(s.covers(e.prefix) for s in spaces)]
        extent = tuple(summaries([*spaces, *outside]))
        yield Lane(kind, place, mine[0].region, extent, tuple(parts))


def cells(lane: Lane, width: int) -> list[str]:
    """The lane in `width` cells: the state of each, `partly` where less than half is used, or ''.

    Ranges of the extent stand side by side, each with cells for its share of the addresses.
    """
    edges = [lane.size * n // width for n in range(width + 1)]
    offsets: list[tuple[int, int, str]] = []
    begin = 0
    for block in lane.extent:
        for part in lane.parts:
            low, high = max(part.prefix.value, block.value), min(part.prefix.last, block.last)
            if part.prefix.bits == block.bits and low <= high:
                offsets.append(
                    (begin + low - block.value, begin + high - block.value + 1, part.state)
                )
        begin += block.size
    shares: list[dict[str, int]] = [{} for _ in range(width)]
    for first, end, state in offsets:
        at = max(bisect.bisect_right(edges, first) - 1, 0)
        while at < width and edges[at] < end:
            shared = min(end, edges[at + 1]) - max(first, edges[at])
            if shared > 0:
                shares[at][state] = shares[at].get(state, 0) + shared
            at += 1
    return [
        _cell(found, max(high - low, 1))
        for found, (low, high) in zip(shares, itertools.pairwise(edges), strict=True)
    ]


def _cell(shares: dict[str, int], size: int) -> str:
    if OVERLAP in shares:
        return OVERLAP
    taken = {s: n for s, n in shares.items() if s != KEPT}
    if sum(taken.values()) * 2 >= size:
        return max(taken, key=taken.__getitem__)
    if taken:
        return "partly"
    return KEPT if KEPT in shares else ""
