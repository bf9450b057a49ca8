"""Address space of clouds and sites, and the networks inside it, placed together.

Whatever is new is placed in one go, the large first, so that if everything fits somehow, it is
found to fit. Several ways are tried, the tidiest first: with room to grow beside each cloud;
regions in blocks of their own, so that each can be announced as one prefix; sites and clouds in
blocks of their own; and at last every network wherever there is room. Values that were chosen
before are not touched by any of them: what does not fit where its owner is gets a further block.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from enum import Enum
from functools import partial

from obrin.core.address.groups import Rooms, fits, place_groups
from obrin.core.address.prefix import Prefix
from obrin.core.address.space import FreeSpace, summaries
from obrin.core.errors import SettleError
from obrin.core.quantity import plain
from obrin.core.settle.blank import Blank, region_key, suffix
from obrin.core.settle.bottleneck import no_room, no_room_inside
from obrin.core.settle.holders import USUAL_SPACE, USUAL_SPACE6, Holder, Occupied, survey
from obrin.core.settle.left import SetAside
from obrin.core.settle.pools import Claimant, pool_of, pools_of, rooms_for
from obrin.core.settle.work import Work, block_length

Placed = dict[Claimant, list[Prefix]]
Claims = dict[Claimant, list[int]]
IsFree = Callable[[Prefix], bool]
MOST_DOUBLINGS = 4
"""How often a block is doubled in place before another one is taken."""


class _Ease(Enum):
    """How much room is asked for: to grow in place, to grow inside, no more than needed."""

    SPREAD = 0
    ROOMY = 1
    TIGHT = 2
    PIECES = 3


@dataclass(slots=True)
class _Plan:
    """Blocks for the claims, and the blocks that regions hold."""

    placed: Placed = field(default_factory=dict)
    regions: dict[tuple[str, str], list[Prefix]] = field(default_factory=dict)


def settle_spaces(work: Work, bits: int) -> None:
    """Raises SettleError naming the bottleneck."""
    found = survey(work, bits)
    for holder in found.holders:
        if holder.fixed and not fits(Rooms([holder.inner]), {"": list(holder.missing.values())}):
            raise SettleError(no_room_inside(holder))
        _fill(work, holder, holder.inner, holder.missing, bits)
        if holder.missing:
            _grow_in_place(work, holder, found)
    kept = {group: _region_blocks(work, bits, group) for group in _regions_of(work)}
    plan = _best_plan(work, found) if _claims(work, found, _Ease.TIGHT) else _Plan()
    plan.regions = kept | plan.regions
    _write(work, found, plan)


def _claims(work: Work, found: Occupied, ease: _Ease) -> Claims:
    claims: Claims = {}
    for holder in found.holders:
        if not holder.missing:
            continue
        lengths = sorted(holder.missing.values())
        if ease is not _Ease.PIECES:
            roomy = ease in (_Ease.SPREAD, _Ease.ROOMY)
            lengths = _blocks_wanted(work, holder, lengths, found.bits, roomy)
            if ease is _Ease.SPREAD and holder.is_cloud:
                largest = work.offering.of(holder.name).largest_space
                lengths = [max(n - 1, largest) for n in lengths]
        claims[holder.claimant()] = lengths
    return claims


def _blocks_wanted(
    work: Work, holder: Holder, lengths: list[int], bits: int, roomy: bool
) -> list[int]:
    if not holder.is_cloud:
        growth = holder.growth or 1.0
        return [block_length(bits, lengths, growth)] if growth > 1 else lengths
    if holder.blocks:
        return [block_length(bits, lengths, 1.0)]
    length = block_length(bits, lengths, holder.growth or (2.0 if roomy else 1.0))
    if bits == 128:
        return [min(length, USUAL_SPACE6)]
    # None that the cloud refuses.
    least = min(length, USUAL_SPACE) if roomy and holder.growth is None else length
    return [max(least, work.offering.of(holder.name).largest_space)]


def _best_plan(work: Work, found: Occupied) -> _Plan:
    spare = found.hard + found.soft + work.left_prefixes(found.bits, inside=False)
    tried: list[Claims] = []
    for ease in (_Ease.SPREAD, _Ease.ROOMY, _Ease.TIGHT):
        claims = _claims(work, found, ease)
        if claims in tried:
            continue
        tried.append(claims)
        plan = _by_region(work, found, claims, spare)
        if plan is None:
            placed = place_groups(rooms_for(work, claims, found.bits, spare), claims)
            plan = _Plan(placed) if placed is not None else None
        if plan is not None:
            if ease is _Ease.SPREAD:
                _halve(found, plan)
            return plan
    # Even what sites hold spare is used, piece by piece, before anything is refused.
    pieces = _claims(work, found, _Ease.PIECES)
    rooms = rooms_for(work, pieces, found.bits, found.hard)
    placed = place_groups(rooms, pieces)
    if placed is None:
        raise SettleError(no_room(work, found, pieces, rooms))
    return _Plan(placed)


def _halve(found: Occupied, plan: _Plan) -> None:
    """A new cloud takes the first half of its block; the other half stays free to grow into."""
    for holder in found.holders:
        if holder.is_cloud and holder.missing:
            blocks = plan.placed[holder.claimant()]
            need = block_length(found.bits, list(holder.missing.values()), 1.0)
            plan.placed[holder.claimant()] = [
                Prefix(b.bits, b.value, b.length + 1) if b.length < need else b for b in blocks
            ]


def _regions_of(work: Work) -> list[tuple[str, str]]:
    found = {("clouds", c.region): None for c in work.design.clouds.values() if c.region}
    found |= {("sites", s.region): None for s in work.design.sites.values() if s.region}
    return [(purpose, str(region)) for purpose, region in found]


def _region_blocks(work: Work, bits: int, group: tuple[str, str]) -> list[Prefix]:
    purpose, region = group
    return work.earlier_prefixes(region_key(region, purpose, bits=bits), bits)


def _by_region(work: Work, found: Occupied, claims: Claims, used: list[Prefix]) -> _Plan | None:
    """Every region in blocks of its own: first in those it has, then in these widened, then new."""
    bits = found.bits
    grouped: dict[tuple[str, str], Claims] = {}
    wanted: Claims = {}
    for claimant, lengths in claims.items():
        if claimant[1] is None:
            wanted[claimant] = lengths
        else:
            grouped.setdefault((claimant[0], claimant[1]), {})[claimant] = lengths
    plan = _Plan(regions={group: _region_blocks(work, bits, group) for group in _regions_of(work)})
    reserved = [block for blocks in plan.regions.values() for block in blocks]
    rooms = rooms_for(work, claims, bits, used + reserved)
    waiting: dict[Claimant, Claims] = {}
    for group, members in grouped.items():
        inside = FreeSpace(plan.regions[group], used)
        rest = _place_each(inside, members, plan.placed, bits)
        if not rest:
            continue
        speaker: Claimant = (*group, "")
        if _widen_region(rooms, speaker, plan.regions[group], inside, rest):
            _place_each(inside, rest, plan.placed, bits)
            continue
        waiting[speaker] = rest
        wanted[speaker] = [block_length(bits, lengths, 1.0) for lengths in rest.values()]
    blocks = place_groups(rooms, wanted)
    if blocks is None:
        return None
    for claimant, got in blocks.items():
        if claimant not in waiting:
            plan.placed[claimant] = got
            continue
        plan.regions[claimant[0], str(claimant[1])] += got
        if _place_each(FreeSpace(got), waiting[claimant], plan.placed, bits):
            return None
    return plan


def _place_each(inside: FreeSpace, members: Claims, placed: Placed, bits: int) -> Claims:
    """Give each member one block in a region's free space, the large first; returns the rest."""
    rest = {}
    sizes = {claimant: block_length(bits, lengths, 1.0) for claimant, lengths in members.items()}
    for claimant in sorted(members, key=sizes.__getitem__):
        block = inside.take(sizes[claimant])
        if block is None:
            rest[claimant] = members[claimant]
        else:
            placed[claimant] = [block]
    return rest


