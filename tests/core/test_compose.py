"""Designs composed of tables, and what changed in them since."""

from __future__ import annotations

import copy

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obrin.core.design.reader import read_values
from obrin.core.errors import DesignError
from obrin.core.gather.compose import Entry, Source, compose
from obrin.core.gather.mapping import RawRow, read_mapping, source_of
from obrin.core.gather.since import ABSENT, EDITED, OPEN, TAKEN, changes, with_changes

TEXT = """\
sites:
  "{site.name}":
    region: "{site.region}"
    networks: {"{lan.name}": "{lan.range}"}
links: {"{site.name}-{net.name}": {tags: "{net.tags}"}}
asked: [{from: "{site.name}/{lan.name}", to: here}, {from: "{net.name}", to: "{net.name}"}]
"""


def table(name: str, rows: list[dict], **more) -> Source:
    columns = frozenset(key for row in rows for key in row)
    entries = [Entry(f"{name}.csv:{n}:1", row) for n, row in enumerate(rows, 2)]
    return Source(name, columns, entries, **more)


SITES = table("site", [{"name": "a", "region": "north"}, {"name": "b", "region": ""}])
LANS = table(
    "lan",
    [
        {"of": "a", "name": "x", "range": "10.0.0.0/24"},
        {"of": "b", "name": "x", "range": "10.1.0.0/24"},
        {"of": "a", "name": "y", "range": "10.2.0.0/24"},
        {"of": "nobody", "name": "z", "range": "10.3.0.0/24"},
    ],
    belongs={"of": ("site", "name")},
)
NETS = table("net", [{"name": "n", "tags": ["1", "2"]}, {"name": "m", "tags": []}])


def test_rows_stand_where_they_belong() -> None:
    made = compose(TEXT, read_values(TEXT, "m"), "m.yaml", [SITES, LANS, NETS])
    assert made.values == {
        "sites": {
            "a": {"region": "north", "networks": {"x": "10.0.0.0/24", "y": "10.2.0.0/24"}},
            "b": {"networks": {"x": "10.1.0.0/24"}},
        },
        "links": {"a-n": {"tags": ["1", "2"]}, "a-m": {}, "b-n": {"tags": ["1", "2"]}, "b-m": {}},
        "asked": [
            {"from": "a/x", "to": "here"},
            {"from": "a/y", "to": "here"},
            {"from": "b/x", "to": "here"},
            {"from": "n", "to": "n"},
            {"from": "m", "to": "m"},
        ],
    }
    assert made.bad == []
    assert made.blanks[("sites", "b", "region")] == "site.csv:3:1, column region"
    assert made.where(("sites", "a", "networks", "y")) == "lan.csv:4:1, filled in at m.yaml:4:16"


def test_names_that_come_twice_and_keys_without_a_name_are_reported() -> None:
    twice = table(
        "site",
        [{"name": "a", "region": "r"}, {"name": "a", "region": "s"}, {"name": "", "region": "t"}],
    )
    made = compose(TEXT, read_values(TEXT, "m"), "m.yaml", [twice, LANS, NETS])
    assert [(p.where, p.what) for p in made.bad][:2] == [
        ("site.csv:3:1", "'a' stands at site.csv:2:1 already"),
        ("site.csv:4:1", "no value for {site.name}"),
    ]
    with pytest.raises(DesignError, match=r"no column for \{lan.range\}"):
        compose(
            TEXT, read_values(TEXT, "m"), "m.yaml", [SITES, NETS, table("lan", [{"name": "x"}])]
        )
    with pytest.raises(DesignError, match="not a design"):
        compose("- 1", [1], "m.yaml", [])


leaves = st.text("abc", max_size=2) | st.integers(0, 3) | st.lists(st.integers(0, 2), max_size=2)
trees = st.recursive(
    st.dictionaries(st.sampled_from("pqr"), leaves, max_size=3),
    lambda inner: st.dictionaries(st.sampled_from("pqr"), leaves | inner, max_size=3),
    max_leaves=8,
)


@given(trees, trees, trees)
def test_what_nobody_edited_becomes_what_is_reported_now(before, now, design) -> None:
    untouched = copy.deepcopy(before)
    found = changes(before, now, before)
    assert {c.standing for c in found} <= {OPEN}
    assert with_changes(before, found) == now
    assert before == untouched
    assert {c.standing for c in changes(before, now, now)} <= {TAKEN}
    assert changes(before, before, design) == []
    taken = with_changes(design, [c for c in changes(before, now, design) if c.standing == OPEN])
    for change in changes(before, now, taken):
        assert change.standing != OPEN, "what was taken is not open any more"


