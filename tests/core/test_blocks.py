"""Free room, groups and summaries against brute force on small spaces."""

from __future__ import annotations

import itertools

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from obrin.core.address.covering import DENSE, Ranges, covering
from obrin.core.address.groups import Rooms, coverings, fits, place_groups
from obrin.core.address.prefix import Prefix, parse_prefix
from obrin.core.address.space import (
    FreeSpace,
    free_blocks,
    free_ranges,
    range_blocks,
    smallest_cover,
    summaries,
)
from obrin.core.address.translation import Exposure
from obrin.core.address.ula import UNIQUE_LOCAL, unique_local_prefix
from obrin.core.errors import AddressError

P = parse_prefix
POOL = P("10.0.0.0/28")
inside = st.builds(
    lambda v, n: Prefix(32, POOL.value + (v >> (32 - n) << (32 - n)), n),
    st.integers(0, 15),
    st.integers(29, 32),
)
used_lists = st.lists(inside, max_size=5)


def addresses(prefixes) -> set[int]:
    return {a for p in prefixes for a in range(p.value, p.last + 1)}


def exists(pool: Prefix, used: list[Prefix], lengths: list[int]) -> bool:
    """Brute force: whether some choice of aligned blocks is disjoint and free."""
    taken = addresses(used)
    if not lengths:
        return True
    for block in pool.children(lengths[0]) if lengths[0] >= pool.length else ():
        cells = addresses([block])
        if not cells & taken and exists(pool, [*used, block], lengths[1:]):
            return True
    return False


@given(used_lists, st.integers(28, 32))
def test_a_block_is_taken_if_one_is_free_and_is_free_and_aligned(used, length: int) -> None:
    free = [b for b in POOL.children(length) if not addresses([b]) & addresses(used)]
    space = FreeSpace([POOL], used)
    assert space.slots(length) == len(free)
    found = space.find(length)
    assert (found is None) == (not free)
    last = space.copy().take_last(length)
    assert last == (free[-1] if free else None)
    if found is not None:
        assert found in free
        assert space.is_free(found)
        assert space.reserve(found)
        assert not space.is_free(found)
        assert not space.reserve(found)
        space.give(found)
        assert space.blocks() == FreeSpace([POOL], used).blocks()


@given(used_lists)
def test_free_room_is_exactly_what_nobody_uses(used) -> None:
    free = addresses([POOL]) - addresses(used)
    space = FreeSpace([POOL], used)
    assert addresses(space.blocks()) == free
    assert space.size == len(free)
    assert addresses(free_blocks([POOL, POOL], used)) == free
    ranges = list(free_ranges(POOL, used))
    assert {a for low, high in ranges for a in range(low, high + 1)} == free
    largest = space.largest()
    assert largest == min((b.length for b in free_blocks([POOL], used)), default=None)


@settings(max_examples=100)
@given(used_lists, st.lists(st.integers(29, 32), min_size=1, max_size=6))
def test_large_before_small_is_complete(used, lengths) -> None:
    rooms = Rooms([FreeSpace([POOL], used)])
    assert fits(rooms, {"x": lengths}) == exists(POOL, used, sorted(lengths))


@settings(max_examples=60)
@given(
    used_lists,
    st.lists(st.lists(st.integers(29, 32), min_size=1, max_size=3), min_size=1, max_size=3),
)
def test_groups_fit_whenever_their_wishes_do(used, groups) -> None:
    wanted = dict(enumerate(groups))
    rooms = Rooms([FreeSpace([POOL], used)])
    every = sorted(n for lengths in groups for n in lengths)
    placed = place_groups(rooms, wanted)
    assert (placed is not None) == exists(POOL, used, every)
    if placed is None:
        assert rooms.spaces[0].blocks() == FreeSpace([POOL], used).blocks()
        return
    blocks = [b for found in placed.values() for b in found]
    assert not any(
        a.overlaps(b) for a, b in itertools.combinations([*blocks, *set(used)], 2) if a in blocks
    )
    for number, lengths in wanted.items():
        inner = FreeSpace(placed[number])
        assert all(inner.take(n) is not None for n in sorted(lengths))


@settings(max_examples=100)
@given(used_lists, st.lists(st.integers(29, 32), min_size=1, max_size=5))
def test_one_group_gets_the_fewest_blocks_that_any_covering_has(used, lengths) -> None:
    placed = place_groups(Rooms([FreeSpace([POOL], used)]), {"x": lengths})
    possible = [c for c in coverings(32, lengths) if exists(POOL, used, sorted(c))]
    assert (len(placed["x"]) if placed else None) == min(map(len, possible), default=None)


