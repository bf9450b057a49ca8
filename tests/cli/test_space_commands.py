"""`space`, `classes`, `gather`, `draw` and many sites: the built program on files."""

from __future__ import annotations

import csv
import io
import json
import re
import shutil
from pathlib import Path

import pytest
import yaml

import obrin
from obrin.core.check.space.cures import merged
from obrin.core.design.document import load_design
from obrin.core.handover.ends.proof import EQUAL, MIRRORED
from tests.cli.program import Folder

DEMO = Path(obrin.__file__).parent / "demo"


@pytest.fixture
def folder(tmp_path) -> Folder:
    for path in DEMO.iterdir():
        if path.suffix in (".yaml", ".csv"):
            shutil.copy(path, tmp_path / path.name)
    return Folder(tmp_path)


def test_the_map_fits_eighty_columns_with_and_without_colour(folder: Folder) -> None:
    before = folder.files()
    for env in ({"COLUMNS": "80"}, {"COLUMNS": "80", "NO_COLOR": "1", "PYTHONIOENCODING": "ascii"}):
        out = folder.obrin("space", **env).good().out
        assert "booking" in out
        assert "\x1b" not in out
    assert "#" in out
    assert out.isascii()
    assert folder.files() == before
    assert (
        "! 10.20.0.0/16 of timetable" in folder.obrin("space", "--design", "draft.yaml").good().out
    )
    assert {e["kind"] for e in folder.obrin("space", "--json").good().json} >= {"network", "subnet"}


def test_questions_about_owners_free_room_and_clashes(folder: Folder) -> None:
    assert "harbour-house/counters" in folder.obrin("space", "who", "10.20.1.7").good().out
    piped = folder.obrin(
        "space", "who", "-", "--json", given="10.20.1.7 # a till\n\n172.20.0.0/16\n"
    ).good()
    assert [len(found) for found in piped.json.values()] == [1, 0]
    run = folder.obrin("space", "clash", "10.64.3.0/24", "10.99.0.0/16", "10.99.1.0/24")
    run.bad(
        1,
        "10.64.3.0/24 collides with 10.64.0.0/16",
        "10.99.1.0/24 collides with 10.99.0.0/16, proposed",
    )
    assert folder.obrin("space", "clash", "10.99.0.0/16").good().out == ""
    free = {
        f["pool"]: f
        for f in folder.obrin("space", "free", "/24", "--count", "2", "--json").good().json
    }
    assert len(free["10.64.0.0/10"]["blocks"]) == 2
    assert folder.obrin("space", "clash", *free["10.64.0.0/10"]["blocks"]).good()
    use = {u["pool"]: u for u in folder.obrin("space", "use", "--json").good().json}
    assert use["10.64.0.0/10"]["used"] > 65536
    assert "10.20.0.0/21, 10.20.8.0/24" in folder.obrin("space", "announce").good().out
    assert folder.obrin("space", "overlaps").good().out.startswith("No two owners")


BAD_INPUT = [
    (
        ("space", "who", "10.20.1.7/22"),
        2,
        "either the network 10.20.0.0/22 or the single address",
    ),
    (("space", "who", "10.020.1.7"), 2, "leading zero"),
    (("space", "free", "twenty"), 2, "not a prefix length"),
    (("space", "free", "/64"), 2, "a /64 does not exist"),
    (("space", "free", "--pool", "mine"), 2, "there is no pool 'mine'"),
    (("space", "fit", "--pool", "10.64.0.0/10"), 2, "nothing to add"),
    (("space", "fit", "--pool", "10.64.0.0/10", "--add", "x=many"), 2, "not of the form"),
    (
        ("space", "fit", "--pool", "10.64.0.0/10", "--add", "x=5", "--growth", "5"),
        2,
        "not a growth",
    ),
    (("space", "renumber", "harbour-house/none"), 2, "There are: harbour-house/counters"),
    (("space", "renumber", "harbour-house/offices", "--to", "10.1.1.1/24"), 2, "--to: "),
    (
        ("settle", "--explain", "clouds.timetabl.space"),
        2,
        "Did you mean clouds.timetable.space",
    ),
    (("settle", "--anew", "clouds.none"), 2, "nothing was settled at 'clouds.none'"),
    (("classes", "none"), 2, "there is no cloud 'none'"),
    (("draw", "space", "--to", "space.gif"), 2, "must be .svg or .png"),
    (("gather", "none.csv"), 2, "there is no such file"),
    (("gather", "partners.csv", "--column", "colour=Owner"), 2, "write NAME=HEADER"),
    (("new", "--sites", "kiosks.csv"), 2, "belong together"),
    (("new", "--sites", "kiosks.csv", "--template", "kiosk.yaml"), 2, "design.yaml exists"),
]


