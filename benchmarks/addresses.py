"""Prefix sets in bulk, against `ipaddress`, `netaddr`, a C radix tree and a plain sorted sweep.

python -m benchmarks.addresses            all of them, a Markdown table on stdout
"""

from __future__ import annotations

import ipaddress
import random
import resource
import sys
from collections.abc import Iterator
from typing import Any

import numpy as np

from benchmarks.measure import interleaved
from obrin.core.address.bulk import PrefixSet
from obrin.core.address.match import BulkMatch, FixedMatch
from obrin.core.address.prefix import Prefix

Row = tuple[str, str, str, str, str]
COUNT, LOOKUPS = 100_000, 1_000_000
WORD = (1 << 64) - 1


def prefixes(bits: int, seed: int = 1) -> list[Prefix]:
    """Distinct prefixes with the lengths that route tables have: many long, some short."""
    rng = random.Random(seed)
    lengths, weights = (
        ([12, 16, 18, 19, 20, 21, 22, 23, 24, 28, 32], [1, 4, 2, 4, 8, 8, 14, 12, 40, 4, 3])
        if bits == 32
        else ([28, 32, 36, 40, 44, 48, 56, 64], [1, 12, 6, 10, 8, 40, 13, 10])
    )
    found: set[Prefix] = set()
    while len(found) < COUNT:
        length = rng.choices(lengths, weights)[0]
        value = rng.getrandbits(length)
        if bits == 128:
            value = 1 << (length - 3) | value >> 3  # 2000::/3
        found.add(Prefix(bits, value << (bits - length), length))
    made = sorted(found)
    rng.shuffle(made)
    return made


def addresses(bits: int, listed: list[Prefix], seed: int = 2) -> list[int]:
    """Half inside some prefix, half anywhere."""
    rng = random.Random(seed)
    out = []
    for _ in range(LOOKUPS):
        if rng.random() < 0.5:
            prefix = listed[rng.randrange(len(listed))]
            out.append(prefix.value + rng.getrandbits(bits - prefix.length))
        else:
            out.append(rng.getrandbits(bits) if bits == 32 else 1 << 125 | rng.getrandbits(125))
    return out


def _tree(listed: list[Prefix]) -> Any:
    import pytricia

    tree = pytricia.PyTricia(listed[0].bits)
    for number, prefix in enumerate(listed):
        tree.insert(str(prefix), number)
    tree.freeze()
    return tree


def look_ups(bits: int, target: str) -> Iterator[Row]:
    """A million addresses in one batch, and one at a time."""
    listed = prefixes(bits)
    wanted = addresses(bits, listed)
    tree = _tree(listed)
    bulk, one = BulkMatch(listed), FixedMatch(listed)
    family = "IPv4" if bits == 32 else "IPv6"
    array = np.array(wanted, dtype=np.uint32) if bits == 32 else np.zeros(0)
    high = np.array([a >> 64 for a in wanted], dtype=np.uint64)
    low = np.array([a & WORD for a in wanted], dtype=np.uint64)
    # The tree takes IPv4 as integers, IPv6 as bytes.
    keys = wanted if bits == 32 else [a.to_bytes(16, "big") for a in wanted]
    get = tree.get

    def ours() -> Any:
        return bulk.match_ipv4(array) if bits == 32 else bulk.match_ipv6(high, low)

    # The two must agree before they are timed.
    sample = ours()[:2000].tolist()
    assert sample == [get(key, -1) for key in keys[:2000]]

    def theirs() -> object:
        return [get(key, -1) for key in keys]

    a, b, ratio = interleaved(ours, theirs, rounds=7)
    yield (
        f"{family}: a million look-ups in {COUNT:,} prefixes, one batch",
        "C radix tree",
        f"{a * 1e3:.0f} ms",
        f"{b * 1e3:.0f} ms",
        f"{ratio:.0f} times as fast ({target})",
    )
    some, some_keys, match = wanted[:50_000], keys[:50_000], one.match
    a, b, ratio = interleaved(
        lambda: [match(x) for x in some], lambda: [get(x, -1) for x in some_keys], rounds=9
    )
    yield (
        f"{family}: one look-up at a time, no compiled code",
        "C radix tree",
        f"{a / 5e4 * 1e9:.0f} ns",
        f"{b / 5e4 * 1e9:.0f} ns",
        f"{ratio:.2f} of its speed (target 0.8)",
    )


