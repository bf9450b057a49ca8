"""A change carried out by the program on the practice world, killed and taken back."""

from __future__ import annotations

import json
import random
import signal
import subprocess
import time
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from obrin.core.design.windows import DAYS
from tests.cli.program import PROGRAM, Folder
from tests.doubles import DESIGN, swap
from tests.live.test_kinds_of_change import CROSSING, NO_LINE, RADIO, SECOND, SITE, SITE_LINK
from tests.outputs import valid

pytestmark = pytest.mark.long

WIDER = swap(("networks: [desks]\n", "networks: [desks, guests]\n    suite: common\n"))


@pytest.fixture(scope="module")
def world(tmp_path_factory):
    folder = Folder(tmp_path_factory.mktemp("reshape"), real=True)
    folder.write("design.yaml", DESIGN)
    folder.obrin("settle").good()
    folder.obrin("reshape").bad(2, "nothing is known to be built yet")
    folder.obrin("practice", "start", "--speed", "5000").good()
    try:
        folder.obrin("connect", timeout=120).good()
        assert "Nothing changes" in folder.obrin("reshape").good().out
        yield folder
    finally:
        folder.obrin("practice", "stop")


def to(folder: Folder, text: str) -> None:
    folder.write("design.yaml", text)
    folder.obrin("settle").good()


def built_is(folder: Folder) -> None:
    """Everything is as the design says, and connect has nothing to do."""
    assert "Nothing changes" in folder.obrin("reshape").good().out
    again = folder.obrin("connect", "--json", timeout=120).good().json
    assert not [c["subject"] for c in again["changes"] if not c["subject"].startswith("pack/")]
    assert all(o["met"] for o in folder.obrin("probe", "--json").good().json)
    assert not (folder.path / ".obrin" / "reshape-design.json").exists()


def test_a_change_and_its_way_back(world: Folder) -> None:
    to(world, WIDER)
    plan = valid("reshape", world.obrin("reshape", "--json").good().json)
    assert [s["place"] for s in plan["steps"]] == ["apps", "quay-gw", "quay-gw", "apps"]
    assert not plan["loses"]
    run = world.obrin("reshape", "--to", "books", "--figure", "plan.png").good()
    assert "nothing that works in both designs is lost" in run.out
    assert (
        (world.path / "books" / "site-quay.md").read_text().startswith("# Change: what site quay")
    )
    assert (world.path / "plan.png").read_bytes()[:4] == b"\x89PNG"
    assert "4 steps done" in world.obrin("reshape", "--go", timeout=200).good().out
    built_is(world)
    world.obrin("reshape", "--back").bad(2, "nothing to go back from")


def stopped_in(folder: Folder, draw: random.Random) -> None:
    """Carrying out, killed at some moment."""
    process = subprocess.Popen(
        [str(PROGRAM), "reshape", "--go"], cwd=folder.path,
        stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
    )  # fmt: skip
    time.sleep(draw.uniform(0.6, 6.0))
    process.send_signal(signal.SIGKILL)
    process.wait()


def record(folder: Folder) -> dict:
    path = folder.path / ".obrin" / "reshape-design.json"
    return json.loads(path.read_text()) if path.exists() else {}


@pytest.mark.parametrize("seed", range(2))
def test_killed_at_any_moment_it_is_taken_up_or_back(world: Folder, seed: int) -> None:
    draw = random.Random(seed)
    before = (world.path / "design.yaml").read_text()
    to(world, swap(("bgp: {hold-time: 6 s}", "routing: static")) if seed else DESIGN)
    for _ in range(2):
        stopped_in(world, draw)
    stood = record(world)
    if stood and stood["done"]:
        text = world.obrin("reshape").out
        assert f"{len(stood['done'])} of {len(stood['order'])} steps are done" in text
        other = (world.path / "design.yaml").read_text()
        to(world, swap(("hold-time: 6 s", "hold-time: 9 s")))
        world.obrin("reshape", "--go").bad(2, "another change is under way")
        told = world.obrin("reshape", "--json")
        assert "note: another change is under way" in told.err
        assert not any(step["done"] for step in told.json["steps"])
        to(world, other)
        world.obrin("reshape", "--back", timeout=200).good()
        assert record(world) == {}
        to(world, before)
        built_is(world)
        to(world, other)
    world.obrin("reshape", "--go", timeout=200).good()
    built_is(world)


