"""The hub of the demo as a user meets it: tables, traces, failures, figures."""

from __future__ import annotations

from pathlib import Path

import pytest

import obrin
from tests.cli.program import Folder

DEMO = Path(obrin.__file__).parent / "demo" / "crossing.yaml"


@pytest.fixture(scope="module")
def folder(tmp_path_factory) -> Folder:
    made = Folder(tmp_path_factory.mktemp("crossing"))
    made.write("design.yaml", DEMO.read_text())
    made.obrin("settle").good()
    return made


def test_the_demo_has_no_error_and_says_what_chokes(folder: Folder) -> None:
    run = folder.obrin("check").good()
    assert "0 errors" in run.out
    assert "overload-after-failure" in run.out


def test_tables_of_hubs_and_subnets(folder: Folder) -> None:
    found = folder.obrin("routes", "crossing/yard", "--json").good().json
    learned = [r for r in found if r["from"] != "connected"]
    assert {(r["from"], r["via"]) for r in learned} == {("attached", "ledger@crossing")}
    assert [":" in r["prefix"] for r in learned] == [False, True]
    own = {
        r["prefix"]: r for r in folder.obrin("routes", "timetable/archive", "--json").good().json
    }
    assert own["0.0.0.0/0"]["why"] == "its own: dropped"
    told = folder.obrin("routes", "--sessions", "--json").good().json
    yard = [t for t in told if t["tunnel"].startswith("yard")]
    assert yard == []  # static
    lost = folder.obrin(
        "routes", "hh-east", "--without", "circuit:harbour-line", "--changes"
    ).good()
    assert "harbour-line/circuit" in lost.out
    assert "harbour-crossing/north" in lost.out
    folder.obrin("routes", "crossing/nobody").bad(2, "there is no table", "crossing/head")


def test_a_trace_through_the_hub_and_one_that_stops(folder: Folder) -> None:
    run = folder.obrin("trace", "harbour-house/offices", "northquay/cameras", "tcp/554").good()
    for words in ("circuit harbour-line to crossing", "crossing/head: route", "arrives"):
        assert words in run.out
    stopped = folder.obrin("trace", "slipway/workshop", "northquay/gates", "icmp").bad(1)
    assert "no route to 10.30.0.10 at sw-box" in stopped.out


def test_drills_name_hubs_zones_and_circuits(folder: Folder) -> None:
    (found,) = folder.obrin("drill", "circuit:harbour-line", "--json").good().json
    assert {m["noticed_by"] for m in found["moved"]} == {"BFD, 3 times 0.3 s"}
    assert found["fullest"]["name"] == "uplink hh-east/fibre"
    run = folder.obrin("drill", "--kind", "hub").bad(1, "15 of 15 flows", "hub:crossing")
    assert "Single points of failure: hub:crossing" in run.out
    folder.obrin("drill", "zone:east-3/c").bad(2, "zone:east-3/b")
    share = folder.obrin("drill", "--availability", "--json").good().json
    assert 0.99 < share[0]["share"] < 1.0


@pytest.mark.long
def test_figures(folder: Folder) -> None:
    for what in ("outages", "drill", "reach"):
        folder.obrin("draw", what, "--to", f"{what}.svg").good()
        assert (folder.path / f"{what}.svg").read_text().startswith("<?xml")
    folder.obrin("draw", "outages", "--to", "x.pdf").bad(2, "must be .svg or .png")


def test_packs_are_whole(folder: Folder) -> None:
    folder.obrin("handover").good()
    sheet = (folder.path / "packs" / "design" / "hh-east" / "sheet.md").read_text()
    assert "### Circuits" in sheet