def test_a_pool_of_its_own_comes_first_and_general_room_after() -> None:
    own, general = FreeSpace([P("10.1.0.0/24")]), FreeSpace([P("10.2.0.0/24")])
    rooms = Rooms([own, general], lambda group: [0, 1] if group == "north" else [1])
    placed = place_groups(rooms, {"north": [25, 25, 25], "south": [26]})
    assert placed is not None
    assert [str(b) for b in placed["north"]] == ["10.1.0.0/24", "10.2.0.0/25"]
    assert placed["south"] == [P("10.2.0.128/26")]
    assert rooms.is_free("south", P("10.2.0.192/26"))


@given(st.lists(inside, max_size=8))
def test_summaries_are_exact_and_the_fewest(prefixes) -> None:
    found = summaries(prefixes)
    assert addresses(found) == addresses(prefixes)
    assert not any(a.overlaps(b) for a, b in itertools.combinations(found, 2))
    # None could be joined with its neighbour, so no smaller exact cover exists.
    assert not any(
        a.length == b.length and a.value ^ b.value == a.size
        for a, b in itertools.combinations(found, 2)
    )
    if prefixes:
        cover = smallest_cover(prefixes)
        assert all(cover.covers(p) for p in prefixes)
        halves = cover.children(cover.length + 1) if cover.length < 32 else ()
        assert not any(all(half.covers(p) for p in prefixes) for half in halves)


def test_both_families_are_summed_up_apart() -> None:
    mixed = [P("2001:db8::/33"), P("10.0.0.0/9"), P("2001:db8:8000::/33"), P("10.128.0.0/9")]
    assert summaries(mixed) == [P("10.0.0.0/8"), P("2001:db8::/32")]
    whole = [P("0.0.0.0/1"), P("128.0.0.0/1")]
    assert summaries(whole) == [P("0.0.0.0/0")]
    assert list(range_blocks(128, 0, 2**128 - 1)) == [P("::/0")]


def test_unique_local_prefixes_follow_rfc_4193() -> None:
    made = unique_local_prefix(bytes.fromhex("0102030405"))
    assert str(made) == "fd01:203:405::/48"
    assert UNIQUE_LOCAL.covers(made)
    with pytest.raises(ValueError, match="5 bytes, not 4"):
        unique_local_prefix(bytes(4))


def test_one_to_one_translation_keeps_the_host_part() -> None:
    part = Exposure("lan", P("10.20.0.0/22"), P("10.99.4.0/22"))
    address = P("10.20.0.0/22").address_at(0x207)
    assert part.translated
    assert str(part.outward(address)) == "10.99.6.7"
    assert part.inward(part.outward(address)) == address
    assert part.outward_prefix(P("10.20.1.0/24")) == P("10.99.5.0/24")
    with pytest.raises(AddressError, match="not as large"):
        Exposure("lan", P("10.20.0.0/22"), P("10.99.0.0/24"))


@settings(max_examples=150)
@given(used_lists, used_lists)
def test_covers_hold_nothing_of_others_and_are_no_wider_than_needed(told, others) -> None:
    known = [*told, *others]
    found = covering(told, Ranges(known))
    mine, covered = addresses(told), addresses(found)
    assert mine <= covered
    assert len(found) <= len(summaries(told))
    for other in known:  # what is not wholly told is nowhere covered beyond what is told
        if not addresses([other]) <= mine:
            assert addresses([other]) & covered <= mine
    for block in found:
        inside = addresses([block]) & mine
        assert block.size <= DENSE * len(inside)
        halves = block.children(block.length + 1) if block.length < 32 else ()
        assert not any(inside <= addresses([half]) for half in halves)


def test_a_cover_is_taken_for_room_to_grow_and_not_for_half_the_world() -> None:
    near, far = [P("10.20.0.0/22"), P("10.20.4.0/24")], P("10.40.0.0/24")
    assert covering(near, Ranges(near)) == (P("10.20.0.0/21"),)
    assert covering([*near, far], Ranges(near)) == (P("10.20.0.0/21"), far)
    assert covering(near, Ranges([*near, P("10.20.6.0/24")])) == tuple(near)
    assert covering(near, Ranges([*near, P("10.0.0.0/8")])) == tuple(near)
    assert covering([], Ranges([])) == ()
