"""`gather --mapping`: any exports into a design, and what changed in them since."""

from __future__ import annotations

import csv
import io
import json
import random
from pathlib import Path

import openpyxl
import pytest

from obrin.core.design.document import load_design
from obrin.live.exports import gathered
from tests.cli.program import Folder
from tests.outputs import valid

DEMO = ("exports.yaml", "branches.csv", "lans.csv", "networks.json")
SOURCE = Path(__file__).parents[2] / "src" / "obrin" / "demo"


@pytest.fixture
def folder(tmp_path: Path) -> Folder:
    made = Folder(tmp_path)
    for name in DEMO:
        made.write(name, (SOURCE / name).read_text(encoding="utf-8"))
    return made


GATHER = ("gather", "--mapping", "exports.yaml", "--design", "d.yaml")


def test_exports_become_a_design_that_settles(folder: Folder) -> None:
    shown = folder.obrin(*GATHER, "--dry-run").good().out
    assert not (folder.path / "d.yaml").exists()
    folder.obrin(*GATHER).good()
    text = (folder.path / "d.yaml").read_text()
    assert text == shown
    design = load_design(text, "d.yaml").design
    assert list(design.sites) == ["amber-quay", "low-pier"]
    assert str(design.sites["amber-quay"].networks["cameras"].prefix) == "10.44.1.0/25"
    assert design.sites["low-pier"].gateways["low-pier-gw"].uplinks["line"].provider is None
    folder.obrin("settle", "--design", "d.yaml").good()
    assert "Nothing changed" in folder.obrin(*GATHER).good().out


def test_what_changed_is_shown_and_taken_with_the_rest_left_as_it_is(folder: Folder) -> None:
    folder.obrin(*GATHER).good()
    own = (
        (folder.path / "d.yaml").read_text().replace("region: south", "region: isles   # since May")
    )
    folder.write("d.yaml", own)
    rows = (SOURCE / "branches.csv").read_text()
    folder.write("branches.csv", rows.replace("south", "west") + "Gull Rock;198.51.100.43;;north\n")
    lans = (SOURCE / "lans.csv").read_text()
    folder.write("lans.csv", lans + "Gull Rock,tickets,10.46.0.0,255.255.255.0\n")
    told = valid("gather --mapping", folder.obrin(*GATHER, "--json").bad(1).json)
    assert {".".join(c["place"]): (c["what"], c["standing"]) for c in told["changes"]} == {
        "sites.low-pier.region": ("changed", "edited by hand"),
        "sites.gull-rock": ("new", "to be taken"),
        "links.gull-rock-passenger-lists": ("new", "to be taken"),
        "expectations": ("changed", "to be taken"),
    }
    folder.obrin(*GATHER, "--take", "--dry-run").good()
    assert (folder.path / "d.yaml").read_text() == own
    run = folder.obrin(*GATHER, "--take")
    assert "were taken" in run.out, run.err
    made = (folder.path / "d.yaml").read_text()
    assert "region: isles   # since May" in made
    assert "gull-rock-gw" in made


def test_what_is_missing_is_asked_and_kept(folder: Folder) -> None:
    rows = (SOURCE / "branches.csv").read_text().replace("198.51.100.42", "")
    folder.write("branches.csv", rows)
    place = "sites.low-pier.gateways.low-pier-gw.uplinks.line.address"
    folder.obrin(*GATHER).bad(2, "branches.csv:3:1, filled in at exports.yaml", f"'{place}: VALUE'")
    assert not (folder.path / "d.yaml").exists()
    folder.write("a.yaml", f"{place}: not an address\n")
    folder.obrin(*GATHER, "--answers", "a.yaml").bad(2, "not an address")
    folder.write("a.yaml", f"{place}: 198.51.100.99\n")
    folder.obrin(*GATHER, "--answers", "a.yaml").good()
    assert "Nothing changed" in folder.obrin(*GATHER).good().out, "the answer is kept"


