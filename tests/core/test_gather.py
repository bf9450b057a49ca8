"""Tables of what exists: guessed headers, bad rows with their numbers, many sites from a template."""

from __future__ import annotations

import pytest

from obrin.core import csv_text
from obrin.core.design.document import judge_values, load_design
from obrin.core.errors import DesignError
from obrin.core.gather.against import compare
from obrin.core.gather.insert import entry_lines, with_ranges
from obrin.core.gather.ranges import gather_ranges
from obrin.core.gather.rows import read_csv_rows, read_table
from obrin.core.gather.template import fill_template
from tests.doubles import DESIGN, swap


def gathered(text: str, columns=None, taken=()):
    return gather_ranges(read_table(text, "t.csv", columns or {}), frozenset(taken))


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("prefix\n10.1.0.0/16\n", [("range", "10.1.0.0/16")]),
        ("Network;Owner;Comment\n10.1.0.0/16;Bay;x\n", [("bay", "10.1.0.0/16")]),
        ("10.1.0.0/16,Bay Freight,their line\n", [("bay-freight", "10.1.0.0/16")]),
        ("Name\tAddress\tMask\nbay\t10.1.0.0\t255.255.0.0\n", [("bay", "10.1.0.0/16")]),
        (
            "ip,mask\n10.1.0.0,/16\n10.2.0.1,32\n",
            [("range", "10.1.0.0/16"), ("range-2", "10.2.0.1/32")],
        ),
        ("range\n10.0.0.0-10.0.2.255\n", [("range", "10.0.0.0/23"), ("range-2", "10.0.2.0/24")]),
        ("address,last\n10.0.0.4,10.0.0.7\n", [("range", "10.0.0.4/30")]),
        (
            "cidr\n10.0.0.0/255.255.0.0\n2001:db8::/32\n",
            [("range", "10.0.0.0/16"), ("range-2", "2001:db8::/32")],
        ),
        ("# made by hand\n\nprefix\n192.0.2.7\n", [("range", "192.0.2.7/32")]),
        (
            '[{"prefix": "10.1.0.0/16", "name": "bay"}, "10.2.0.0/16"]',
            [("bay", "10.1.0.0/16"), ("range", "10.2.0.0/16")],
        ),
        ('{"items": [{"cidr": "10.1.0.0/16", "owner": "Bay"}]}', [("bay", "10.1.0.0/16")]),
    ],
)
def test_rows_in_many_shapes(text: str, expected) -> None:
    found = gathered(text)
    assert found.bad == ()
    assert [(k.name, str(k.prefix)) for k in found.ranges] == expected


def test_columns_by_option_and_names_that_are_taken() -> None:
    text = "what,who,extra\n10.1.0.0/16,Bay,1\n10.2.0.0/16,Bay,2\n"
    found = gathered(text, {"prefix": "what", "owner": "2", "note": "extra"}, ["bay"])
    assert [(k.name, k.owner, k.note) for k in found.ranges] == [
        ("bay-2", "Bay", "1"),
        ("bay-3", "Bay", "2"),
    ]
    with pytest.raises(
        DesignError, match=r"there is no column 'whom'\. Columns are: what, who, extra"
    ):
        gathered(text, {"owner": "whom"})
    with pytest.raises(DesignError, match="no column holds ranges"):
        gathered("a,b\n1,2\n")


@pytest.mark.parametrize(
    ("row", "words"),
    [
        ("10.1.2.3/16", "Either the network 10.1.0.0/16 or the single address 10.1.2.3/32"),
        ("10.01.0.0/16", "leading zero in '01'"),
        ("10.1.0.0/33", "prefix length from 0 to 32"),
        ("10.0.0.0-2001:db8::1", "different families"),
        ("10.0.0.9-10.0.0.1", "is after"),
        ("10.0.0.0/255.0.255.0", "ones are not all in front"),
        (",x", "the row has no range"),
        ("10.9.0.0/16", "stands in row 2 already"),
        ("sixteen", "is not an IPv4 address"),
        ("10.7.0.0/16,a", "the name 'a' stands in row 2 already"),
    ],
)
def test_a_bad_row_is_reported_with_its_number_and_the_good_ones_are_kept_apart(
    row: str, words: str
) -> None:
    found = gathered(f"prefix,name\n10.9.0.0/16,a\n{row}\n10.8.0.0/16,b\n")
    (problem,) = found.bad
    assert problem.where == "t.csv:3:1"
    assert words in str(problem)
    assert [k.name for k in found.ranges] == ["a", "b"]


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("", "the file is empty"),
        ("\n\n", "the file is empty"),
        ("# only\n", "holds no rows"),
        ("[1, 2]", "not a list of objects"),
        ('[{"a": }]', "t.csv:1:8: not JSON"),
        ("[" * 100_000, "n"),
        ('prefix\n"10.0.0.0/8\n', "not CSV"),
    ],
)
def test_files_that_are_no_tables(text: str, words: str) -> None:
    with pytest.raises(DesignError, match=words.replace("[", r"\[")):
        gathered(text)


