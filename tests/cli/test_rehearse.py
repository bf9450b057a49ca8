"""`rehearse` as it is typed."""

from __future__ import annotations

import json
import shutil
from datetime import UTC, datetime
from pathlib import Path

import pytest

import obrin
from obrin.core.catalogue.offering import PRACTICE_CLOUD
from obrin.core.drill.elements import elements
from obrin.core.handover.pack import gateways_of, make_pack
from obrin.core.handover.secrets import Secrets
from obrin.live.crew.processes import Processes
from obrin.live.rehearse.side_by_side import Planned, fail_side_by_side, worlds_for
from tests.cli.program import Folder
from tests.doubles import DESIGN, settled_of
from tests.live.test_virtual_world import MORE
from tests.live.virtual_world import keys_of
from tests.outputs import valid

CROSSING = Path(obrin.__file__).parent / "demo" / "crossing.yaml"


@pytest.fixture
def folder(tmp_path) -> Folder:
    made = Folder(tmp_path)
    made.write("design.yaml", DESIGN)
    made.obrin("settle").good()
    return made


@pytest.mark.long
def test_everything_goes_as_predicted(folder: Folder) -> None:
    run = folder.obrin("rehearse").good()
    assert "tunnel:quay-apps/a" in run.out
    assert "3 of 3 expectations are as wished" in run.out
    assert "OTHERWISE" not in run.out
    only = "--only", "uplink:quay-gw/fibre"
    found = valid("rehearse", folder.obrin("rehearse", *only, "--json").good().json)
    begin, failure, rekeys, keys = found["scenes"]
    assert [begin["what"], failure["what"]] == ["everything up", "uplink:quay-gw/fibre"]
    assert {flow["noticed_by"] for flow in failure["gone"]} == {"BGP hold time 6 s"}
    assert all(4.0 - 0.5 <= flow["measured"] <= 6.6 for flow in failure["gone"])
    assert rekeys["good"]
    assert keys["what"] == "new keys"
    assert found["good"]
    assert not (folder.path / ".obrin" / "practice").exists()  # nothing was started


@pytest.mark.long
def test_some_of_it(folder: Folder) -> None:
    folder.obrin("rehearse", "--only", "tunnel:quay-apps/x").bad(2, "nothing here is called")
    folder.obrin("rehearse", "--together").bad(2, "'--together' goes with '--only'")
    sampled = folder.obrin("rehearse", "--sample", "2", "--json").good().json
    assert len(sampled["scenes"]) == 5
    folder.obrin("rehearse", "--for", "5").bad(2, "'5' is not a time")
    pair = "--only", "tunnel:quay-apps/a", "--only", "tunnel:quay-apps/b", "--together"
    found = folder.obrin("rehearse", *pair, "--json").good().json
    assert found["scenes"][1]["what"] == "tunnel:quay-apps/a + tunnel:quay-apps/b"
    assert found["scenes"][1]["gone"][0]["measured"] is None


def test_a_pack_that_was_changed_by_hand_is_what_is_rehearsed(folder: Folder) -> None:
    folder.obrin("handover").good()
    path = folder.path / "packs" / "design" / "quay-gw" / "config.json"
    config = json.loads(path.read_text())
    config["obrin-bgp:bgp"]["neighbor"][1]["accept"] = []
    path.write_text(json.dumps(config))
    run = folder.obrin("rehearse", "--only", "tunnel:quay-apps/a").bad(1, "OTHERWISE")
    assert "was gone until mended, predicted 4.0 to 6.0 s" in run.out
    assert "quay-gw" in run.err  # the note that it was changed
    assert json.loads(path.read_text()) == config


def test_the_figure(folder: Folder) -> None:
    only = "rehearse", "--only", "tunnel:quay-apps/a", "--figure"
    folder.obrin(*only, "x.png").good()
    assert (folder.path / "x.png").read_bytes().startswith(b"\x89PNG")
    folder.obrin(*only, "x.pdf").bad(2, "must be .svg or .png")


@pytest.mark.long
def test_a_hub_a_circuit_and_two_gateways_are_rehearsed(tmp_path) -> None:
    folder = Folder(tmp_path)
    shutil.copy(CROSSING, tmp_path / "design.yaml")
    folder.obrin("settle").good()
    failing = ("--only", "circuit:harbour-line", "--only", "gateway:hh-west", "--depth", "2")
    run = folder.obrin("rehearse", *failing, timeout=300).good()
    assert "19 of 19 expectations are as wished; 6 of 6 parts went as predicted" in run.out
    assert "circuit:harbour-line + gateway:hh-west" in run.out
    folder.obrin("rehearse", *failing, "--together").bad(2, "'--depth'")


@pytest.mark.long
def test_worlds_side_by_side_see_the_same() -> None:
    settled = settled_of(MORE)
    every = [(element,) for element in elements(settled)]
    secrets = Secrets(keys_of(settled))
    planned = Planned(
        settled=settled,
        secrets=secrets,
        packs={name: make_pack(settled, name, secrets) for name in gateways_of(settled)},
        start=datetime(2026, 6, 1, 12, tzinfo=UTC),
        offering=PRACTICE_CLOUD,
    )
    one = planned.make()
    one.begin()
    alone = [one.fail(failed) for failed in every]
    crew = Processes(2)
    beside = list(fail_side_by_side(crew, planned, every))
    crew.close()
    assert [scene.what for scene in beside] == [scene.what for scene in alone]
    assert all(scene.good for scene in (*alone, *beside))
    assert worlds_for(3) == 1