def test_mistakes_name_row_and_line(folder: Folder) -> None:
    folder.obrin("gather").bad(2, "give a TABLE of ranges, or --mapping FILE")
    folder.obrin("gather", "x.csv", "--take").bad(2, "go with --mapping")
    folder.obrin(*GATHER, "--column", "a=b").bad(2, "names its own columns")
    folder.write("lans.csv", "Branch,VLAN,Network,Mask\nLow Pier,tickets,10.0.0.0,255.0.255.0\n")
    folder.obrin(*GATHER).bad(2, "lans.csv:2:1: prefix:", "not a mask", "nothing was taken in")
    folder.write("lans.csv", "Branch,VLAN,Net\na,b,c\n")
    folder.obrin(*GATHER).bad(
        2, "exports.yaml:", "no column 'Mask'", "Columns are: Branch, VLAN, Net"
    )
    folder.write("networks.json", '{"networks": [')
    folder.write("lans.csv", (SOURCE / "lans.csv").read_text())
    folder.obrin(*GATHER).bad(2, "networks.json:1:15: not JSON")
    folder.write("networks.json", "[" * 100_000)
    folder.obrin(*GATHER).bad(2, "nested too deeply")
    (folder.path / "networks.json").unlink()
    folder.obrin(*GATHER).bad(2, "there is no such file")
    text = (SOURCE / "exports.yaml").read_text()
    folder.write("exports.yaml", text.replace("$.networks[*]", "$.networks["))
    folder.write("networks.json", (SOURCE / "networks.json").read_text())
    folder.obrin(*GATHER).bad(2, "exports.yaml:18:", "is not a JSONPath")
    folder.write("d.gathered.yaml", "- 1\n")
    folder.obrin(*GATHER).bad(2, "d.gathered.yaml:1:1: it is not what was gathered last")


def written(rows: list[dict[str, str]], kind: str, path: Path, rng: random.Random) -> str:
    """Rows as a file of some kind; its name. Headers in another order, cells with blanks around."""
    heads = list(rows[0])
    rng.shuffle(heads)
    name = f"{path.name}.{kind}"
    target = path.with_name(name)
    if kind == "json":
        target.write_text(json.dumps({"meta": 1, "items": rows}))
    elif kind == "xlsx":
        book = openpyxl.Workbook()
        book.active.title = "Other"
        sheet = book.create_sheet("Rows")
        for row in [heads, *([row[h] for h in heads] for row in rows)]:
            sheet.append(row)
        book.save(target)
    else:
        out = io.StringIO()
        writer = csv.writer(out, delimiter=rng.choice(",;\t"))
        writer.writerows([heads, *([f" {row[h]} " for h in heads] for row in rows)])
        target.write_text(out.getvalue())
    return name


def prefix_cells(third: int, rng: random.Random) -> dict[str, str]:
    """10.x.third.0/24 as people write it."""
    first = f"10.{third // 250}.{third % 250}.0"
    if rng.random() < 0.5:
        return {"Net": f"{first}/24", "Mask": ""}
    return {"Net": first, "Mask": rng.choice(["255.255.255.0", "/24", "24"])}


@pytest.mark.parametrize("seed", range(30))
def test_the_same_inventory_in_any_form_is_the_same_design(seed: int, tmp_path: Path) -> None:
    rng = random.Random(seed)
    sites = [f"Site No {n}" for n in range(rng.randint(1, 12))]
    lans = [(rng.choice(sites), f"Vlan {n}", n) for n in range(rng.randint(1, 30))]
    expected = {s.lower().replace(" ", "-"): {} for s in sites}
    for site, name, third in lans:
        prefix = f"10.{third // 250}.{third % 250}.0/24"
        expected[site.lower().replace(" ", "-")][name.lower().replace(" ", "-")] = prefix
    lines = [{"Site": s, "Line": f"192.0.2.{n + 1}"} for n, s in enumerate(sites)]
    cells = [{"At": site, "Vlan": name, **prefix_cells(third, rng)} for site, name, third in lans]
    rng.shuffle(cells)
    kinds = [rng.choice(["csv", "json", "xlsx"]) for _ in range(2)]
    files = [
        written(rows, kind, tmp_path / name, rng)
        for rows, kind, name in zip((lines, cells), kinds, ("s", "l"), strict=True)
    ]

    def head(file: str, kind: str) -> str:
        more = {"json": ', rows: "$.items[*]"', "xlsx": ", sheet: Rows", "csv": ""}[kind]
        return f"file: {file}{more}"

    (tmp_path / "m.yaml").write_text(
        f"read:\n"
        f"  s: {{{head(files[0], kinds[0])}, columns: {{n: {{from: Site, as: name}}, a: Line}}}}\n"
        f"  l: {{{head(files[1], kinds[1])}, belongs: {{s: s.n}}, columns: {{s: {{from: At, as: name}}, "
        f"n: {{from: Vlan, as: name}}, p: {{from: [Net, Mask], as: prefix}}}}}}\n"
        'design: {sites: {"{s.n}": {at: "{s.a}", networks: {"{l.n}": "{l.p}"}}}}\n'
    )
    made = gathered(tmp_path / "m.yaml")
    assert made.bad == []
    assert {name: site["networks"] for name, site in made.values["sites"].items()} == expected
    assert [s["at"] for s in made.values["sites"].values()] == [row["Line"] for row in lines]