def scans() -> Iterator[Row]:
    """The same question put to the standard library and to netaddr; few, because they scan."""
    import netaddr

    listed = prefixes(32)
    wanted = np.array(addresses(32, listed)[:LOOKUPS], dtype=np.uint32)
    bulk = BulkMatch(listed)
    networks = [ipaddress.ip_network(str(p)) for p in listed]
    few = [ipaddress.ip_address(int(a)) for a in wanted[:3]]

    def standard() -> object:
        return [
            max((n for n in networks if a in n), key=lambda n: n.prefixlen, default=None)
            for a in few
        ]

    a, b, _ = interleaved(lambda: bulk.match_ipv4(wanted), standard, rounds=3)
    ours, theirs = a / LOOKUPS, b / len(few)
    yield (
        "IPv4: one look-up, out of a batch",
        "`ipaddress`, a scan",
        f"{ours * 1e9:.0f} ns",
        f"{theirs * 1e3:.0f} ms",
        f"{theirs / ours:,.0f} times as fast",
    )
    ipset = [netaddr.IPNetwork(str(p)) for p in listed]
    few_netaddr = [netaddr.IPAddress(int(a)) for a in wanted[:1]]

    def all_matching() -> object:
        return [netaddr.largest_matching_cidr(a, ipset) for a in few_netaddr]

    a, b, _ = interleaved(lambda: bulk.match_ipv4(wanted), all_matching, rounds=1)
    theirs = b / len(few_netaddr)
    yield (
        "IPv4: one look-up, out of a batch",
        "`netaddr`, a scan",
        f"{ours * 1e9:.0f} ns",
        f"{theirs * 1e3:.0f} ms",
        f"{theirs / ours:,.0f} times as fast",
    )


def overlapping(bits: int) -> Iterator[Row]:
    """All overlapping pairs, against a plain sorted sweep and a walk up a C tree's parents."""
    listed = prefixes(bits)
    family = "IPv4" if bits == 32 else "IPv6"

    def plain() -> Any:
        """Sorted by begin, then length; whatever begins before one's end is inside it."""
        values, lengths = [p.value for p in listed], [p.length for p in listed]
        if bits == 32:
            first = np.array(values, dtype=np.int64)
            last = first + (1 << (32 - np.array(lengths, dtype=np.int64))) - 1
        else:
            first = np.array([v >> 64 for v in values], dtype=np.uint64)
            mask = [(1 << (64 - n)) - 1 if n <= 64 else 0 for n in lengths]
            last = first | np.array(mask, dtype=np.uint64)
        order = np.lexsort((lengths, first))
        first, last = first[order], last[order]
        until = np.searchsorted(first, last, side="right")
        places = np.arange(len(order))
        counts = until - places - 1
        outer = np.repeat(places, counts)
        inner = outer + 1 + np.arange(len(outer)) - np.repeat(np.cumsum(counts) - counts, counts)
        return order[outer], order[inner]

    pairs = plain()
    got = PrefixSet(listed).overlaps()
    assert np.array_equal(np.sort(pairs[0] * COUNT + pairs[1]), np.sort(got[0] * COUNT + got[1]))
    a, b, ratio = interleaved(lambda: PrefixSet(listed).overlaps(), plain, rounds=15)
    yield (
        f"{family}: all {got.shape[1]:,} overlapping pairs of {COUNT:,} prefixes",
        "plain sorted NumPy sweep",
        f"{a * 1e3:.0f} ms",
        f"{b * 1e3:.0f} ms",
        f"{ratio:.2f} times as fast (target 1)",
    )
    kept = PrefixSet(listed)
    kept.overlaps()
    a, b, ratio = interleaved(kept.overlaps, plain, rounds=7)
    yield (
        f"{family}: the same, asked again",
        "plain sorted NumPy sweep",
        f"{a * 1e6:.2f} us",
        f"{b * 1e3:.0f} ms",
        f"{ratio:,.0f} times as fast (target 3)",
    )


def main() -> None:
    print("| What | Against | Obrin | Baseline | Ratio |")
    print("| --- | --- | --- | --- | --- |")
    for rows in (
        overlapping(32),
        overlapping(128),
        look_ups(32, "target 20"),
        look_ups(128, "target 4"),
        scans(),
    ):
        for row in rows:
            print("| " + " | ".join(row) + " |", flush=True)
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    print(f"\nPeak memory of this run, baselines included: {peak:.0f} MB", file=sys.stderr)


if __name__ == "__main__":
    main()