def test_bad_input_gets_one_message_and_changes_nothing(folder: Folder) -> None:
    folder.all_bad(BAD_INPUT)


def test_what_if_ends_with_an_exit_code(folder: Folder) -> None:
    common = ("space", "fit", "--pool", "10.64.0.0/10", "--growth", "50 %")
    assert "fits" in folder.obrin(*common, "--add", "kiosk=40x100").good().out
    run = folder.obrin(*common, "--add", "hall=900000x2", "--years", "4", "--json").bad(1)
    assert [y["fits"] for y in run.json][-1] is False


def test_remedies_and_a_plan_to_renumber(folder: Folder) -> None:
    folder.obrin("space", "overlaps", "--design", "draft.yaml").bad(
        1, "network harbour-house/counters"
    )
    out = folder.obrin("space", "remedies", "--design", "draft.yaml").good().out
    assert "translate one to one" in out
    found = folder.obrin("space", "remedies", "--design", "draft.yaml", "--json").good().json
    assert {r["name"] for r in found[0]["remedies"]} == {
        "another-range",
        "renumber",
        "translate",
        "some-hosts",
    }
    assert "Move servers" in folder.obrin("space", "renumber", "harbour-house/offices").good().out
    table = folder.obrin(
        "space", "renumber", "harbour-house/offices", "--to", "10.77.0.0/22", "--csv"
    ).good()
    rows = list(csv.reader(io.StringIO(table.out)))
    assert rows[0] == ["old", "new"]
    assert rows[11] == ["10.20.4.10", "10.77.0.10"]


def test_each_way_out_works_when_it_is_written_down(folder: Folder) -> None:
    """And `space`, `space overlaps`, `space remedies` and `check` agree that it does."""
    draft = yaml.safe_load((folder.path / "draft.yaml").read_text())
    at = ("--design", "tried.yaml")
    found = folder.obrin("space", "remedies", "--design", "draft.yaml", "--json").good().json
    tried = 0
    for pair in found:
        owners = {pair["outer"]["owner"], pair["inner"]["owner"]}
        for remedy in pair["remedies"]:
            if remedy["impossible"] or not remedy["change"]:
                continue
            assert yaml.safe_load("\n".join(remedy["write"])) == remedy["change"]
            changed = merged(draft, remedy["change"])
            folder.write("tried.yaml", yaml.safe_dump(changed, sort_keys=False))
            left = [
                {p["outer"]["owner"], p["inner"]["owner"]}
                for p in folder.obrin("space", "overlaps", "--json", *at).json
                if p["state"] == "in the way"
            ]
            assert owners not in left, remedy["name"]
            causes = [
                f["cause"]
                for f in folder.obrin("check", "--json", *at).json
                if f["code"] in ("space-overlap", "subnet-outside", "gateway-subnet-outside")
                and f["severity"] == "error"
            ]
            assert not [c for c in causes if all(owner in c for owner in owners)], remedy["name"]
            assert not [c for c in causes if "outside" in c or "is not inside" in c]
            others = folder.obrin("space", "remedies", "--json", *at).good().json
            assert all(
                owners != {p["outer"]["owner"], p["inner"]["owner"]}
                for p in others
                if remedy["name"] != "some-hosts"
            )
            tried += 1
    assert tried >= 6


def test_classes_say_why_each_other_is_not_taken_and_can_be_replaced(folder: Folder) -> None:
    out = folder.obrin("classes", COLUMNS="160").good().out
    assert "runs 1 instance, 2 are asked" in out
    assert "the cheapest that fits" in out
    folder.obrin("classes", "--write", "mine.yaml").good()
    text = (folder.path / "mine.yaml").read_text()
    folder.write("mine.yaml", text.replace("cutter", "lugger"))
    design = (folder.path / "design.yaml").read_text()
    folder.write("design.yaml", f"offering: mine.yaml\n{design}")
    assert (
        folder.obrin("settle", "--json")
        .good()
        .json["values"]["clouds.timetable.gateway.class"]["value"]
        == "lugger"
    )
    of_one = re.sub(r"(  timetable:.*\n)", r"\1    offering: mine.yaml\n", design, count=1)
    folder.write("design.yaml", of_one)
    assert "lugger" in folder.obrin("classes", COLUMNS="160").good().out
    folder.obrin("classes", "--write", "mine.yaml").bad(2, "exists")
    folder.write("mine.yaml", "classes: {}")
    folder.obrin("settle").bad(2, "mine.yaml:1:1")
    folder.write("design.yaml", f"offering: none.yaml\n{design}")
    folder.obrin("check").bad(2, "none.yaml", "there is no such file")
    folder.write("design.yaml", of_one.replace("mine.yaml", "none.yaml"))
    folder.obrin("check").bad(2, "none.yaml", "there is no such file")