def test_a_row_that_belongs_to_nothing_is_named_and_nothing_is_written(folder: Folder) -> None:
    lans = (SOURCE / "lans.csv").read_text()
    folder.write("lans.csv", lans + "Gull Rock,tickets,10.46.0.0,255.255.255.0\n,x,10.47.0.0,24\n")
    run = folder.obrin(*GATHER).bad(2, "0 bad rows and 2 left out: nothing was taken in")
    assert "no row of branches has name 'gull-rock', so it belongs to nothing" in run.err
    assert "column branch is empty, so it belongs to nothing" in run.err
    assert "lans: 5 rows: 3 taken, 0 bad, 2 left out" in run.err
    assert not (folder.path / "d.yaml").exists()
    folder.obrin(*GATHER, "--keep-good").good()


def test_merged_cells_are_filled_down_and_titles_stand_above(folder: Folder) -> None:
    lines = (SOURCE / "lans.csv").read_text().replace("\nAmber Quay,cameras", "\n,cameras")
    folder.write("lans.csv", f"Networks of all branches,,,\nas of May,,,\n{lines}")
    folder.obrin(*GATHER).bad(2, "say 'fill: down' for the column")
    mapping = (SOURCE / "exports.yaml").read_text()
    filled = mapping.replace("branch: {from: Branch, as: name}", "branch: {from: Branch, as: name, fill: down}")  # fmt: skip
    folder.write("exports.yaml", filled)
    folder.obrin(*GATHER).good()
    design = load_design((folder.path / "d.yaml").read_text(), "d.yaml").design
    assert list(design.sites["amber-quay"].networks) == ["tickets", "cameras"]
    folder.write("exports.yaml", filled.replace("file: lans.csv", "file: lans.csv\n    header-row: 1"))  # fmt: skip
    folder.obrin(*GATHER).bad(2, "lans.csv:1:1: a column has no name")


@pytest.mark.parametrize("seed", range(20))
def test_every_row_is_accounted_for(folder: Folder, seed: int) -> None:
    """In = taken + bad + left, whatever rows are like."""
    draw = random.Random(seed)
    branches = ["Amber Quay", "Low Pier", "Gull Rock", "", "amber quay"]
    rows = [
        (draw.choice(branches), draw.choice(["tickets", "cameras", ""]),
         draw.choice(["10.44.0.0", "10.45.0.0", "x"]), "255.255.255.0")
        for _ in range(draw.randrange(1, 12))
    ]  # fmt: skip
    text = io.StringIO()
    csv.writer(text).writerows([("Branch", "VLAN", "Network", "Mask"), *rows])
    folder.write("lans.csv", text.getvalue())
    made = gathered(folder.path / "exports.yaml")
    for name, (count, taken, bad, left) in made.counts.items():
        assert count == taken + bad + left, name
    assert made.counts["lans"][0] == len(rows)
    assert len(made.left) == sum(left for *_, left in made.counts.values())
    networks = [n for s in made.values["sites"].values() for n in s.get("networks", {})]
    assert len(networks) <= made.counts["lans"][1]
