"""Faults by name: one list, judged before anything is done; each can be suffered in a rehearsal, is
noted for what it is, and leaves nothing behind. What is recorded of it can be read."""

from __future__ import annotations

import csv
import dataclasses
import stat
from datetime import date

import pytest

from obrin.core.address.prefix import parse_address
from obrin.core.catalogue.offering import PRACTICE_CLOUD
from obrin.core.errors import ObrinError
from obrin.core.settle.settle import settle
from obrin.core.settled.building import build_settled
from obrin.live.practice.faults import (
    CLOUD,
    GATEWAY,
    KINDS,
    UPLINK,
    Fault,
    judge_fault,
    parse_fault,
)
from obrin.live.practice.internet.internet import Internet, Line
from obrin.live.rehearse.play import Rehearsal
from obrin.live.rehearse.recorder import Recorder
from obrin.live.rehearse.virtual_stage import VirtualStage
from obrin.wire.capture import decode_capture
from tests.doubles import design_of, settled_of, swap
from tests.live.test_virtual_world import MORE
from tests.live.virtual_world import VirtualWorld

WHERE = {UPLINK: "quay-gw/fibre", GATEWAY: "quay-gw", CLOUD: "cloud"}


def every_fault() -> list[Fault]:
    """Each kind as its example has it."""
    return [Fault(kind.name, WHERE[kind.where], kind.example) for kind in KINDS.values()]


@pytest.mark.parametrize("fault", every_fault(), ids=str)
def test_each_kind_is_taken_as_its_example_has_it(fault: Fault) -> None:
    settled = settled_of(MORE)
    judge_fault(settled, fault)
    assert parse_fault(str(fault)) == fault
    with pytest.raises(ObrinError, match="There are: "):
        judge_fault(settled, dataclasses.replace(fault, where="nowhere"))
    if fault.kind in ("fail", "drift"):
        return  # whatever has a name can fail
    if KINDS[fault.kind].example:
        with pytest.raises(ObrinError, match=r"for example|neither"):
            judge_fault(settled, dataclasses.replace(fault, value="blue"))
    else:
        with pytest.raises(ObrinError, match="has no value"):
            judge_fault(settled, dataclasses.replace(fault, value="5%"))


@pytest.mark.parametrize("text", ["", "loss", "rain quay-gw/fibre 5%"])
def test_what_is_no_fault_is_refused(text: str) -> None:
    with pytest.raises(ObrinError, match=r"(not a|no) fault"):
        judge_fault(settled_of(MORE), parse_fault(text))


NOTED = {
    "loss": "did not arrive at",
    "behind": "quay-gw: its clock is 2.0 h behind",
    "ahead": "quay-gw: its clock is 2.0 h ahead",
    "full": "quay-gw: there is no room left",
    "one-way": "none arrive at the site",
}


@pytest.mark.parametrize("fault", every_fault(), ids=str)
def test_each_is_suffered_and_leaves_nothing_behind(fault: Fault) -> None:
    rehearsal = Rehearsal(VirtualStage(VirtualWorld(settled_of(MORE))))
    assert rehearsal.begin().good
    if KINDS[fault.kind].where == CLOUD:
        with pytest.raises(ObrinError, match="nobody does"):
            rehearsal.suffer(fault)
        return
    scene = rehearsal.suffer(fault)
    assert scene.good, scene
    assert NOTED.get(fault.kind, "") in "\n".join(scene.noted)
    assert all(one.met for one in rehearsal.ask_all())
    if fault.kind in ("one-way", "address"):
        assert any(share.answered < share.asked for share in scene.answered)


def test_another_address_is_nobodys_and_goes_with_the_fault() -> None:
    plain = Line("a/x", *[parse_address("192.0.2.1")] * 2)
    behind = Line("b/x", parse_address("192.0.2.2"), parse_address("192.168.1.2"))
    internet = Internet([plain, behind])
    new = parse_address("192.0.2.9")
    for taken in ("192.0.2.2", "2001:db8::1"):
        with pytest.raises(ValueError, match="somebody's already"):
            internet.readdress("a/x", parse_address(taken))
    internet.readdress("a/x", new)
    internet.readdress("a/x", parse_address("192.0.2.8"))
    internet.readdress("b/x", new)
    assert behind.public == new
    internet.heal()
    assert (plain.public, behind.public) == (parse_address("192.0.2.1"), parse_address("192.0.2.2"))
    internet.readdress("a/x", new)  # nobody has it any more


def test_what_is_recorded_can_be_read(tmp_path) -> None:
    world = VirtualWorld(settled_of(MORE))
    recorder = Recorder(world, tmp_path)
    rehearsal = Rehearsal(VirtualStage(world, recorder))
    rehearsal.begin()
    rehearsal.suffer(Fault("one-way", "quay-gw/fibre", "out"))
    recorder.close()
    assert {path.name for path in tmp_path.iterdir()} == {
        "everything-up",
        "one-way-quay-gw-fibre-out",
        "keys",
    }
    assert stat.S_IMODE((tmp_path / "keys").stat().st_mode) == 0o700
    assert stat.S_IMODE((tmp_path / "keys" / "esp_sa").stat().st_mode) == 0o600
    folder = tmp_path / "one-way-quay-gw-fibre-out"
    packets = list(decode_capture((folder / "packets.pcap").read_bytes()))
    times = [captured.at for captured in packets]
    assert times == sorted(times)
    assert len(packets) > 50
    with (folder / "status.csv").open(encoding="utf-8") as file:
        rows = list(csv.DictReader(file))
    session = "quay-gw", "quay-apps/a", "BGP"
    mine = [r["state"] for r in rows if (r["gateway"], r["name"], r["what"]) == session]
    assert mine[0] == mine[-1] == "established"
    assert len(set(mine)) > 1
    with (tmp_path / "everything-up" / "log.csv").open(encoding="utf-8") as file:
        logged = list(csv.DictReader(file))
    assert any(row["what"] == "child SA up" for row in logged)


GRANTED = (
    "expectations:\n",
    "expectations:\n"
    "  - {from: quay/desks, to: apps/web, flow: tcp/22, must: work, until: 2027-03-31}\n",
)


def test_what_is_granted_until_a_day_ends_with_it_and_the_rest_stays() -> None:
    text = swap(GRANTED, text=MORE)
    design = design_of(text)
    choices = settle(design, {}, PRACTICE_CLOUD)
    today = build_settled(design, choices, date(2027, 3, 31))
    after = build_settled(design, choices, date(2027, 4, 1))
    rehearsal = Rehearsal(VirtualStage(VirtualWorld(today)))
    assert rehearsal.begin().good
    scene = rehearsal.end_access(date(2027, 3, 31), after)
    assert scene.good, scene
    assert [(flow.flow.startswith("tcp/22"), flow.measured) for flow in scene.gone] == [
        (True, None)
    ]
    same = rehearsal.end_access(date(2027, 3, 31), dataclasses.replace(today))
    assert same.good
    assert same.gone == ()