def test_settle_explains_and_chooses_anew_only_where_asked(folder: Folder) -> None:
    folder.obrin("settle").good()
    before = folder.files()
    told = folder.obrin("settle", "--explain", "clouds.timetable.space").good().out
    assert "used by 10.64.0.0/16 of pier-partner (elsewhere)" in told
    assert (
        folder.obrin("settle", "--explain", "clouds.timetable.gateway.class", "--json")
        .good()
        .json["candidates"]
    )
    assert folder.files() == before
    folder.obrin("settle", "--anew", "clouds.timetable").good()
    assert folder.files() == before  # the same free places are found again


def test_gather_takes_all_rows_or_none(folder: Folder) -> None:
    before = folder.files()
    shown = folder.obrin("gather", "partners.csv", "--dry-run").good()
    assert "5 ranges would be added" in shown.out
    assert folder.files() == before
    folder.obrin("gather", "partners.csv").good()
    design = load_design((folder.path / "design.yaml").read_text(), "d").design
    assert design.elsewhere["bay-freight"].place == "south berth"
    assert "# a partner's network" in (folder.path / "design.yaml").read_text()
    again = folder.obrin("gather", "partners.csv", "--json").good().json
    assert (again["added"], again["written"]) == ([], False)
    folder.write("bad.csv", "prefix,name\n10.200.0.0/16,good\n10.201.0.1/16,wrong\n")
    before = folder.files()
    folder.obrin("gather", "bad.csv").bad(
        2, "bad.csv:3:1", "1 bad rows and 1 good ones", "--keep-good"
    )
    assert folder.files() == before
    kept = folder.obrin("gather", "bad.csv", "--keep-good").good()
    assert "1 ranges added" in kept.out
    assert "bad.csv:3:1" in kept.err


def test_overhead_of_every_tunnel_and_what_if(folder: Folder) -> None:
    folder.obrin("settle").good()
    first = folder.obrin("overhead", "--json").good().json[0]
    assert (first["inner_mtu"], first["mss_ipv4"], first["on_the_wire"]["1400"]) == (
        1446,
        1406,
        1456,
    )
    out = folder.obrin("overhead", "harbour-timetable", "--all").good().out
    assert "IPv6, UDP" in out
    assert "none" in out  # IPv6 does not cross the smallest path
    folder.obrin("overhead", "none").bad(2, "There are: harbour-timetable")
    folder.obrin("handover").good()
    sheet = (folder.path / "packs" / "design" / "hh-east" / "sheet.md").read_text()
    assert "1446 bytes" in sheet
    assert "1406 bytes" in sheet


def test_packs_hold_the_sheet_as_page_and_table_and_the_mirror_proof(folder: Folder) -> None:
    folder.obrin("settle").good()
    folder.obrin("handover").good()
    pack = folder.path / "packs" / "design" / "hh-east"
    page = (pack / "sheet.html").read_text()
    assert "<table>" in page
    assert "169.254.1.2" in page
    assert "http" not in page  # it loads nothing
    rows = list(csv.DictReader((pack / "values.csv").open()))
    assert {
        "name": "gateway.bgp-as-number",
        "part": "1. This gateway",
        "row": "BGP AS number",
        "column": "Enter",
        "value": "64513",
    } in rows
    assert len([r for r in rows if r["row"] == "Remote address"]) == 2
    proof = (pack / "mirror.md").read_text()
    assert proof.count("| same |") == 2 * (2 * len(MIRRORED) + len(EQUAL))
    assert "DIFFERENT" not in proof
    secrets = [
        entry["secret"]
        for entry in json.loads((pack / "keys.json").read_text())["obrin-keys:keys"][
            "pre-shared-key"
        ]
    ]
    for name in ("sheet.html", "values.csv", "mirror.md", "sheet.md", "config.json"):
        assert not any(secret in (pack / name).read_text() for secret in secrets)


