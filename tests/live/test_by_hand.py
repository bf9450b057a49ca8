"""Places that a person configures: shown, asked for, judged, taken back, left and taken up again."""

from __future__ import annotations

import itertools
import json
import os
import pty
import random
import select
import subprocess
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from obrin.core.handover.secrets import Secrets
from obrin.live.drivers.by_hand.done_file import HandRecord
from obrin.live.drivers.by_hand.drivers import ByHandCloud
from obrin.live.drivers.by_hand.hand_steps import parts_of
from obrin.live.drivers.by_hand.person import Answers
from obrin.live.lock import project_lock
from obrin.testing.drivers import CloudDriverTests
from tests.cli.program import PROGRAM, Folder
from tests.doubles import DESIGN, settled_of, swap
from tests.live.test_kinds_of_change import BESIDE, HUB
from tests.outputs import valid

SETTLED = settled_of()
KEYS = {tunnel.label: f"key-of-{tunnel.label}-1234567890" for tunnel in SETTLED.tunnels()}
PLACE = "clouds.apps.gateway.addresses"
TOLD = ["203.0.113.77", "203.0.113.78"]
STEPS = [p.step.name for p in parts_of(SETTLED, "apps", "", frozenset())]
STEPS += [p.step.name for p in parts_of(SETTLED, "quay-gw", "", frozenset())]


class TestByHandCloud(CloudDriverTests):
    settled, secrets = SETTLED, Secrets(KEYS)
    altered = settled_of(swap(("hold-time: 6 s", "hold-time: 9 s")))
    renewed = Secrets({label: f"another-{key}" for label, key in KEYS.items()})

    @pytest.fixture
    def driver(self, tmp_path: Path) -> Iterator[ByHandCloud]:
        record = HandRecord(tmp_path / ".obrin" / "hand.json")
        driver = ByHandCloud("apps", record, Answers({"all": "yes"}, "here"), "the cloud team")
        yield driver
        driver.close()


@pytest.fixture
def folder(tmp_path: Path) -> Folder:
    made = Folder(tmp_path)
    made.write("design.yaml", DESIGN)
    made.obrin("settle").good()
    return made


def answers(folder: Folder, **said: object) -> tuple[str, ...]:
    folder.write("answers.yaml", json.dumps({PLACE: TOLD, **said}))
    return "connect", "--by-hand", "--answers", "answers.yaml"


def record_of(folder: Folder) -> dict:
    return json.loads((folder.path / ".obrin" / "by-hand-design.json").read_text())


def test_all_of_it_from_a_file_of_answers(folder: Folder) -> None:
    folder.obrin("connect", "--by-hand").bad(3, "left for later: apps/network: it is done by hand")
    todo = folder.obrin("connect", "--by-hand", "--todo").good().out
    assert all(f"{step}: to be entered" in todo for step in STEPS)
    told = folder.obrin("connect", "--by-hand", "--todo", "--json").good().json
    assert sorted(e["step"] for e in valid("connect --todo", told)) == sorted(STEPS)
    run = folder.obrin(*answers(folder, all="yes")).good()
    assert "as the cloud assigned" in run.out
    assert "new sheets for quay-gw, apps" in run.out
    assert "2 of 2 tunnels NOT KNOWN" in run.out
    assert "configured by hand, and cannot be asked" in run.out
    for place in ("quay-gw", "apps"):
        assert TOLD[0] in (folder.path / "packs" / "design" / place / "sheet.md").read_text()
    assert "Nothing is open" in folder.obrin("connect", "--by-hand", "--todo").good().out
    again = folder.obrin(*answers(folder, all="later")).good()
    assert "0 steps done" in again.out
    secret = folder.obrin("keys", "show", "quay-apps/a").good().out.strip()
    assert secret not in run.out + run.err + todo + json.dumps(record_of(folder))


@pytest.mark.long
def test_in_whatever_order_and_however_often_it_is_left_it_ends_the_same(folder: Folder) -> None:
    """Each run does a few steps that somebody says are done; what needs another waits for that."""
    ends = []
    for seed in range(2):
        (folder.path / ".obrin" / "by-hand-design.json").unlink(missing_ok=True)
        (folder.path / ".obrin" / "journal.sqlite").unlink(missing_ok=True)
        draw = random.Random(seed)
        left = draw.sample(STEPS, len(STEPS))
        said: dict[str, object] = {}
        while left:
            for _ in range(min(len(left), draw.randint(1, 4))):
                said[left.pop()] = "yes"
            run = folder.obrin(*answers(folder, **said))
            assert run.code in (0, 3), run.err
        while run.code:
            run = folder.obrin(*answers(folder, **said))
        found = record_of(folder)
        ends.append(
            (found["done"], found["facts"], (folder.path / "design.settled.yaml").read_text())
        )
    assert ends[0] == ends[1]


