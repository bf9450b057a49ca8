"""`connect`, `keys rotate` and `reshape --go` killed at boundaries of what they write, on a running
world."""

from __future__ import annotations

import random

import pytest

from tests.cli.program import Folder
from tests.cli.torture import KILLED, VARIABLE
from tests.doubles import DESIGN

pytestmark = pytest.mark.long


@pytest.fixture(scope="module")
def world(tmp_path_factory):
    folder = Folder(tmp_path_factory.mktemp("killed"))
    folder.write("design.yaml", DESIGN)
    folder.obrin("settle").good()
    folder.obrin("practice", "start", "--speed", "5000").good()
    yield folder
    folder.obrin("practice", "stop")


def count_of(world: Folder, *command: str) -> int:
    tally = world.path.parent / "tally"
    world.obrin(*command, **{VARIABLE: f"count:{tally}"}).good()
    return int(tally.read_text())


def some(count: int, most: int, seed: int) -> list[int]:
    numbers = list(range(1, count + 1))
    return sorted(random.Random(seed).sample(numbers, min(most, count)))


def killed_rotations(world: Folder, most: int) -> None:
    world.obrin("connect").good()
    count = count_of(world, "keys", "rotate")
    assert count > 20
    for number in some(count, most, 5):
        before = [world.obrin("keys", "show", f"quay-apps/{t}").good().out for t in "ab"]
        run = world.obrin("keys", "rotate", **{VARIABLE: f"kill:{number}"})
        assert run.code == KILLED, number
        again = world.obrin("keys", "rotate").good()
        assert "keys replaced" in again.out
        world.obrin("status").good()
        after = [world.obrin("keys", "show", f"quay-apps/{t}").good().out for t in "ab"]
        assert all(new != old for new, old in zip(after, before, strict=True)), number
        assert "turns" not in (world.path / ".obrin/keys-design.json").read_text()
        # What both ends have is what is at rest: another connect changes nothing.
        assert "0 steps done" in world.obrin("connect").good().out, number


def killed_connects(world: Folder, most: int) -> None:
    texts = [DESIGN, DESIGN.replace("flow: icmp, must: work", "flow: tcp/80, must: work")]
    world.obrin("connect").good()
    for turn, number in enumerate(some(60, most, 6)):
        world.write("design.yaml", texts[turn % 2])
        run = world.obrin("connect", **{VARIABLE: f"kill:{number}"})
        assert run.code in (0, KILLED), run.err
        world.obrin("connect").good()
        assert "0 steps done" in world.obrin("connect").good().out
        world.obrin("probe").good()
    world.write("design.yaml", DESIGN)
    world.obrin("connect").good()


BOUNDARIES = 165
"""Of carrying out the change below."""
CHANGED = DESIGN.replace("hold-time: 6 s", "hold-time: 9 s").replace(
    "networks: [desks]", "networks: [desks, guests]"
)


def killed_changes(world: Folder, most: int) -> None:
    """Taken up, or back: in the end it is as one of the designs says, and no change is under way."""
    world.obrin("connect").good()
    for turn, number in enumerate(some(BOUNDARIES, most, 7)):
        text, other = (CHANGED, DESIGN) if turn % 2 == 0 else (DESIGN, CHANGED)
        world.write("design.yaml", text)
        world.obrin("settle").good()
        run = world.obrin("reshape", "--go", timeout=200, **{VARIABLE: f"kill:{number}"})
        assert run.code in (0, KILLED), run.err
        if turn % 3 == 1 and run.code == KILLED:
            back = world.obrin("reshape", "--back", timeout=200)
            assert back.code == 0 or "nothing to go back from" in back.err, (number, back.err)
            stands = "Nothing changes" in world.obrin("reshape").out
            world.write("design.yaml", text if stands else other)
            world.obrin("settle").good()
            assert "is what was built" in world.obrin("reshape", "--drift").good().out, number
            world.write("design.yaml", text)
            world.obrin("settle").good()
        world.obrin("reshape", "--go", timeout=200).good()
        assert "Nothing changes" in world.obrin("reshape").good().out, number
        assert "is what was built" in world.obrin("reshape", "--drift").good().out, number
        assert not (world.path / ".obrin" / "reshape-design.json").exists()
        assert "0 steps done" in world.obrin("connect").good().out, number
        world.obrin("probe").good()
    world.write("design.yaml", DESIGN)
    world.obrin("connect").good()


def test_a_killed_change_ends_the_same(world) -> None:
    killed_changes(world, 3)


@pytest.mark.slow
def test_a_change_killed_at_every_boundary_ends_the_same(world) -> None:
    killed_changes(world, BOUNDARIES)


def test_a_killed_rotation_is_taken_up(world) -> None:
    killed_rotations(world, 2)


def test_a_killed_connect_ends_the_same(world) -> None:
    killed_connects(world, 2)


@pytest.mark.slow
def test_a_rotation_killed_at_every_boundary_is_taken_up(world) -> None:
    killed_rotations(world, 1000)


@pytest.mark.slow
def test_a_connect_killed_at_every_boundary_ends_the_same(world) -> None:
    killed_connects(world, 60)