def test_what_somebody_edited_is_said_so() -> None:
    before, now = {"a": {"x": 1, "y": 1}}, {"a": {"x": 2, "y": 2, "z": 1}, "b": {"n": 1}}
    found = {
        c.place: (c.what, c.standing)
        for c in changes(before, now, {"a": {"x": 7, "y": 2}, "b": {"n": 3}})
    }
    assert found == {
        ("a", "x"): ("changed", EDITED),
        ("a", "y"): ("changed", TAKEN),
        ("a", "z"): ("new", OPEN),
        ("b", "n"): ("new", EDITED),
    }
    assert repr(ABSENT) == "nothing"


MAPPING = """\
read:
  a: {file: a.csv, columns: {n: Name}}
  b: {within: a, rows: "$.x[*]"}
design: {obrin: 1}
"""


@pytest.mark.parametrize(
    ("old", "new", "words"),
    [
        ("file: a.csv, ", "", "has a 'file', or lies 'within'"),
        (', rows: "$.x[*]"', "", "say with 'rows' where"),
        ("within: a", "within: c", "no other table 'c'"),
        ("within: a", "within: b", "no other table 'b'"),
        ("file: a.csv", "within: b, rows: $", "in a circle"),
        ("n: Name", "n: {from: [A, B, C]}", "give two"),
        ("n: Name", "n: {from: A, as: colour}", "as"),
        ("n: Name", "n: {}", "from"),
        ("columns: {n: Name}", "belongs: {n: other}", "write TABLE.COLUMN"),
        ("read:", "reed:", "reed"),
        ("design: {obrin: 1}", "design: 3", "design"),
    ],
)
def test_mistakes_of_a_mapping_are_reported_with_their_place(
    old: str, new: str, words: str
) -> None:
    assert read_mapping(MAPPING, "m.yaml").spec.read["a"].columns["n"].origins == ["Name"]
    with pytest.raises(DesignError, match=words) as caught:
        read_mapping(MAPPING.replace(old, new), "m.yaml")
    assert "m.yaml:" in str(caught.value)


@given(st.integers(0, len(MAPPING) - 1), st.text("{}[]:,$\"'\n x-", max_size=3))
def test_a_mangled_mapping_is_read_or_refused(at: int, text: str) -> None:
    try:
        read_mapping(MAPPING[:at] + text + MAPPING[at + len(text) :], "m.yaml")
    except DesignError:
        pass


def test_rows_become_cells_of_the_kind_that_is_asked_for() -> None:
    text = """\
read:
  a:
    file: a.csv
    columns:
      name: {from: Name, as: name}
      kind: {from: Kind, words: {hq: head office}, default: branch}
      net: {from: [Net, Mask], as: prefix}
      nets: {from: Nets, as: prefixes}
      tags: {from: Tags, as: list}
  b: {within: a, rows: "$.x[*]", belongs: {name: a.name}, columns: {port: Port}}
design: {obrin: 1}
"""
    spec = read_mapping(text, "m.yaml").spec.read
    rows = [
        RawRow("a.csv:2", {"Name": "Quay House!", "Kind": "hq", "Net": "10.1.0.0",
                           "Mask": "255.255.0.0", "Nets": "10.2.0.0/16; 10.3.0.0/16",
                           "Tags": "x, y"}),
        RawRow("a.csv:3", {"Name": "", "Nets": "10.0.0.1-10.0.0.3", "Net": "10.9.0.0/24"}),
    ]  # fmt: skip

    def look(row: RawRow, column: str) -> list[str]:
        found = row.data.get(column)
        return [found] if found else []

    entries: dict = {}
    source, bad = source_of("a", spec["a"], rows, ["More"], look, entries)
    first, second = (entry.values for entry in source.rows)
    assert first["name"] == "quay-house"
    assert (first["kind"], second["kind"]) == ("head office", "branch")
    assert (first["net"], second["net"]) == ("10.1.0.0/16", "10.9.0.0/24")
    assert first["nets"] == ["10.2.0.0/16", "10.3.0.0/16"]
    assert (first["tags"], second["tags"], second["name"], first["More"]) == (
        ["x", "y"],
        [],
        "",
        "",
    )
    assert [(p.where, p.what.partition(":")[0]) for p in bad] == [("a.csv:3", "nets")]
    inner = RawRow("a.csv:2", {"Port": "7"}, within=rows[0])
    source, bad = source_of("b", spec["b"], [inner], [], look, entries)
    (entry,) = source.rows
    assert bad == []
    assert entry.values == {"port": "7"}
    assert entry.within is entries[id(rows[0])]
