"""What differs between what stands at a cloud and what is wanted is told by its value: once for
each value that was changed, and not at all for what is only said in another way."""

from __future__ import annotations

import copy
import random
from typing import Any

import pytest

from obrin.core.handover.secrets import Secrets
from obrin.live.drivers.differing import differing
from obrin.live.drivers.practice_cloud.cloud_steps import cloud_steps
from tests.doubles import settled_of
from tests.live.buildable import Drawn
from tests.live.virtual_world import certificates_of, keys_of


def leaves(value: Any, path: tuple = ()) -> list[tuple]:
    """Paths to all that is not a record, and in no list without names."""
    if isinstance(value, dict):
        return [leaf for key, held in value.items() for leaf in leaves(held, (*path, key))]
    if (
        isinstance(value, list)
        and value
        and all(isinstance(v, dict) and "name" in v for v in value)
    ):
        found = (leaves(v, (*path, n)) for n, v in enumerate(value))
        return [leaf for each in found for leaf in each if leaf[-1] != "name"]
    return [path]


def changed(value: Any) -> Any:
    if isinstance(value, bool) or value is None:
        return "another" if value is None else not value
    if isinstance(value, (int, float)):
        return value + 1
    return [*value, "another"] if isinstance(value, list) else f"{value}x"


@pytest.mark.parametrize("seed", range(20))
def test_each_changed_value_is_reported_once_and_nothing_else(seed: int) -> None:
    rng = random.Random(seed)
    settled = settled_of(Drawn(seed).text)
    for step in cloud_steps(
        settled, list(settled.clouds), Secrets(keys_of(settled), certificates_of(settled))
    ):
        assert differing(step.body, step.body) == ()
        for path in rng.sample(places := leaves(step.body), min(4, len(places))):
            held = copy.deepcopy(step.body)
            *above, last = path
            inside = held
            for key in above:
                inside = inside[key]
            inside[last] = changed(inside[last])
            found = differing(held, step.body)
            assert len(found) == 1, (step.name, path, found)
            assert str(last).replace("_", " ") in found[0].part
            assert found[0].there != found[0].wanted


def test_what_is_said_in_another_way_is_the_same() -> None:
    held = {"hold": 9.0, "tables": None, "owner": "", "more": 1, "rules": [{"name": "a", "x": []}]}
    assert differing(held, {"hold": 9, "tables": [], "rules": [{"name": "a"}]}) == ()


def test_named_things_are_reported_by_their_names() -> None:
    one, two, three = ({"name": n, "flow": f} for n, f in (("a", "icmp"), ("b", "any"), ("c", "x")))
    found = [d.words for d in differing({"rules": [one, three]}, {"rules": [one, two]})]
    assert found == [
        "rules: c is flow x there, and missing in the design",
        "rules: b is missing there, and flow any in the design",
    ]
    assert [d.part for d in differing({"rules": [two, one]}, {"rules": [one, two]})] == ["rules"]
    assert len(differing({"rules": [one, one]}, {"rules": [one, two]})) == 1