def test_a_fact_that_is_corrected_later_reaches_everybody(folder: Folder) -> None:
    folder.obrin(*answers(folder, all="yes")).good()
    other = ["203.0.113.80", "203.0.113.81"]
    before = record_of(folder)
    folder.obrin("connect", "--by-hand", "--dry-run", "--again", "apps/gateway").good()
    assert record_of(folder) == before
    folder.obrin(*answers(folder, all="yes"), "--again", "apps/nothing").bad(
        2, "no step 'apps/nothing'"
    )
    run = folder.obrin(
        *answers(folder, all="yes", **{PLACE: other}), "--again", "apps/gateway"
    ).good()
    assert "203.0.113.80" in run.out
    sheet = (folder.path / "packs" / "design" / "quay-gw" / "sheet.md").read_text()
    assert "203.0.113.80" in sheet
    assert TOLD[0] not in sheet
    assert "quay-gw/tunnel" not in folder.obrin("connect", "--by-hand", "--todo").good().out


def test_who_does_it_stands_in_the_file_of_places(folder: Folder) -> None:
    folder.write(
        "design.places.yaml",
        "clouds: {apps: {driver: by-hand, by: the cloud team}}\n"
        "gateways: {quay-gw: {driver: by-hand, by: Ada}}\n",
    )
    todo = folder.obrin("connect", "--todo").good().out
    assert "the cloud team:\n  apps/network" in todo
    assert "Ada:\n  quay-gw/network" in todo
    folder.write(
        "design.places.yaml", "clouds: {apps: {driver: by-hand, url: 'https://x.example'}}\n"
    )
    folder.obrin("connect", "--todo").bad(2, "needs no url")


def test_at_a_terminal(tmp_path: Path) -> None:
    folder = Folder(tmp_path)
    folder.write("design.yaml", DESIGN)
    folder.obrin("settle").good()
    master, slave = pty.openpty()
    command = [str(PROGRAM), "connect", "--by-hand"]
    done = subprocess.Popen(
        command, cwd=tmp_path, stdin=slave, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE
    )
    os.close(slave)
    said, seen = itertools.chain(["", "", "203.0.113.77", "203.0.113.77 203.0.113.78"]), ""
    begun = time.monotonic()
    while done.poll() is None and time.monotonic() < begun + 60:
        if select.select([done.stderr], [], [], 0.5)[0]:
            seen += os.read(done.stderr.fileno(), 65536).decode()
            if seen.rstrip().endswith(("]:", "later]:")):
                os.write(master, (next(said, "later") + "\n").encode())
                seen += "\n"
    os.close(master)
    assert "2 are wanted, one for each instance, and 1 are given" in seen
    assert "Capacity class" in seen
    assert "left for later" in seen
    assert record_of(folder)["facts"][PLACE] == TOLD
    assert done.returncode == 3


PLACES = """\
clouds: {apps: {driver: by-hand, by: Grace}}
gateways: {quay-gw: {driver: by-hand, by: Ada}}
"""


def start_as(folder: Folder, who: str) -> subprocess.Popen:
    """Somebody at a terminal of their own, who has an answer for every step."""
    folder.write(f"{who}.yaml", json.dumps({PLACE: TOLD, "all": "yes"}))
    command = [str(PROGRAM), "connect", "--as", who, "--answers", f"{who}.yaml"]
    return subprocess.Popen(
        command, cwd=folder.path, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True
    )


