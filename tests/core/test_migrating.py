"""Files with keys under the names of before: rewritten in place, and nothing else in them."""

import json
from pathlib import Path

import pytest
import yaml

from obrin.core.design.document import load_design
from obrin.core.design.migrating import RENAMED, migrated, new_name
from obrin.core.errors import DesignError
from tests.healthy import Healthy
from tests.live.buildable import Drawn

DEMO = Path(__file__).parents[2] / "src" / "obrin" / "demo"


def of_before(value, place=()):
    """The same under the old names: the inverse, made from the table alone."""
    if isinstance(value, list):
        return [of_before(one, (*place, number)) for number, one in enumerate(value)]
    if not isinstance(value, dict):
        return value
    made = {}
    for key, inside in value.items():
        old = next(
            (
                path[-1]
                for path, new in RENAMED.items()
                if new == key and new_name((*place, path[-1])) == new
            ),
            key,
        )
        made[old] = of_before(inside, (*place, old))
    return made


BEFORE = """\
# a comment: hold
links:
  one: {bgp: {hold: 6 s, "discriminators": true}, tunnels: {a: {starts: cloud}}}   # starts: here
  two:
    bgp: &timers
      hold: 9 s          # hold
  three:
    bgp: *timers
sites:
  hold: {gateways: {routes: {routes: 9, note: "routes: 3"}}}
circuits:
  'c': {'hold': 30 s, provider: hold}
profiles: {starts: {key: {letters: printable}, ike: {lifetime: {usual: 8 h}}, translators: true}}
accepted-findings:
  - {finding: session-over-first, at: links.one.bgp.hold, because: hold, by: hold}
"""
AFTER = """\
# a comment: hold
links:
  one: {bgp: {hold-time: 6 s, "med": true}, tunnels: {a: {initiator: cloud}}}   # starts: here
  two:
    bgp: &timers
      hold-time: 9 s          # hold
  three:
    bgp: *timers
sites:
  hold: {gateways: {routes: {maximum-prefixes: 9, note: "routes: 3"}}}
circuits:
  'c': {'hold-time': 30 s, provider: hold}
profiles: {starts: {key: {characters: printable}, ike: {lifetime: {default: 8 h}}, nat-traversal: true}}
accepted-findings:
  - {finding: session-over-first, at: links.one.bgp.hold-time, because: hold, by: hold}
"""


def test_only_the_keys_change_wherever_they_stand() -> None:
    text, changed = migrated(BEFORE, "d.yaml")
    assert text == AFTER
    assert (changed[0].where, changed[0].old, changed[0].new) == (
        "d.yaml:3:15",
        "hold",
        "hold-time",
    )
    assert len(changed) == 10
    assert migrated(text, "d.yaml") == (text, [])


@pytest.mark.parametrize("path", sorted(DEMO.glob("*.yaml")), ids=lambda path: path.name)
def test_designs_of_today_are_left_as_they_are(path: Path) -> None:
    text = path.read_text()
    assert migrated(text, "d") == (text, [])


@pytest.mark.parametrize("seed", range(20))
@pytest.mark.parametrize("draw", [Healthy, Drawn])
def test_drawn_designs_of_before_load_again(draw, seed: int) -> None:
    values = draw(seed).data
    for before in (
        yaml.safe_dump(of_before(values), sort_keys=False),
        json.dumps(of_before(values)),
    ):
        made, changed = migrated(before, "d")
        assert yaml.safe_load(made) == values
        assert bool(changed) == (of_before(values) != values)
        load_design(made, "d")


def test_a_key_under_both_names_is_refused() -> None:
    with pytest.raises(DesignError, match="d:1:19: 'hold' is called 'hold-time' now, and both"):
        migrated("links: {a: {bgp: {hold: 3 s, hold-time: 6 s}}}", "d")


def test_reading_names_the_command() -> None:
    text = (DEMO / "design.yaml").read_text().replace("hold-time", "hold")
    with pytest.raises(DesignError) as found:
        load_design(text, "d")
    assert "'hold' is called 'hold-time' now. Run 'obrin migrate' on this file" in str(found.value)
