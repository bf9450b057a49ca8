"""Two ends as they were entered: what has to fit does, each mistake is found, and what was not seen
is never good."""

from __future__ import annotations

import itertools
import random
from collections.abc import Iterator

import pytest

from obrin.core.compare.between import NO_PRINT, _pairs, between
from obrin.core.compare.differences import SECRET_ROW
from obrin.core.compare.reading import ADDRESSES, ALGORITHM, NUMBER, SECONDS, SWITCH, read
from obrin.core.handover.pack import gateways_of
from obrin.core.handover.sheet.blocks import values_of
from obrin.core.handover.sheet.sheet import value_sheet
from obrin.core.ipsec.registry import ALGORITHMS
from tests.doubles import settled_of
from tests.healthy import Healthy

Ends = tuple[dict[str, str], dict[str, str]]


def sheets(settled) -> dict[str, dict[str, str]]:
    return {
        place: {v.name: v.text for v in values_of(value_sheet(settled, place))}
        for place in gateways_of(settled)
    }


def ends_of(seeds: range) -> Iterator[Ends]:
    """Both ends of every link, with fingerprints of keys as two people would enter them."""
    for seed in seeds:
        settled = settled_of(str(Healthy(seed)))
        texts = sheets(settled)
        for link in settled.links.values():
            for gateway in dict.fromkeys(t.gateway for t in link.tunnels):
                yield tuple(
                    {n: "aaaa-bbbb-cccc-dddd" if SECRET_ROW in n else t for n, t in end.items()}
                    for end in (texts[gateway], texts[link.cloud])
                )


def other(name: str, text: str) -> str:
    """Another value of the same kind."""
    reading = read(name, text)
    if SECRET_ROW in name:
        return "eeee-ffff-gggg-hhhh"
    if name.split(".")[1] in ("initiator", "session-opened-by"):
        return "the remote end" if text == "this gateway" else "this gateway"
    if reading.kind == ALGORITHM:
        kind = next(a.kind for a in ALGORITHMS if a.name == reading.value)
        return next(a.name for a in ALGORITHMS if a.kind is kind and a.name != reading.value)
    if reading.kind == ADDRESSES:
        return "198.51.100.250"
    if reading.kind in (NUMBER, SECONDS):
        return f"{reading.value + 61:g}"
    return "on" if reading.kind == SWITCH and reading.value is False else "something else"


@pytest.mark.parametrize("seeds", [range(8), range(8, 16)])
def test_right_ends_have_no_difference_and_nothing_is_left_out(seeds: range) -> None:
    for one, two in ends_of(seeds):
        for first, second in ((one, two), (two, one)):
            made = between(first, second)
            assert made.differences == ()
            assert [(left.name, left.why) for left in made.left] == []
            assert made.good is True
            assert made.compared > 20


def test_every_mistake_in_every_row_is_a_difference_there() -> None:
    rows, draw = set(), random.Random(5)
    for one, two in itertools.islice(ends_of(range(12)), 16):
        pairs = [*dict.fromkeys(_pairs(one, two))]
        for pair in draw.sample(pairs, min(40, len(pairs))):
            wrong = {**two, pair.two: other(pair.two, two[pair.two])}
            if read(pair.two, wrong[pair.two]) == read(pair.two, two[pair.two]):
                continue
            made = between(one, wrong)
            assert pair.two in {found.name for found in made.differences}, (pair, wrong[pair.two])
            assert made.good is False
            rows.add(pair.two.split(".")[1])
    assert {"encryption", "lifetime", "bgp-as-number", "initiator", "bfd"} <= rows
    assert {"remote-identity", "accept-from-it", "extended-sequence-numbers"} <= rows


@pytest.mark.parametrize("how", ["gone", "blank"])
def test_whatever_is_withheld_is_named_and_nothing_is_good(how: str) -> None:
    for one, two in itertools.islice(ends_of(range(4)), 6):
        for pair in random.Random(3).sample(sorted(dict.fromkeys(_pairs(one, two))), 12):
            less = {n: t for n, t in two.items() if n != pair.two}
            if how == "blank":
                less[pair.two] = " "
            made = between(one, less)
            assert made.good is None
            assert made.differences == ()
            assert {pair.one, pair.two} & {left.name for left in made.left}
            assert made.words.startswith("No difference found; ")


def test_an_end_that_lacks_a_tunnel_and_one_with_a_single_tunnel() -> None:
    texts = sheets(settled_of())
    site, cloud = texts["quay-gw"], texts["apps"]
    less = {n: t for n, t in cloud.items() if not n.endswith("quay-apps/b")}
    made = between(site, less)
    assert made.good is None
    assert any("quay-apps/b" in left.name for left in made.left)
    # A sheet of before names the rows of an only tunnel without it.
    bare = {n.removesuffix(".quay-apps/a"): t for n, t in less.items()}
    assert between(site, bare).compared == made.compared
    # Each may have named its suite itself: they are paired by the tunnel that uses them.
    name = bare["tunnels.suite"]
    bare = {n.replace(f"suite-{name}.", "suite-theirs."): t for n, t in bare.items()}
    bare["tunnels.suite"] = "theirs"
    bare["suite-theirs.encryption.ike-sa"] = "3DES"
    apart = between(site, bare)
    assert apart.compared == made.compared
    assert [found.name for found in apart.differences] == ["suite-theirs.encryption.ike-sa"]


def test_keys_are_compared_by_fingerprints_alone() -> None:
    texts = sheets(settled_of())
    made = between(texts["quay-gw"], texts["apps"])
    assert {left.why for left in made.left} == {NO_PRINT}
    assert made.good is None


def test_other_tunnels_of_a_cloud_are_not_this_ends_affair() -> None:
    two_sites = settled_of(str(Healthy(5)))
    texts = sheets(two_sites)
    link = next(iter(two_sites.links.values()))
    made = between(texts[link.tunnels[0].gateway], texts[link.cloud])
    labels = {t.label for t in link.tunnels}
    assert all(any(left.name.endswith(label) for label in labels) for left in made.left)


def test_ends_with_nothing_in_common() -> None:
    with pytest.raises(ValueError, match="nothing in common"):
        between({"a": "1"}, {"b": "2"})