def test_keys_sealed_with_a_passphrase(folder: Folder) -> None:
    folder.obrin("keys", "seal").bad(2, "settle")
    folder.obrin("settle").good()
    shown = folder.obrin("keys", "show", "harbour-timetable/north").good().out
    plain = (folder.path / ".obrin" / "keys-design.json").read_text()
    assert shown.strip() in plain
    folder.obrin("keys", "seal").bad(2, "OBRIN_PASSPHRASE")
    assert (folder.path / ".obrin" / "keys-design.json").read_text() == plain
    right = {"OBRIN_PASSPHRASE": "a ferry, a pier and a long night"}
    folder.obrin("keys", "seal", **right).good()
    sealed = (folder.path / ".obrin" / "keys-design.json").read_text()
    assert shown.strip() not in sealed
    folder.obrin("keys", "seal", **right).bad(2, "sealed already")
    folder.obrin("keys", "show", "harbour-timetable/north").bad(2, "the secrets are sealed")
    folder.obrin("keys", "show", "harbour-timetable/north", OBRIN_PASSPHRASE="wrong").bad(
        2, "does not fit"
    )
    assert folder.obrin("keys", "show", "harbour-timetable/north", **right).good().out == shown
    folder.obrin("handover", **right).good()
    folder.obrin("keys", "unseal", **right).good()
    assert "harbour-timetable/north" in (folder.path / ".obrin" / "keys-design.json").read_text()
    folder.obrin("keys", "unseal").bad(2, "not sealed")


TEMPLATE = """\
! {{ gateway }} of {{ design }}
{% for t in tunnels %}
interface {{ t.interface }} {{ t.inside.local }}/{{ t.inside.length }} mtu {{ t.mtu }}
{% endfor %}
"""


def test_a_template_of_ones_own_is_rendered_whole_or_not_at_all(folder: Folder) -> None:
    folder.obrin("settle").good()
    folder.write("dev.cfg.j2", TEMPLATE)
    shown = folder.obrin("handover", "--template", "dev.cfg.j2", "--gateway", "hh-east").good().out
    assert shown.splitlines()[:2] == [
        "! hh-east of skerrow-ferries",
        "interface tunnel-harbour-timetable-north 169.254.1.2/30 mtu 1446",
    ]
    folder.obrin("handover", "--template", "dev.cfg.j2").good()
    assert (folder.path / "packs" / "design" / "hh-east" / "dev.cfg").read_text() == shown
    before = folder.files()
    folder.write("bad.j2", TEMPLATE + "{{ tunels }}\n")
    folder.obrin("handover", "--template", "bad.j2").bad(
        2, "bad.j2:5:4: 'tunels' means nothing here"
    )
    (folder.path / "bad.j2").unlink()
    assert folder.files() == before
    folder.write("dev.cfg.j2", "{{ tunnels[0].key }}")
    key = folder.obrin("keys", "show", "harbour-timetable/north").good().out.strip()
    shown = folder.obrin(
        "handover", "--template", "dev.cfg.j2", "--gateway", "hh-east", "--reveal-keys"
    ).good()
    assert shown.out == key
    folder.obrin("handover", "--template", "dev.cfg.j2", "--gateway", "none").bad(
        2, "There are: hh-east"
    )
    folder.obrin("handover", "--reveal-keys").bad(2, "belong to --template")


def test_agree_tells_what_is_agreed_or_fails_and_when(folder: Folder) -> None:
    out = folder.obrin("agree", "harbour-timetable").good().out
    assert "2880 to 3060 s" in out
    assert "IKE_AUTH" in out
    run = folder.obrin("agree", "--design", "draft.yaml").bad(1, "IKE_SA_INIT: NO_PROPOSAL_CHOSEN")
    assert "let the cloud offer suite 'wide'" in run.out
    found = folder.obrin("agree", "--design", "draft.yaml", "--json").bad(1).json
    assert found[0]["edit"] == {"suite": "wide", "ends": ["the cloud"]}
    folder.obrin("agree", "none").bad(2, "There are: harbour-timetable")
    assert (
        "IKE_SA_INIT fails with"
        in folder.obrin("agree", "harbour-timetable", "--design", "draft.yaml").out
    )
    # The change that is proposed makes them agree, but for what else is wrong in the draft.
    draft = (folder.path / "draft.yaml").read_text()
    folder.write(
        "cured.yaml",
        draft.replace("offers: [high]", "offers: [high, wide]").replace(
            "suite: island", "suite: wide"
        ),
    )
    folder.obrin("agree", "--design", "cured.yaml").good()


