"""The settled file changed by hand: every command reads the same, judges it, and says so."""

from __future__ import annotations

import json
import re

import pytest

from tests.cli.program import Folder
from tests.doubles import DESIGN


@pytest.fixture
def folder(tmp_path) -> Folder:
    made = Folder(tmp_path)
    made.write("design.yaml", DESIGN.replace("quay-gw:\n", "quay-gw:\n        as:\n"))
    made.obrin("settle").good()
    return made


def edited(folder: Folder, key: str, value: str) -> int:
    """Put another value for a key; the line on which it stands."""
    path = folder.path / "design.settled.yaml"
    text, count = re.subn(
        rf"(  {re.escape(key)}:\n    value: )\S.*?(  # \w+)?\n",
        lambda m: f"{m[1]}{value}{m[2] or ''}\n",
        path.read_text(),
    )
    assert count == 1, key
    path.write_text(text)
    return text[: text.index(f"  {key}:\n")].count("\n") + 2


AS = "clouds.apps.gateway.as"
SPACE = "clouds.apps.space"
# (key, value, words): what cannot be a value there
IMPOSSIBLE = [
    (AS, "-1", "not an AS number"),
    (AS, "0", "not an AS number"),
    (AS, "23456", "reserved"),
    (AS, "4294967296", "not an AS number"),
    (AS, "9" * 5000, ""),
    (AS, '"zzz"', "not an AS number"),
    (AS, "[1]", ""),
    ("sites.quay.gateways.quay-gw.as", "65535", "reserved"),
    (SPACE, '"127.0.0.0/8"', "loopback"),
    (SPACE, '"224.0.0.0/8"', "multicast"),
    (SPACE, '"10.0.0.1/8"', "10.0.0.0/8"),
    (SPACE, '"zzz"', "prefix length"),
    (SPACE, '"169.254.0.0/16"', "no router passes on"),
    (SPACE, "7", "not an address"),
    ("clouds.apps.subnets.web.prefix", '"0.0.0.0/24"', "this network"),
    ("clouds.apps.gateway.subnet", '"240.0.0.0/28"', "reserved"),
    ("clouds.apps.gateway.class", '"galleon"', "capacity class"),
    ("clouds.apps.gateway.addresses", '["203.0.113.1", "203.0.113.1"]', "twice"),
    ("clouds.apps.gateway.addresses", '["203.0.113.1", "0.0.0.0"]', "this network"),
    ("clouds.apps.gateway.addresses", "[]", "not a list"),
    ("links.quay-apps.suite", "3", "not a suite"),
    ("links.quay-apps.tunnels.a.inside", '"10.0.0.0/24"', "two ends"),
]


def test_a_value_that_cannot_be_one_is_named_with_its_place_by_every_command(folder) -> None:
    whole = (folder.path / "design.settled.yaml").read_text()
    for key, value, words in IMPOSSIBLE:
        folder.write("design.settled.yaml", whole)
        line = edited(folder, key, value)
        said = set()
        for command in ("check", "handover", "routes", "settle"):
            run = folder.obrin(command)
            assert run.code == 2, (command, key, value, run.out, run.err)
            assert f"design.settled.yaml:{line}:" in run.err, (command, run.err)
            assert words in run.err, (command, run.err)
            said.add(run.err.replace(" mistakes.", ""))
        assert len(said) == 1
    folder.obrin("settle", "--anew", "links.quay-apps.tunnels.a.inside").good()
    folder.obrin("check").good()


def values(folder: Folder) -> dict[str, object]:
    """What commands of both kinds go by."""
    folder.obrin("handover").good()
    config = json.loads((folder.path / "packs/design/quay-gw/config.json").read_text())
    neighbour = config["obrin-bgp:bgp"]["neighbor"][0]
    trace = folder.obrin("routes", "quay-gw", "--json").good().json
    return {"pack": neighbour["remote-autonomous-system"], "model": trace}


def test_check_and_handover_see_the_same_edited_value(folder) -> None:
    edited(folder, AS, "64999")
    run = folder.obrin("check")
    assert f"{AS} was changed by hand" in re.sub(r"\s+", " ", run.out)
    found = values(folder)
    assert found["pack"] == 64999
    assert any(64999 in row["as_path"] for row in found["model"])
    run = folder.obrin("handover").good()
    assert f"{AS} was changed by hand" in run.err
    run = folder.obrin("settle").good()
    assert f"{AS} was changed by hand to 64999: kept." in run.out
    assert "changed by hand" not in folder.obrin("check").out
    assert values(folder)["pack"] == 64999


def test_a_value_that_does_not_fit_is_seen_alike_and_settle_says_what_it_does(folder) -> None:
    """An overlap with a site: check finds it in the very network that packs are made of."""
    edited(folder, SPACE, '"10.20.0.0/20"')
    run = folder.obrin("check")
    assert run.code == 1
    assert "space-overlap" in run.out
    assert "settled-stale" in run.out
    run = folder.obrin("settle").good()
    assert f"{SPACE} was changed by hand to 10.20.0.0/20: does not fit" in run.out
    folder.obrin("check").good()


def test_a_design_that_grew_is_checked_as_it_would_be_handed_over(folder) -> None:
    """Without settle the packs hold the old class; check does not look at another one."""
    before = (folder.path / "design.settled.yaml").read_text()
    text = (folder.path / "design.yaml").read_text()
    folder.write(
        "design.yaml",
        text.replace(
            "subnets: {web: {hosts: 100}}",
            "subnets: {web: {hosts: 100}}\n    gateway: {throughput: 9 Gbit/s}",
        ),
    )
    run = folder.obrin("check")
    assert "settled-stale" in run.out
    assert (folder.path / "design.settled.yaml").read_text() == before


def test_files_without_marks_and_with_other_line_ends_are_read(folder) -> None:
    path = folder.path / "design.settled.yaml"
    path.write_text(re.sub(r"  # \w{6}\n", "\n", path.read_text()))
    assert "by-hand" not in folder.obrin("check").good().out
    folder.obrin("settle").good()
    assert "# " in path.read_text().split("values:")[1]
    path.write_bytes(path.read_bytes().replace(b"\n", b"\r\n"))
    assert "by-hand" not in folder.obrin("check").good().out


def test_a_settled_file_that_is_empty_is_none(tmp_path) -> None:
    folder = Folder(tmp_path)
    folder.write("design.yaml", DESIGN)
    folder.write("design.settled.yaml", "")
    for command in ("settle", "check", "reach"):
        folder.obrin(command).bad(2, "this is not a settled file")