@pytest.mark.parametrize("seed", [0, *(pytest.param(s, marks=pytest.mark.long) for s in (1, 2, 3))])
def test_two_people_at_two_terminals_and_a_kill_at_any_moment(folder: Folder, seed: int) -> None:
    """What each does waits for the other where it must; whoever is killed begins again."""
    folder.write("design.places.yaml", PLACES)
    draw = random.Random(seed)
    people = ["Ada", "Grace"]
    draw.shuffle(people)
    running = {}
    for who in people:
        running[who] = start_as(folder, who)
        time.sleep(draw.uniform(0, 0.8))
    for _ in range(2):
        who = draw.choice(people)
        time.sleep(draw.uniform(0, 1.2))
        running[who].kill()
        running[who].communicate()
        running[who] = start_as(folder, who)
    for who, process in running.items():
        _, err = process.communicate(timeout=90)
        assert process.returncode == 0, f"{who}: {err}"
        assert "Traceback" not in err
    found = record_of(folder)
    assert sorted(found["done"]) == sorted(STEPS)
    assert found["facts"][PLACE] == TOLD
    assert "Nothing is open" in folder.obrin("connect", "--todo").good().out


@pytest.mark.long
def test_whoever_waits_for_others_waits_for_the_lock_too(folder: Folder) -> None:
    """However long another command writes; one that waits for nobody gives up, and says why."""
    folder.write("design.places.yaml", PLACES)
    with project_lock(folder.path, folder.path / ".obrin", "settle"):
        grace = start_as(folder, "Grace")
        folder.obrin("connect").bad(3, "'obrin settle'", "Wait until it is done, or end it")
        assert "Waiting: 'obrin settle' (process" in grace.stderr.readline()
    ada = start_as(folder, "Ada")
    for process in (grace, ada):
        _, err = process.communicate(timeout=90)
        assert process.returncode == 0, err


@pytest.mark.long
def test_the_lock_is_let_go_while_somebody_is_asked(folder: Folder) -> None:
    folder.write("design.places.yaml", PLACES)
    folder.obrin("connect", "--as", "Nobody").bad(
        2, "--as: Nobody does nothing by hand", "Ada, Grace"
    )
    master, slave = pty.openpty()
    asked = subprocess.Popen(
        [str(PROGRAM), "connect", "--as", "Grace"], cwd=folder.path, stdin=slave,
        stdout=subprocess.DEVNULL, stderr=subprocess.PIPE,
    )  # fmt: skip
    os.close(slave)
    seen, until = "", time.monotonic() + 30
    while "later]:" not in seen and time.monotonic() < until:
        if select.select([asked.stderr], [], [], 0.5)[0]:
            seen += os.read(asked.stderr.fileno(), 65536).decode()
    assert "apps: the network (by Grace" in seen
    ada = start_as(folder, "Ada")
    line = ada.stderr.readline()
    while line and "Waiting for Grace" not in line:
        line = ada.stderr.readline()
    assert "Waiting for Grace" in line, "she is not told that somebody else is writing"
    folder.obrin("keys", "renew", "quay-apps/a").good()
    os.write(master, b"later\n")
    asked.communicate(timeout=30)
    assert asked.returncode == 3
    ada.send_signal(2)
    ada.communicate(timeout=30)
    assert ada.returncode == 130
    os.close(master)


WIDER = swap(("networks: [desks]\n", "networks: [desks, guests]\n    suite: common\n"))
CHANGE = ("reshape", "--go", "--by-hand", "--answers", "change.yaml")


def test_a_change_is_entered_step_by_step(folder: Folder) -> None:
    folder.obrin("check", "--change").bad(2, "nothing is known to be built yet", "obrin connect")
    folder.obrin(*answers(folder, all="yes")).good()
    folder.write("design.yaml", swap(("      quay-gw:\n", "      quay-gw:\n        as: 65010\n")))
    told = folder.obrin("check", "--change", "--json").good().json
    (number,) = (f for f in told if f["code"] == "change-as-number")
    assert number["where"].startswith("design.yaml:8:")
    folder.write("design.yaml", WIDER)
    folder.obrin("settle").good()
    first, *_, last = (s["name"] for s in folder.obrin("reshape", "--json").good().json["steps"])
    before = record_of(folder)
    folder.write("change.yaml", json.dumps({"all": "yes", last: "later"}))
    run = folder.obrin(*CHANGE).bad(3, "whether it has its effect is not seen", "--unseen")
    assert f"done     {first}" in run.err
    assert run.err.index("note: quay/desks > apps/web") < run.err.index("done  ")
    assert "Whether a step changes that is not seen" in run.err
    run = folder.obrin(*CHANGE, "--unseen").bad(3, "change.yaml does not say that it is done")
    assert record_of(folder) == before  # nothing is as either design says
    assert "3 of 4 steps are done" in folder.obrin("reshape").good().out
    folder.obrin("reshape", "--drift").bad(2, "a change is under way, 3 of 4 steps", "--back")
    folder.write("change.yaml", json.dumps({"all": "yes"}))
    back = ("reshape", "--back", *CHANGE[2:], "--unseen")
    folder.obrin(*back).good()
    assert record_of(folder)["done"] == before["done"]
    run = folder.obrin(*CHANGE, "--unseen").good()
    assert "4 steps done. After 4 of them not all was seen" in run.out
    assert "Nothing is open by hand" in folder.obrin("connect", "--by-hand", "--todo").good().out
    assert "Nothing changes" in folder.obrin("reshape").good().out