def test_a_table_has_an_end(monkeypatch) -> None:
    monkeypatch.setattr(csv_text, "MOST_ROWS", 5)
    with pytest.raises(DesignError, match="more than 5 rows"):
        gathered("10.0.0.0/8\n" * 6)


def test_entries_are_placed_and_everything_else_stays() -> None:
    ranges = gathered(
        'prefix,owner,note\n10.1.0.0/16,Bay,"says: #1, {ok}"\n2001:db8::/32,,\n'
    ).ranges
    for text in (
        DESIGN,
        swap(("obrin: 1", "obrin: 1\nelsewhere: {}  # none yet")),
        swap(("obrin: 1", "obrin: 1\nelsewhere:\n    old: 10.200.0.0/16   # keep\n\n# next\n")),
        swap(("obrin: 1", "obrin: 1\nelsewhere:\n  # only a word\n  old: 10.200.0.0/16\n")),
        DESIGN + "elsewhere:\n  old: 10.200.0.0/16",
    ):
        made = with_ranges(text, "d.yaml", ranges)
        after = load_design(made, "d.yaml").design
        assert after.elsewhere["bay"].note == "says: #1, {ok}"
        assert str(after.elsewhere["range"].prefix) == "2001:db8::/32"
        assert set(text.split("\n")) - set(made.split("\n")) <= {"elsewhere: {}  # none yet"}
    with pytest.raises(DesignError, match="written in braces"):
        with_ranges(swap(("obrin: 1", "obrin: 1\nelsewhere: {a: 10.3.0.0/16}")), "d.yaml", ranges)
    hidden = "obrin: 1\nx: &e |\n  elsewhere:\n"
    with pytest.raises(DesignError):
        with_ranges(swap(("obrin: 1", hidden)), "d.yaml", ranges)
    assert [line.split(":")[0] for line in entry_lines(ranges)] == ["bay", "range"]


TEMPLATE = """\
obrin: 1
name: t
sites:
  "{site}":
    networks: {lan: {hosts: "{hosts}"}}
    gateways: {"{site}-gw": {uplinks: {u: {address: "{ip}"}}}}
clouds: {c: {subnets: {web: {hosts: 9}}}}
expectations:
  - {from: "{site}/lan", to: c/web, flow: icmp}
  - {from: c/web, to: c/web, flow: icmp}
"""


def test_a_template_is_filled_once_for_each_row() -> None:
    rows = read_csv_rows("site,hosts,ip\na,20,192.0.2.1\nb,40,192.0.2.2\n", "s.csv")
    made = fill_template(TEMPLATE, "t.yaml", rows, "s.csv")
    assert made.bad == []
    assert list(made.values["sites"]) == ["a", "b"]
    assert made.values["sites"]["b"]["networks"]["lan"]["hosts"] == 40
    assert [e["from"] for e in made.values["expectations"]] == ["a/lan", "b/lan", "c/web"]
    listed = TEMPLATE.replace('{hosts: "{hosts}"}', '{hosts: 5, note: ["{hosts}", 7]}')
    made = fill_template(listed, "t.yaml", rows, "s.csv")
    assert made.values["sites"]["a"]["networks"]["lan"]["note"] == [20, 7]
    with pytest.raises(DesignError, match="not a design"):
        fill_template("- 1\n", "t.yaml", rows, "s.csv")


def test_a_template_tells_rows_and_holes_that_do_not_fit() -> None:
    rows = read_csv_rows("site,hosts,ip\na,20,192.0.2.1\nb,,192.0.2.2\na,5,192.0.2.3\n", "s.csv")
    made = fill_template(TEMPLATE, "t.yaml", rows, "s.csv")
    assert [(p.where, p.what) for p in made.bad] == [
        ("s.csv:3:1", "no value for hosts"),
        ("s.csv:4:1", "'a' stands at s.csv:2:1 already"),
    ]
    assert list(made.values["sites"]) == ["a"]
    with pytest.raises(DesignError, match=r"no column for \{ip\}"):
        fill_template(TEMPLATE, "t.yaml", read_csv_rows("site,hosts\na,1\n", "s.csv"), "s.csv")
    for text, words in (("", "empty"), ("a,a\n1,2\n", "stands twice"), ("a\n", "no rows")):
        with pytest.raises(DesignError, match=words):
            read_csv_rows(text, "s.csv")


