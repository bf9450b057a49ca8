"""`compare` as it is typed: filled sheets in every form, by people who write in their own way."""

from __future__ import annotations

import csv
import io
import json

import pytest

from tests.cli.program import Folder
from tests.doubles import DESIGN
from tests.outputs import valid

PACK = "packs/design/quay-gw"


@pytest.fixture(scope="module")
def made(tmp_path_factory) -> Folder:
    folder = Folder(tmp_path_factory.mktemp("compare"))
    folder.write("design.yaml", DESIGN)
    folder.obrin("settle").good()
    folder.obrin("handover").good()
    return folder


def rows_of(folder: Folder, place: str = "quay-gw") -> list[dict[str, str]]:
    text = (folder.path / "packs" / "design" / place / "values.csv").read_text()
    return list(csv.DictReader(io.StringIO(text)))


def filled(folder: Folder, name: str, **changes: str) -> None:
    """The sheet with what was entered in a column of its own; a change is by the end of a name."""
    out = io.StringIO()
    rows = rows_of(folder)
    writer = csv.DictWriter(out, [*rows[0], "entered"], delimiter=";")
    writer.writeheader()
    left = dict(changes)
    for row in rows:
        mine = [end for end in left if row["name"].endswith(end)]
        value = left.pop(mine[0]) if mine else row["value"]
        writer.writerow({**row, "entered": value})
    assert not left
    folder.write(name, out.getvalue())


def test_a_sheet_that_is_filled_in_rightly(made: Folder) -> None:
    made.obrin("compare", "quay-gw", f"{PACK}/values.csv", "--partial").good()
    run = made.obrin("compare", "quay-gw", f"{PACK}/values.csv").bad(1, "")
    assert "no fingerprint of the key is entered" in run.out
    right = {row["name"]: row["value"] for row in rows_of(made)}
    lifetime = next(v for n, v in right.items() if n.endswith(".lifetime.ike-sa"))
    minutes = int(lifetime.split()[0]) // 60
    filled(made, "own-words.csv", **{".lifetime.ike-sa": f"{minutes} min"})
    run = made.obrin("compare", "quay-gw", "own-words.csv", "--partial").good()
    assert f"No difference found; {len(right) - 2} of {len(right)} values" in run.out


def test_mistakes_are_named_with_their_line_and_what_follows(made: Folder) -> None:
    changes = {
        ".remote-address.quay-apps/a": "203.0.113.2",
        ".dh-group-pfs.ike-sa": "group 2",
        ".peer-s-as-number.quay-apps/b": "",
    }
    filled(made, "wrong.csv", **changes)
    run = made.obrin("compare", "quay-gw", "wrong.csv").bad(1, "")
    assert "that is the value of quay-apps/b" in run.out
    assert "MODP-1024 instead of" in run.out
    assert "NO_PROPOSAL_CHOSEN" in run.out
    assert "nothing is entered" in run.out
    found = valid("compare", made.obrin("compare", "quay-gw", "wrong.csv", "--json").json)
    assert len(found["differences"]) == 3
    lines = (made.path / "wrong.csv").read_text().splitlines()
    for one in found["differences"]:
        assert one["name"] in lines[one["line"] - 1]


def test_other_forms(made: Folder) -> None:
    import openpyxl

    rows = rows_of(made)
    by_name = {row["name"]: row["value"] for row in rows}
    wrong = by_name | {"gateway.bgp-as-number": "65009"}
    made.write("named.json", json.dumps(wrong))
    book = openpyxl.Workbook()
    book.active.append(["name", "entered"])
    for name, value in wrong.items():
        book.active.append([name, 65009 if value == "65009" else value])
    book.save(made.path / "filled.xlsx")
    made.write("two.csv", "".join(f'"{n}","{v}"\n' for n, v in wrong.items()))
    made.write("text.txt", "router bgp 65009\n peer one 203.0.113.1 at quay-apps/a\n")
    column = "gateway__bgp_as_number"
    rule = f"  ^router bgp ${{{column}}} -> Record"
    made.write("template", f"Value {column} (\\d+)\n\nStart\n{rule}\n")
    for file, more in (
        ("named.json", ()),
        ("filled.xlsx", ()),
        ("two.csv", ()),
        ("text.txt", ("--template", "template")),
    ):
        found = made.obrin("compare", "quay-gw", file, *more, "--json").json
        assert [d["name"] for d in found["differences"]] == ["gateway.bgp-as-number"], file
    config = json.loads((made.path / PACK / "config.json").read_text())
    made.write("same.json", json.dumps(config))
    made.obrin("compare", "quay-gw", "same.json").good()
    part = {name: data for name, data in config.items() if name != "obrin-bgp:bgp"}
    made.write("part.json", json.dumps(part))
    run = made.obrin("compare", "quay-gw", "part.json").bad(1, "")
    assert "not compared: FILE does not have it: obrin-bgp:bgp" in run.out
    config["obrin-bgp:bgp"]["neighbor"][0]["hold-time"] = 60
    made.write("other.json", json.dumps({"ietf-restconf:data": config}))
    made.obrin("compare", "quay-gw", "other.json").bad(1, "")