def test_who_does_a_change_sees_only_what_differs(folder: Folder) -> None:
    folder.obrin(*answers(folder, all="yes")).good()
    folder.write("design.yaml", WIDER)
    folder.obrin("settle").good()
    master, slave = pty.openpty()
    process = subprocess.Popen(
        [str(PROGRAM), "reshape", "--go", "--by-hand"],
        cwd=folder.path, stdin=slave, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
    )  # fmt: skip
    os.close(slave)
    os.write(master, b"yes\n" * 4)
    out, shown = process.communicate(timeout=60)
    os.close(master)
    assert process.returncode == 0, shown
    assert shown.count("Then look at") == 4
    assert "(now high)" in shown
    assert shown.count("Suite: IKE SA: Encryption") == 4  # for each tunnel, at each end
    assert "198.51.100.20" not in shown  # the same in both designs
    assert "does not apply" not in shown
    assert "4 steps done" in out


def test_nothing_is_lost_when_several_note_at_once(tmp_path: Path) -> None:
    record = HandRecord(tmp_path / "hand.json")

    def note(who: int) -> None:
        for number in range(20):
            record.note(f"{who}/{number}", "digest", {f"fact.{who}.{number}": number})
            assert record.done(f"{who}/{number}")

    threads = [threading.Thread(target=note, args=(who,)) for who in range(6)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert len(record.names()) == len(record.facts) == 120


def test_answers_that_are_misspelled_or_lacking_are_no_answers(folder: Folder) -> None:
    for said, words in (
        ({"all": "yse"}, "all: 'yse' is not 'yes' or 'later'"),
        ({"apps/netwrok": "yes"}, "Did you mean 'apps/network'?"),
        ({"all": "yes", PLACE.replace("addresses", "adresses"): TOLD}, f"Did you mean '{PLACE}'?"),
    ):
        folder.obrin(*answers(folder, **said)).bad(3, words)
    text = (folder.path / "design.yaml").read_text()
    folder.write("design.yaml", text.replace("  apps:\n", f"  apps:\n    {ASSIGNS}\n", 1))
    folder.write("answers.yaml", json.dumps({"all": "yes"}))
    folder.obrin("settle").good()
    run = folder.obrin("connect", "--by-hand", "--answers", "answers.yaml")
    run.bad(3, f"does not have {PLACE}", "only placeholders")
    assert "assigned-by" not in (folder.path / "design.settled.yaml").read_text()


ASSIGNS = "gateway: {assigns: [addresses]}"


def test_what_no_driver_can_compare_is_not_known(folder: Folder) -> None:
    folder.write("design.places.yaml", PLACES)
    folder.write("answers.yaml", json.dumps({"all": "yes", PLACE: TOLD}))
    folder.obrin("connect", "--answers", "answers.yaml").good()
    run = folder.obrin("reshape", "--drift").bad(1, "not known: quay-gw: its driver cannot report")
    assert "What was seen is what was built. Not seen: 1." in run.out


def test_a_new_gateway_whose_addresses_the_design_gives_needs_no_other_command(
    folder: Folder,
) -> None:
    folder.obrin(*answers(folder, all="yes")).good()
    folder.write("change.yaml", json.dumps({"all": "yes"}))
    folder.write("design.yaml", BESIDE)
    folder.obrin("settle").good()
    folder.obrin(*CHANGE, "--unseen").bad(2, "cloud core assigns addresses only once", "connect")
    given = "    gateway: {addresses: [203.0.113.65, 203.0.113.66]}\n"
    folder.write("design.yaml", BESIDE.replace(HUB, HUB + given))
    folder.obrin("settle").good()
    assert "203.0.113.65" in folder.obrin("reshape", "--json").good().out
    folder.obrin(*CHANGE, "--unseen").good()
    assert "Nothing changes" in folder.obrin("reshape").good().out