def test_many_sites_from_one_table(folder: Folder) -> None:
    made = ("new", "--sites", "kiosks.csv", "--template", "kiosk.yaml", "--to", "kiosks.yaml")
    assert "24 rows" in folder.obrin(*made).good().err
    folder.obrin("check", "--design", "kiosks.yaml").good()
    regions = [
        a
        for a in folder.obrin("space", "announce", "--design", "kiosks.yaml", "--json").good().json
        if a["kind"] == "region"
    ]
    assert all(len(a["held"]) == 1 for a in regions)
    text = (folder.path / "kiosks.csv").read_text()
    folder.write("kiosks.csv", text + "kiosk-amber,north,3,3,198.51.100.9\n")
    folder.obrin(*made, "--force").bad(2, "kiosks.csv:26:1", "stands at kiosks.csv:2:1 already")
    folder.obrin(*made, "--force", "--keep-good").good()


@pytest.mark.parametrize("name", ["space.svg", "space.png"])
def test_the_figure_is_drawn(folder: Folder, name: str) -> None:
    folder.obrin("draw", "space", "--to", name, "--design", "draft.yaml").good()
    data = (folder.path / name).read_bytes()
    assert data.startswith(b"\x89PNG" if name.endswith("png") else b"<?xml")
    if name.endswith("svg"):
        assert b"harbour-house" in data
        folder.obrin("draw", "space", "--to", "again.svg", "--design", "draft.yaml").good()
        assert (folder.path / "again.svg").read_bytes() == data


def test_pools_that_overlap_and_names_that_mean_nothing(folder: Folder) -> None:
    design = (folder.path / "design.yaml").read_text()
    for extra, words in (
        (
            "pools: {a: 10.0.0.0/8, b: {prefixes: 10.1.0.0/16}}",
            "10.1.0.0/16 of pool 'b' overlaps 10.0.0.0/8",
        ),
        ("pools: {a: {prefixes: [10.0.0.0/8, 2001:db8::/32]}}", "IPv4 and IPv6 are mixed"),
        ("pools: {a: {prefixes: 10.0.0.0/8, region: nowhere}}", "there is no region 'nowhere'"),
        ("roles: {a: {hosts: 3, length: 24}}", "say the same thing twice"),
        ("as-numbers: {sites: [9-3]}", "does not rise"),
        ("inside: {length: 29}", "'length' is 29"),
    ):
        folder.write("bad.yaml", f"{extra}\n{design}")
        folder.obrin("check", "--design", "bad.yaml").bad(2, "bad.yaml:1:", words)
    folder.write("bad.yaml", design.replace("counters: 10.20.0.0/22", "counters: {role: till}"))
    folder.obrin("check", "--design", "bad.yaml").bad(2, "there is no role 'till'")
    folder.write("bad.yaml", design.replace("counters: 10.20.0.0/22", "counters: 10.20.1.0/22"))
    folder.obrin("check", "--design", "bad.yaml").bad(2, "bad.yaml:9:7: 'counters'", "10.20.0.0/22")


def test_a_file_of_a_hundred_megabytes_is_refused_at_once(folder: Folder) -> None:
    big = folder.path / "big.csv"
    with big.open("wb") as file:
        file.truncate(100 * 1024 * 1024)
    folder.obrin("gather", "big.csv").bad(2, "big.csv", "104,857,600 bytes")
    folder.obrin("check", "--design", "big.csv").bad(2, "at most 67,108,864 are read")


def test_devices_of_ones_own(folder: Folder) -> None:
    told = folder.obrin("profiles", "--design", "ledger.yaml").good()
    assert "yard-box" in told.out
    assert "branch-box" in told.out
    own = folder.obrin("profiles", "branch-box").good().out
    design = (folder.path / "ledger.yaml").read_text()
    (folder.path / "own.yaml").write_text(
        design.replace("profile: yard-box", "profile: branch-box")[
            : design.index("\nprofiles:") + 2
        ]
        + "\n"
        + own
    )
    folder.obrin("settle", "--design", "own.yaml").good()
    folder.obrin("profiles", "none").bad(2, "There are: modern-router")
    told = folder.obrin("agree", "slipway-ledger", "--design", "ledger.yaml").good()
    assert "192.168.1.2 (its own address" in told.out
    assert "reauthentication" in told.out