def test_keys_by_their_fingerprints(made: Folder) -> None:
    key = made.obrin("keys", "show", "quay-apps/a").good().out.strip()
    shown = {}
    for name, typed in (("right", key), ("case", key.swapcase()), ("blank", f"{key} ")):
        run = made.obrin("keys", "compare", "quay-apps/a", given=f"{typed}\n")
        shown[name] = run.out.strip().rsplit(" ", 1)[1]
    for name, words in (("right", ""), ("case", "case of letters"), ("blank", "blanks around it")):
        filled(made, "keys.csv", **{"keys.json.quay-apps/a": shown[name]})
        run = made.obrin("compare", "quay-gw", "keys.csv", "--partial")
        assert run.code == (1 if words else 0)
        assert words in run.out
        assert key not in run.out
    filled(made, "keys.csv", **{"keys.json.quay-apps/b": shown["right"]})
    assert "it is the key of quay-apps/a" in made.obrin("compare", "quay-gw", "keys.csv").out


def test_two_ends_without_a_design(made: Folder, tmp_path) -> None:
    bare = Folder(tmp_path)
    for place in ("quay-gw", "apps"):
        text = (made.path / "packs" / "design" / place / "values.csv").read_text()
        bare.write(f"{place}.csv", text)
    ends = "compare", "--ends", "quay-gw.csv", "apps.csv"
    bare.obrin(*ends, "--partial").good()
    assert "No difference found; " in bare.obrin(*ends).bad(1, "").out
    assert valid("compare", bare.obrin(*ends, "--json").bad(1, "").json)["good"] is None
    text = (bare.path / "apps.csv").read_text()
    at = text.index("tunnels.remote-identity.quay-apps/a")
    bare.write("apps.csv", text[:at] + text[at:].replace("192.0.2.10", "192.0.2.11", 1))
    run = bare.obrin("compare", "--ends", "quay-gw.csv", "apps.csv").bad(1, "")
    assert "do not mirror each other" in run.out
    bare.write("none.csv", "a,b\n")
    bare.obrin("compare", "--ends", "quay-gw.csv", "none.csv").bad(2, "nothing in common")
    bare.obrin("compare", "--ends", "quay-gw.csv", "gone.csv").bad(2, "cannot be read")


def test_what_cannot_be_read_is_reported(made: Folder) -> None:
    made.write("broken.xlsx", "no workbook")
    made.write("broken.json", "{")
    made.write("list.json", "[1]")
    made.write("nothing.csv", "name,value\nx,1\n")
    made.write("bad-template", "Value\n")
    (made.path / "latin.csv").write_bytes("name,value\nä,1\n".encode("latin-1"))
    made.all_bad(
        [
            (("compare", "nobody", f"{PACK}/values.csv"), 2, "There are: quay-gw, apps"),
            (("compare", "quay-gw", "missing.csv"), 2, "cannot be read"),
            (("compare", "quay-gw", "broken.xlsx"), 2, "not a workbook"),
            (("compare", "quay-gw", "broken.json"), 2, "broken.json:1:2: not JSON"),
            (("compare", "quay-gw", "list.json"), 2, "neither names with values"),
            (("compare", "quay-gw", "nothing.csv"), 2, "has no value of the sheet"),
            (("compare", "quay-gw", "latin.csv"), 2, "not UTF-8 text (byte 11)"),
            (
                ("compare", "quay-gw", "nothing.csv", "--template", "bad-template"),
                2,
                "the template does not work",
            ),
        ]
    )
