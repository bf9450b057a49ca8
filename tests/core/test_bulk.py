"""Prefix sets in bulk against brute force, both families."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from obrin.core.address.bulk import PrefixSet
from obrin.core.address.match import BulkMatch, FixedMatch
from obrin.core.address.nested import overlapping_pairs
from obrin.core.address.prefix import Prefix, parse_prefix
from obrin.core.address.space import free_ranges

WORD = (1 << 64) - 1
BASE = {32: 0x0A000000, 128: 0x20010DB8 << 96}


def near(bits: int) -> st.SearchStrategy[Prefix]:
    """Prefixes that often nest: a few bits around some depths below one base."""
    depths = [0, 8, 14, 20] if bits == 32 else [0, 3, 32, 58, 62, 116]

    def build(depth: int, more: int, value: int) -> Prefix:
        length = min(depth + more, bits)
        high = BASE[bits] >> (bits - length) if length else 0
        high ^= value & ((1 << min(more, length)) - 1)
        return Prefix(bits, high << (bits - length), length)

    return st.builds(build, st.sampled_from(depths), st.integers(0, 12), st.integers(0, 4095))


sets = st.sampled_from([32, 128]).flatmap(
    lambda b: st.lists(near(b), min_size=1, max_size=25, unique=True)
)


def edges(prefixes: list[Prefix]) -> list[int]:
    top = (1 << prefixes[0].bits) - 1
    found = {a + d for p in prefixes for a in (p.value, p.last) for d in (-1, 0, 1)}
    return sorted(a for a in found | {0, top} if 0 <= a <= top)


def best(prefixes: list[Prefix], address: int) -> int:
    covering = [(p.length, i) for i, p in enumerate(prefixes) if p.contains(address)]
    return max(covering)[1] if covering else -1


@given(sets)
def test_overlapping_pairs_and_parents(prefixes: list[Prefix]) -> None:
    made = PrefixSet(prefixes)
    pairs = {
        (i, j)
        for i, a in enumerate(prefixes)
        for j, b in enumerate(prefixes)
        if i != j and a.covers(b)
    }
    assert set(map(tuple, made.overlaps().T.tolist())) == pairs
    assert list(overlapping_pairs(prefixes)) == list(map(tuple, made.overlaps().T.tolist()))
    assert made.overlap_count() == len(pairs)
    parents = [
        max(((prefixes[i].length, i) for i, j in pairs if j == n), default=(0, -1))[1]
        for n in range(len(prefixes))
    ]
    assert made.parents().tolist() == parents


@settings(max_examples=60, deadline=None)
@given(sets)
def test_longest_match_for_many_addresses(prefixes: list[Prefix]) -> None:
    wanted = edges(prefixes)
    expected = [best(prefixes, a) for a in wanted]
    match = BulkMatch(prefixes)
    if match.bits == 32:
        found = match.match_ipv4(np.array(wanted, dtype=np.uint32))
    else:
        found = match.match_ipv6(
            np.array([a >> 64 for a in wanted], dtype=np.uint64),
            np.array([a & WORD for a in wanted], dtype=np.uint64),
        )
    assert found.tolist() == expected


@given(sets)
def test_longest_match_one_at_a_time(prefixes: list[Prefix]) -> None:
    match = FixedMatch(prefixes).match
    for address in edges(prefixes):
        number = best(prefixes, address)
        assert match(address) == (prefixes[number] if number >= 0 else None)


pools = st.sampled_from([32, 128]).flatmap(
    lambda b: st.tuples(st.lists(near(b), max_size=20), near(b))
)


@given(pools)
def test_free_ranges_in_bulk(case: tuple[list[Prefix], Prefix]) -> None:
    prefixes, pool = case
    assert PrefixSet(prefixes).free_ranges(pool) == list(free_ranges(pool, prefixes))


def test_equal_prefixes_overlap_and_the_later_answers() -> None:
    one = parse_prefix("10.0.0.0/8")
    assert PrefixSet([one, one]).overlaps().tolist() == [[0], [1]]
    assert BulkMatch([one, one]).match_ipv4(np.array([one.value], dtype=np.uint32)).tolist() == [1]


def test_many_addresses_in_dense_ipv6_space_fall_back_to_plain_search() -> None:
    dense = [Prefix(128, (1 << 125) + (n << 64), 64) for n in range(3000)]
    far = Prefix(128, 0xFE << 120, 64)
    match = BulkMatch([*dense, far])
    high = np.array([(1 << 61) + 7, (1 << 61) + 5000, far.value >> 64], dtype=np.uint64)
    assert match.match_ipv6(high, np.zeros(3, dtype=np.uint64)).tolist() == [7, -1, 3000]


@pytest.mark.parametrize(
    "mixed",
    [["10.0.0.0/8", "2001:db8::/32"], ["2001:db8::/32", "10.0.0.0/8"], ["10.0.0.0/8", "::/0"]],
)
def test_families_do_not_mix(mixed: list[str]) -> None:
    with pytest.raises(ValueError, match="one family"):
        PrefixSet([parse_prefix(p) for p in mixed])


def test_nothing_in_a_set() -> None:
    empty = PrefixSet([])
    assert empty.overlaps().shape == (2, 0)
    assert BulkMatch([]).match_ipv4(np.array([1], dtype=np.uint32)).tolist() == [-1]
    with pytest.raises(ValueError, match="one family"):
        PrefixSet([parse_prefix("10.0.0.0/8")]).free_ranges(parse_prefix("2001:db8::/32"))