def test_a_second_table_corrects_what_the_first_left_open() -> None:
    first = "Partner;CIDR;VLAN\nBay Freight;10.72.0.0/14;4\nLantern;10.80.0.0/16;5\n"
    second = (
        "Network;Partner;CIDR;Location\n"
        "line;Bay Freight;10.72.0.0/14;south\nhouse;Lantern Hotels;10.80.0.0/16;\n"
    )
    table = read_table(first, "t.csv", {})
    assert (table.columns, table.left) == ({"prefix": "CIDR", "owner": "Partner"}, ("VLAN",))
    text = with_ranges(DESIGN, "d.yaml", gathered(first).ranges)
    text = text.replace('"Lantern"}', '"Lantern"}  # asked in May')
    held = load_design(text, "d.yaml").design.elsewhere
    better = read_table(second, "t.csv", {})
    assert better.columns["name"] == "Network"  # its cells are no ranges
    news = compare(gather_ranges(better, frozenset(held)).ranges, held, named=True)
    assert [(c.was, c.now.name) for c in news.corrected] == [
        ("bay-freight", "line"),
        ("lantern", "house"),
    ]
    made = with_ranges(text, "d.yaml", news.added, news.corrected)
    assert '  house: {prefix: "10.80.0.0/16", owner: "Lantern Hotels"}  # asked in May\n' in made
    after = load_design(made, "d.yaml").design.elsewhere
    again = compare(gather_ranges(better, frozenset(after)).ranges, after, named=True)
    assert (again.added, again.corrected, again.same) == ((), (), 2)
    plain = compare(gathered(first).ranges, after, named=False)  # says less: nothing is lost
    assert [c.now.place for c in plain.corrected] == [""]
    spread = text.replace(
        'bay-freight: {prefix: "10.72.0.0/14", owner: "Bay Freight"}',
        'bay-freight:\n    prefix: "10.72.0.0/14"\n    owner: "Bay Freight"',
    )
    with pytest.raises(DesignError, match="not on one line"):
        with_ranges(spread, "d.yaml", news.added, news.corrected)


def test_mistakes_of_a_filled_template_point_into_table_and_template() -> None:
    rows = read_csv_rows("site,hosts,ip\na,20,192.0.2.1\nb,x,192.0.2.2\n", "s.csv")
    text = TEMPLATE.replace("{site}/lan", "{site}/lam", 1)
    made = fill_template(text, "t.yaml", rows, "s.csv")
    _, problems = judge_values(made.values, made.where)
    assert [(p.where, p.what) for p in problems] == [
        ("s.csv:3:1, filled in at t.yaml:5:22", "'hosts' is 'x'"),
        ("s.csv:2:1, filled in at t.yaml:9:6", "there is no network 'a/lam'"),
        ("s.csv:3:1, filled in at t.yaml:9:6", "there is no network 'b/lam'"),
    ]
    made = fill_template(TEMPLATE.replace("hosts: 9", "hosts: y"), "t.yaml", rows[:1], "s.csv")
    _, problems = judge_values(made.values, made.where)
    assert [p.where for p in problems] == ["t.yaml:7:30"]  # nothing of a row's


def test_titles_above_the_header_are_passed_over_and_everything_is_not_a_range() -> None:
    text = (
        "Partner ranges,,\nas of May 2026,,\nRange,Owner,Note\n10.72.0.0/14,Bay,x\n0.0.0.0/0,All,\n"
    )
    table = read_table(text, "t.csv", {})
    assert [row.number for row in table.rows] == [4, 5]
    found = gather_ranges(table, frozenset())
    assert [str(k.prefix) for k in found.ranges] == ["10.72.0.0/14"]
    assert "is every address there is" in found.bad[0].what
    named = read_table("Title,\nSpan,Who\n10.72.0.0/14,Bay\n", "t.csv", {"prefix": "Span"}, 2)
    assert [row.values["prefix"] for row in named.rows] == ["10.72.0.0/14"]
    with pytest.raises(DesignError, match="no header in this line"):
        read_table(text, "t.csv", {}, 99)


def test_every_row_of_a_table_is_taken_bad_or_left_with_a_reason() -> None:
    from obrin.core.gather.compose import Entry, Source, compose

    sites = [Entry(f"s:{n}", {"name": name}) for n, name in enumerate(("a", "b", "a"), 2)]
    lans = [
        Entry(f"l:{n}", {"name": name, "site": site})
        for n, (name, site) in enumerate((("x", "a"), ("y", "c"), ("z", ""), ("w", "b")), 2)
    ]
    parts = [Entry("p:2", {"id": "1"}, lans[1]), Entry("p:3", {"id": "2"}, lans[0])]
    tables = [
        Source("sites", frozenset({"name"}), sites),
        Source("lans", frozenset({"name", "site"}), lans, {"site": ("sites", "name")}),
        Source("parts", frozenset({"id"}), parts, parent="lans"),
        Source("idle", frozenset({"x"}), [Entry("i:2", {"x": "1"})]),
    ]
    text = '"{sites.name}": {lans: {"{lans.name}": {ids: ["{parts.id}"]}}}\n'
    values = {"{sites.name}": {"lans": {"{lans.name}": {"ids": ["{parts.id}"]}}}}
    made = compose(text, values, "t.yaml", tables)
    assert made.values == {"a": {"lans": {"x": {"ids": [2]}}}, "b": {"lans": {"w": {"ids": []}}}}
    assert made.counts == {
        "sites": (3, 2, 1, 0), "lans": (4, 2, 0, 2), "parts": (2, 1, 0, 1), "idle": (1, 0, 0, 1),
    }  # fmt: skip
    said = {problem.where: problem.what for problem in made.left}
    assert "no row of sites has name 'c'" in said["l:3"]
    assert "column site is empty" in said["l:4"]
    assert "nothing was made of the row that it lies within" in said["p:2"]
    assert "nothing of the design has a hole that it fills" in said["i:2"]
