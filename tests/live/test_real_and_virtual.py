"""The same events in real time, by processes and sockets, and in virtual time in one process: the
same routes, the same answers, and an outage within the same window."""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path

import pytest

from obrin.core.drill.elements import Element, lost_ways
from obrin.core.drill.sweep import Sweep
from obrin.core.settled.links import SettledTunnel
from obrin.live.drivers.registry import open_ends
from obrin.live.http import InternetClient
from obrin.live.observe.outcome import ANSWERED
from obrin.live.observe.probe import probe_all
from obrin.live.practice.record import need_world
from obrin.live.project import Project
from obrin.live.rehearse.scenes import SLACK
from obrin.live.rehearse.virtual_stage import VirtualStage
from tests.cli.program import Folder
from tests.doubles import swap
from tests.live.virtual_world import VirtualWorld

pytestmark = pytest.mark.long

QUICK = swap(("bgp: {hold-time: 6 s}", "bgp: {hold-time: 3 s}"))
EVENTS = (
    (Element("tunnel", "quay-apps/a"),),
    (Element("uplink", "quay-gw/radio"),),
    (Element("tunnel", "quay-apps/a"), Element("tunnel", "quay-apps/b")),
)
PATIENCE = 30.0

Routes = set[tuple[str, str, str]]
Told = tuple[Routes, list[bool]]
"""What the site's gateway uses, and which expectations are met."""


class Real:
    """Processes, spoken to as the program does."""

    def __init__(self, folder: Folder) -> None:
        self.project = Project(folder.path / "design.yaml")
        self.settled = self.project.settled()[1]
        self._open = open_ends(self.project, self.settled)
        self.ends = self._open.__enter__()
        world = need_world(self.project.practice_folder)
        self.internet = InternetClient("the internet", world.internet, world.token)

    def told(self) -> Told:
        routes = {
            (str(r.prefix), r.via, r.kind)
            for r in self.ends.gateways["quay-gw"].routes()
            if r.kind != "connected"
        }
        outcomes = probe_all(self.settled, self.ends)
        return routes, [(o.seen == ANSWERED) == (o.expectation.must == "work") for o in outcomes]

    def cut(self, event: tuple[Element, ...]) -> None:
        for label in lost_ways(self.settled, event):
            way = self.settled.way(label)
            assert isinstance(way, SettledTunnel)
            self.internet.cut_path(str(way.uplink.address), str(way.cloud_address))

    def close(self) -> None:
        self.internet.close()
        self._open.__exit__(None, None, None)


class Virtual:
    """The same design in one process."""

    def __init__(self, real: Real) -> None:
        self.world = VirtualWorld(real.settled)
        self.stage = VirtualStage(self.world)
        self.world.run(PATIENCE)

    def told(self) -> Told:
        table = self.world.routers["quay-gw"].table.items()
        routes = {(str(p), r.via, r.kind.label) for p, r in table if r.kind.label != "connected"}
        wishes = list(self.world.settled.own_expectations())
        seen = self.stage.answered(wishes)
        return routes, [s == (w.must == "work") for w, s in zip(wishes, seen, strict=True)]

    def outage(self, event: tuple[Element, ...]) -> float:
        """Cut, and wait until all that has another way is answered again; seconds."""
        flows = [wish for _, wish in Sweep(self.world.settled).flows]
        self.stage.cut(lost_ways(self.world.settled, event), [])
        begun = self.world.now
        while not all(self.stage.answered(flows)) and self.world.now < begun + PATIENCE:
            self.world.run(0.1)
        return self.world.now - begun


def until(ask: Callable[[], Told], wanted: Told) -> float:
    """Seconds until it is told; fails where it never is."""
    begun = time.monotonic()
    while (found := ask()) != wanted:
        assert time.monotonic() < begun + PATIENCE, (found, wanted)
        time.sleep(0.05)
    return time.monotonic() - begun


@pytest.fixture
def real(tmp_path: Path):
    folder = Folder(tmp_path, real=True)
    folder.write("design.yaml", QUICK)
    folder.obrin("settle").good()
    try:
        folder.obrin("practice", "start", "--speed", "5000").good()
        folder.obrin("connect").good()
        found = Real(folder)
        yield found
        found.close()
    finally:
        folder.obrin("practice", "stop")


def test_events_have_the_same_outcomes_in_both_times(real: Real) -> None:
    virtual = Virtual(real)
    whole = virtual.told()
    until(real.told, whole)
    assert all(whole[1])
    sweep = Sweep(real.settled)
    for event in EVENTS:
        predicted = sweep.try_one(event)
        lasted = virtual.outage(event)
        virtual.world.run(10.0)
        after = virtual.told()
        real.cut(event)
        took = until(real.told, after)
        windows = [moved.seconds or 0.0 for moved in predicted.moved]
        if windows:
            longest = max(windows)
            assert lasted <= longest + SLACK
            assert took <= longest + 5 * SLACK  # questions that time out take some of it
        else:
            assert lasted >= PATIENCE or not predicted.lost
        virtual.world.heal()
        virtual.world.run(PATIENCE)
        real.internet.heal()
        assert virtual.told() == whole
        until(real.told, whole)