def _widen_region(
    rooms: Rooms[Claimant],
    speaker: Claimant,
    blocks: list[Prefix],
    inside: FreeSpace,
    rest: Claims,
) -> bool:
    """Double one of a region's blocks, while its neighbour is free, until the rest fits."""
    wanted = [block_length(rooms.bits, lengths, 1.0) for lengths in rest.values()]
    for index, block in enumerate(blocks):
        grown = _doubled(block, inside, wanted, lambda p: rooms.is_free(speaker, p))
        if grown is not None:
            wide, added = grown
            for piece in added:
                rooms.reserve(piece)
                inside.give(piece)
            blocks[index] = wide
            return True
    return False


def _doubled(
    block: Prefix, inside: FreeSpace, wanted: list[int], is_free: IsFree
) -> tuple[Prefix, list[Prefix]] | None:
    """A block doubled over free neighbours until what is wanted fits, and these neighbours."""
    trial, wide, added = inside.copy(), block, []
    for _ in range(MOST_DOUBLINGS):
        if wide.length == 0 or not is_free(wide.buddy):
            return None
        added.append(wide.buddy)
        trial.give(wide.buddy)
        wide = wide.widened(wide.length - 1)
        if fits(Rooms([trial]), {"": wanted}):
            return wide, added
    return None