@pytest.mark.parametrize(("name", "place"), [("apps", "apps"), ("quay", "quay-gw")])
def test_a_step_is_not_begun_outside_the_windows_of_its_place(
    world: Folder, name: str, place: str
) -> None:
    to(world, DESIGN)  # from there, each step does without the others
    world.obrin("reshape", "--go", timeout=200).good()
    day = DAYS[(datetime.now(UTC) + timedelta(days=3)).weekday()]
    before = (world.path / "design.yaml").read_text()
    to(
        world,
        swap(("hold-time: 6 s", "hold-time: 30 s")) + f"windows: {{{name}: '{day} 10:00-12:00'}}\n",
    )
    plan = valid("reshape", world.obrin("reshape", "--json").good().json)
    begins = [datetime.fromisoformat(step["begins"]) for step in plan["steps"]]
    assert begins == sorted(begins)
    at = zip(begins, plan["steps"], strict=True)
    assert {begin.hour for begin, step in at if step["place"] == place} == {10}
    assert "When (UTC)" in world.obrin("reshape", "--start", "2026-12-05T22:00").good().out
    world.obrin("reshape", "--start", "soon").bad(2, "not a day or time")
    world.obrin("reshape", "--go", timeout=200).bad(3, f"{place} may be changed", "--any-time")
    halfway = valid("reshape", world.obrin("reshape", "--json").good().json)["steps"]
    first = [step["place"] for step in halfway].index(place)
    assert first > 0  # who need not wait comes before
    assert [step["done"] for step in halfway] == [n < first for n in range(len(halfway))]
    assert [step["begins"] is None for step in halfway] == [step["done"] for step in halfway]
    world.obrin("reshape", "--go", "--any-time", timeout=200).good()
    built_is(world)
    to(world, before)
    world.obrin("reshape", "--go", timeout=200).good()


def test_connect_does_the_rest_of_a_change_and_ends_it(world: Folder) -> None:
    before = (world.path / "design.yaml").read_text()
    day = DAYS[(datetime.now(UTC) + timedelta(days=3)).weekday()]
    to(
        world,
        swap(("hold-time: 6 s", "hold-time: 30 s")) + f"windows: {{apps: '{day} 10:00-12:00'}}\n",
    )
    world.obrin("reshape", "--go", timeout=200).bad(3, "apps may be changed")
    stood = record(world)
    world.obrin("reshape", "--drift").bad(2, "a change is under way")
    count = f"{len(stood['done'])} of {len(stood['order'])} steps are done"
    assert f"a change is under way, {count}" in world.obrin("connect", timeout=200).good().err
    assert record(world) == {}
    built_is(world)
    assert "is what was built" in world.obrin("reshape", "--drift").good().out
    # Killed after all was done, and before that was forgotten.
    left = stood | {"done": stood["order"], "begun": ""}
    (world.path / ".obrin" / "reshape-design.json").write_text(json.dumps(left))
    assert "Nothing changes" in world.obrin("reshape").good().out
    assert "Nothing changes" in world.obrin("reshape", "--go").good().out
    assert record(world) == {}
    to(world, before)
    world.obrin("reshape", "--go", timeout=200).good()


def test_a_key_made_anew_is_entered_at_both_ends_or_at_none(world: Folder) -> None:
    before = (world.path / "design.yaml").read_text()
    name = "quay-apps/b"
    old = world.obrin("keys", "show", name).good().out
    world.obrin("keys", "renew", name).good()
    new = world.obrin("keys", "show", name).good().out
    assert new != old
    told = f"'obrin keys rotate {name}' enters the new one"
    assert told in " ".join(world.obrin("reshape").good().out.split())
    to(world, swap(("hold-time: 6 s", "hold-time: 30 s")))
    assert valid("reshape", world.obrin("reshape", "--json").good().json)["keys"] == [name]
    assert told in " ".join(world.obrin("reshape", "--go", timeout=200).good().out.split())
    assert "is what was built" in world.obrin("reshape", "--drift").good().out
    world.obrin("keys", "rotate", "quay-apps/a", timeout=120).good()
    assert "is what was built" in world.obrin("reshape", "--drift").good().out
    world.obrin("keys", "rotate", name, timeout=120).good()
    assert world.obrin("keys", "show", name).good().out == new
    assert "old key" not in world.obrin("reshape").good().out
    to(world, before)
    world.obrin("reshape", "--go", timeout=200).good()
    built_is(world)


@pytest.mark.parametrize(
    ("uplinks", "words"),
    [
        (("fibre", "radio"), "does not work"),
        # All works over the other tunnel, which may be the next to go down.
        (("radio",), "quay-apps/b is not up at both ends"),
    ],
)
def test_it_stops_where_a_state_is_not_as_said(
    world: Folder, uplinks: tuple[str, ...], words: str
) -> None:
    to(world, DESIGN)
    world.obrin("reshape", "--go", timeout=200).good()
    to(world, WIDER)
    for uplink in uplinks:
        world.obrin("practice", "cut", "uplink", f"quay-gw/{uplink}").good()
    try:
        run = world.obrin("reshape", "--go", "--timeout", "20", timeout=200).bad(3, words)
        assert "--back" in run.err
        assert "It stops here" in run.err
    finally:
        world.obrin("practice", "heal").good()
    time.sleep(3)
    world.obrin("reshape", "--go", timeout=200).good()
    built_is(world)


