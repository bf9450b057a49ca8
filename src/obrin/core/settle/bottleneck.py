"""Explain wishes that do not fit: what runs out where, and the smallest changes that would cure
it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence

from obrin.core.address.groups import Rooms, fits
from obrin.core.address.prefix import Prefix
from obrin.core.address.space import FreeSpace
from obrin.core.settle.holders import Holder, Occupied, survey
from obrin.core.settle.pools import Claimant, pool_names, rooms_for
from obrin.core.settle.work import Work

MOST_TRIED = 400
"""How many ranges that stand in the way are tried, the smallest first."""


def _largest(free: Iterable[FreeSpace]) -> str:
    found = [length for space in free if (length := space.largest()) is not None]
    return f"the largest free block is a /{min(found)}" if found else "nothing is free"


def no_room(
    work: Work, found: Occupied, claims: Mapping[Claimant, Sequence[int]], rooms: Rooms[Claimant]
) -> str:
    """A message that names what cannot be placed, why, and what would cure it."""
    purpose, region, name = claimant = _stuck(claims, rooms)
    bits = found.bits
    length = min(claims[claimant])
    count = Counter(n for lengths in claims.values() for n in lengths)
    free = rooms.of(claimant)
    slots = sum(space.slots(length) for space in free)
    asked = sum(c for n, c in count.items() if n == length)
    where = pool_names(work, purpose, region, bits)
    kind = "address space" if purpose == "clouds" else "networks"
    lines = [
        f"{purpose}.{name}: no room for its {kind}. {asked} blocks of /{length} are asked and "
        f"{where} can hold {slots} beside what is larger; {_largest(free)}"
        if asked > 1
        else f"{purpose}.{name}: no free /{length} in {where}; {_largest(free)}"
    ]
    cures = list(_cures(work, found, claims, claimant))
    lines += [f"  - {cure}" for cure in cures]
    return "\n".join([lines[0] + ". Any one of these would cure it:", *lines[1:]])


def _stuck(claims: Mapping[Claimant, Sequence[int]], rooms: Rooms[Claimant]) -> Claimant:
    """The first claim, the large first, for which nothing is left."""
    trial = rooms.copy()
    order = sorted((n, i, c) for i, c in enumerate(claims) for n in claims[c])
    for length, _, claimant in order:
        if trial.take(claimant, length) is None:
            return claimant
    return order[0][2]


def _cures(
    work: Work, found: Occupied, claims: Mapping[Claimant, Sequence[int]], stuck: Claimant
) -> Iterator[str]:
    bits = found.bits
    rooms = rooms_for(work, claims, bits, found.hard)
    others = {c: n for c, n in claims.items() if c != stuck}
    smaller = _smaller(claims, stuck, rooms)
    if smaller is not None:
        yield f"ask for less: {stuck[0]}.{stuck[2]} fits with {smaller}"
    elif fits(rooms, others):
        yield f"leave out {stuck[0]}.{stuck[2]}: all others fit"
    length = _missing_pool(work, claims, stuck, bits, found.hard)
    if length is not None:
        where = f" and region {stuck[1]}" if stuck[1] else ""
        yield f"add a pool of a /{length} for {stuck[0]}{where}"
    obstacle = _obstacle(work, found, claims)
    if obstacle is not None:
        yield f"free {obstacle}"
    if not fits(rooms, claims) and _fits_anew(work, claims, bits):
        yield "let what was settled before move: 'obrin settle --anew all' (values change!)"


def _smaller(
    claims: Mapping[Claimant, Sequence[int]], stuck: Claimant, rooms: Rooms[Claimant]
) -> str | None:
    """The least that has to be given up of what is stuck: its largest block, made smaller."""
    lengths = sorted(claims[stuck])
    for length in range(lengths[0] + 1, min(lengths[0] + 9, rooms.bits)):
        less = [max(n, length) for n in lengths]
        if fits(rooms, {**claims, stuck: less}):
            return f"blocks no larger than a /{length}"
    return None


def _missing_pool(
    work: Work,
    claims: Mapping[Claimant, Sequence[int]],
    stuck: Claimant,
    bits: int,
    hard: Sequence[Prefix],
) -> int | None:
    """The length of the smallest further pool with which everything fits."""
    rooms = rooms_for(work, claims, bits, hard)
    total = sum(1 << (bits - n) for lengths in claims.values() for n in lengths)
    for length in range(min(claims[stuck]), -1, -1):
        # Room that nobody else has, put at the end of the pools of the one that is stuck.
        extra = FreeSpace([Prefix(bits, 0, length)])
        trial: Rooms[Claimant] = Rooms(
            [*rooms.spaces, extra],
            lambda c: [
                *(rooms.spaces.index(space) for space in rooms.of(c)),
                *([len(rooms.spaces)] if c[:2] == stuck[:2] else []),
            ],
        )
        if fits(trial, claims):
            return length
        if 1 << (bits - length) > 2 * total:
            break
    return None


def _obstacle(work: Work, found: Occupied, claims: Mapping[Claimant, Sequence[int]]) -> str | None:
    """The smallest single range elsewhere whose going would cure it."""
    named = sorted(
        (
            (entry.prefix, name)
            for name, entry in work.design.elsewhere.items()
            if entry.prefix.bits == found.bits
        ),
        key=lambda item: item[0].size,
    )
    for prefix, name in named[:MOST_TRIED]:
        rest = list(found.hard)
        rest.remove(prefix)
        if fits(rooms_for(work, claims, found.bits, rest), claims):
            return f"{prefix} of {name} (elsewhere)"
    return None


def _fits_anew(work: Work, claims: Mapping[Claimant, Sequence[int]], bits: int) -> bool:
    """Whether everything would fit if no earlier choice had to stay."""
    if not work.previous:
        return False
    fresh = Work(
        design=work.design,
        previous={},
        offering=work.offering,
        suites=work.suites,
        needs=work.needs,
        random=work.random,
        chosen=dict(work.chosen),
    )
    bare = survey(fresh, bits)
    wanted = {h.claimant(): list(h.missing.values()) for h in bare.holders if h.missing}
    return fits(rooms_for(fresh, wanted, bits, bare.hard), wanted)


def no_room_inside(holder: Holder) -> str:
    """The same for a cloud whose space the design gives."""
    bits = holder.inner.bits
    trial = holder.inner.copy()
    order = sorted(holder.missing.items(), key=lambda item: item[1])
    key, length = next((k, n) for k, n in order if trial.take(n) is None)
    held = ", ".join(map(str, holder.blocks))
    cures = []
    smaller = next(
        (
            n
            for n in range(length + 1, min(length + 9, bits - 1))
            if fits(
                Rooms([holder.inner]),
                {"": [n if k == key else v for k, v in holder.missing.items()]},
            )
        ),
        None,
    )
    if smaller is not None:
        hosts = (1 << (bits - smaller)) - 4
        cures.append(f"ask for less: {key} fits as a /{smaller}, which holds {hosts} hosts")
    need = sum(1 << (bits - n) for n in holder.missing.values())
    further = bits - (need - 1).bit_length()
    cures.append(f"give {holder.place}.space a further prefix, a /{further}, or leave it blank")
    if holder.kept:
        cures.append(f"let it move: 'obrin settle --anew {holder.place}' (its values change!)")
    head = f"{key}: no free /{length} in {held}; {_largest([holder.inner])}"
    return "\n".join([head + ". Any one of these would cure it:", *(f"  - {c}" for c in cures)])
