"""Names in few words, however many there are."""

from __future__ import annotations

import pytest

from obrin.core.naming import some, those_near, unknown

MANY = [f"gw-{number:04}" for number in range(2000)]


@pytest.mark.parametrize("count", [0, 1, 12, 13, 2000])
def test_few_names_are_all_told_and_many_are_not(count: int) -> None:
    told = some(MANY[:count])
    assert told.count("gw-") == min(count, 12)
    assert told.endswith(f" and {count - 12:,} more") is (count > 12)


def test_of_many_those_that_are_most_like_it_come_first() -> None:
    assert those_near("gw-199", MANY).startswith("gw-1999")
    assert "gw-0777" in those_near("wg-0777", MANY)
    assert those_near("nothing like it", MANY).endswith("and 1,995 more")
    assert str(unknown("gateway", "x", [])) == "there is no gateway 'x'. There are none"
    few = unknown("gateway", "a", ["b", "a1"])
    assert str(few) == "there is no gateway 'a'. There are: b, a1"