def test_what_is_built_by_version_control_or_a_file(tmp_path: Path) -> None:
    folder = Folder(tmp_path)
    to(folder, DESIGN)
    folder.obrin("reshape", "--from-revision", "HEAD").bad(2, "design.yaml at 'HEAD'")
    git = ["git", "-C", str(tmp_path), "-c", "user.name=A", "-c", "user.email=a@example.org"]
    for command in (
        ["init", "-q"],
        ["add", "design.yaml", "design.settled.yaml"],
        ["commit", "-qm", "one"],
    ):
        subprocess.run([*git, *command], check=True)
    to(folder, WIDER)
    assert "4 steps" in folder.obrin("reshape", "--from-revision", "HEAD").good().out
    folder.obrin("reshape", "--from-revision", "-x").bad(2, "is not a revision")
    folder.obrin("reshape", "--from-revision", "nothing").bad(2, "Name a revision that has it")
    (tmp_path / "old.yaml").write_text(DESIGN)
    folder.obrin("settle", "--design", "old.yaml").good()
    assert "4 steps" in folder.obrin("reshape", "--from", "old.yaml").good().out
    folder.obrin("reshape", "--from", "old.yaml", "--from-revision", "HEAD").bad(
        2, "give --from or"
    )
    folder.obrin("reshape", "--go", "--back").bad(2, "give one of them")
    folder.obrin("reshape", "--from", "old.yaml", "--figure", "x.gif").bad(2, "only .png and .svg")


def test_a_site_joins_a_world_that_runs_and_leaves_it(world: Folder) -> None:
    to(world, DESIGN)
    world.obrin("reshape", "--go", timeout=200).good()
    to(
        world,
        swap(("clouds:\n", SITE + "clouds:\n"), ("expectations:\n", SITE_LINK + "expectations:\n")),
    )
    nobody = world.obrin("reshape", "--go").bad(2, "nobody does the steps at pier-gw")
    assert "make-ready" not in nobody.err
    assert "pier-gw: started" in world.obrin("practice", "start").good().out
    done = valid("reshape --go", world.obrin("reshape", "--go", "--json", timeout=200).good().json)
    assert {"pier-gw/change/pier-apps/e"} <= {step["name"] for step in done["steps"]}
    assert all(step["effect"] is True and step["seen"] for step in done["steps"])
    built_is(world)
    to(world, DESIGN)
    gone = world.obrin("reshape", "--go", timeout=200).good()
    assert "its keys are taken away" in gone.err
    assert not (world.path / "packs" / "design" / "pier-gw" / "keys.json").exists()
    built_is(world)
    two = swap(("          radio:", "      quay-gw2:\n        uplinks:\n          radio:"),
               ("      b: {gateway: quay-gw,", "      b: {gateway: quay-gw2,"))  # fmt: skip
    to(world, two)
    world.obrin("practice", "start").bad(3, "quay-gw2/radio", "that is there already")
    to(world, DESIGN)


def test_a_gateway_and_an_uplink_join_a_site_that_runs(world: Folder) -> None:
    to(world, DESIGN)
    world.obrin("reshape", "--go", timeout=200).good()
    more = """\
          third: {address: 198.51.100.21, provider: three}
      quay-gw2:
        uplinks:
          mast: {address: 198.51.100.22, provider: four}
"""
    tunnels = """\
      c: {gateway: quay-gw, uplink: third, instance: 1}
      d: {gateway: quay-gw2, uplink: mast, instance: 2}
"""
    to(world, swap((RADIO, RADIO + more), (SECOND, SECOND + tunnels)))
    world.obrin("practice", "start", "--dry-run").good()
    started = world.obrin("practice", "start").good().out
    assert "quay-gw2: started" in started
    assert "quay-gw/third: started" in started
    world.obrin("practice", "start").bad(2, "runs here already")
    world.obrin("reshape", "--go", timeout=200).good()
    built_is(world)
    world.obrin("status").good()
    world.obrin("practice", "run", "quay/desks", "--", "true").good()


def test_errors_of_the_design_are_said_before_the_first_step(world: Folder) -> None:
    to(
        world,
        swap(
            (
                "tcp/443, must: work}",
                "tcp/443, must: work}\n  - {from: quay/guests, to: apps/web, flow: udp/53}",
            )
        ),
    )
    assert "finds errors in this design" in world.obrin("reshape").err
    to(world, DESIGN)


def test_a_circuit_joins_a_world_that_runs(tmp_path: Path) -> None:
    folder = Folder(tmp_path, real=True)
    folder.write("design.yaml", NO_LINE)
    folder.obrin("settle").good()
    folder.obrin("practice", "start", "--speed", "5000").good()
    try:
        folder.obrin("connect", timeout=200).good()
        to(folder, CROSSING)
        assert "started" in folder.obrin("practice", "start").good().out
        folder.obrin("reshape", "--go", timeout=300).good()
        folder.obrin("status").good()
    finally:
        folder.obrin("practice", "stop")