def _fill(work: Work, holder: Holder, free: FreeSpace, missing: dict[str, int], bits: int) -> None:
    """Place what is missing in free space, the large first, so that the small spoil nothing."""
    aside = SetAside([free], work.left_prefixes(bits, inside=False))
    for key, length in sorted(missing.items(), key=lambda item: item[1]):
        gateway = Blank.of(key).gateway_subnet
        prefix = aside.taken(partial(free.take_last if gateway else free.take, length))
        if prefix is None:
            continue
        del holder.missing[key]
        why = f"a free /{length} of the space of {holder.name}"
        if gateway:
            why = (
                f"the last free /{length} of the space: what its class asks for, and room for the "
                "instances beside what the cloud keeps"
            )
        work.choose(key, str(prefix), why)
    aside.give_back()


def _grow_in_place(work: Work, holder: Holder, found: Occupied) -> None:
    """Double one of a holder's blocks, while its neighbour is free, until all fits."""
    wanted = list(holder.missing.values())
    others = [
        block
        for group in _regions_of(work)
        if group != (holder.kind, holder.region)
        for block in _region_blocks(work, found.bits, group)
    ]
    pools = [p for level in pools_of(work, holder.kind, holder.region, found.bits) for p in level]

    def is_free(buddy: Prefix) -> bool:
        return (
            found.taken.is_free(buddy)
            and any(pool.covers(buddy) for pool in pools)
            and not any(block.overlaps(buddy) for block in others)
        )

    for index, block in enumerate(holder.blocks):
        grown = _doubled(block, holder.inner, wanted, is_free)
        largest = work.offering.of(holder.name).largest_space
        if grown is None or (found.bits == 32 and grown[0].length < largest):
            continue
        holder.blocks[index], added = grown
        for piece in added:
            found.taken.reserve(piece)
            holder.inner.give(piece)
            found.hold(holder, piece)
        _fill(work, holder, holder.inner, holder.missing, found.bits)
        return


def _size_words(holder: Holder, lengths: list[int], bits: int) -> str:
    """Why a new cloud's space is as large as it is."""
    if not holder.is_cloud or bits == 128 or len(holder.blocks) != 1 or not lengths:
        return ""
    least = block_length(bits, lengths, 1.0)
    mine = holder.blocks[0].length
    parts = ", ".join(f"/{length}" for length in sorted(lengths))
    if holder.growth is not None:
        grown = f", with room to grow by {plain((holder.growth - 1) * 100)} %"
        if holder.growth == 1:
            grown = ", and none to spare, as asked"
        return f"; a /{mine} for its subnets and gateway ({parts}){grown}"
    if mine < least - 1:
        return f"; a /{mine} is usual, its subnets and gateway ({parts}) need a /{least}"
    twice = ", once doubled" if mine < least else ""
    return f"; a /{mine} for its subnets and gateway ({parts}){twice}"


def _write(work: Work, found: Occupied, plan: _Plan) -> None:
    bits, tail = found.bits, suffix(found.bits)
    asked = {holder.claimant(): list(holder.missing.values()) for holder in found.holders}
    for holder in found.holders:
        blocks = plan.placed.get(holder.claimant(), [])
        holder.blocks += blocks
        _fill(work, holder, FreeSpace(blocks), holder.missing, bits)
        if holder.fixed:
            continue
        texts = [str(block) for block in summaries(holder.blocks)]
        if not holder.blocks:
            continue
        pool = pool_of(work, holder.kind, holder.blocks[-1])
        why = f"free room of {pool}, clear of every site, cloud and range elsewhere"
        why += _size_words(holder, asked.get(holder.claimant(), []), bits)
        work.choose(f"{holder.place}.space{tail}", texts[0] if len(texts) == 1 else texts, why)
    for (purpose, region), held in plan.regions.items():
        if held:
            listed = [str(block) for block in summaries(held)]
            why = f"kept for the {purpose} of {region}, so that few prefixes announce them all"
            work.choose(region_key(region, purpose) + tail, listed, why)
