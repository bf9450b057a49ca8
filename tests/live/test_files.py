"""Files and secrets are whole or not there, whoever writes beside and whatever a killed run left."""

from __future__ import annotations

import os
import subprocess
from concurrent.futures import ThreadPoolExecutor

import pytest

from obrin.core.errors import OutsideError
from obrin.live.files import ASIDE, IGNORE, SECRET, write_whole


def test_files_are_whole_or_not_there(tmp_path) -> None:
    path = tmp_path / "a.txt"
    write_whole(path, "one")
    write_whole(path, "two")
    assert path.read_text() == "two"
    assert path.stat().st_mode & 0o777 == 0o600
    with pytest.raises(OutsideError, match="cannot write"):
        write_whole(tmp_path / "no" / "b.txt", "x")
    assert os.listdir(tmp_path) == ["a.txt"]


@pytest.mark.parametrize("mode", [0o600, 0o644])
def test_many_write_into_one_folder(tmp_path, mode: int) -> None:
    """Each its own file, over and over: nobody takes away what another is about to use."""

    def write(number: int) -> None:
        for turn in range(150):
            write_whole(tmp_path / f"{number}.json", f"{turn}", mode)

    with ThreadPoolExecutor(8) as pool:
        list(pool.map(write, range(8)))
    assert {p.name: p.read_text() for p in tmp_path.iterdir()} == {
        f"{number}.json": "149" for number in range(8)
    }


@pytest.fixture(scope="module")
def ended() -> int:
    """The number of a process that is no more."""
    process = subprocess.Popen(["true"])
    process.wait()
    return process.pid


@pytest.mark.parametrize("ours", [False, True], ids=["a process that ended", "a number come again"])
def test_what_a_killed_run_left_is_cleared_away(tmp_path, ended: int, ours: bool) -> None:
    path, pid = tmp_path / "keys.json", os.getpid() if ours else ended
    left = tmp_path / f".{path.name}.{pid}{ASIDE}"
    left.mkdir()
    (left / IGNORE).write_text("*\n")
    (left / SECRET).write_text("half a sec")
    write_whole(path, "whole")
    assert os.listdir(tmp_path) == [path.name]
    left.write_text("half a line")
    write_whole(path, "whole", 0o644)
    assert os.listdir(tmp_path) == [path.name]


def test_what_others_put_there_is_left_alone(tmp_path, ended: int) -> None:
    path, elsewhere = tmp_path / "keys.json", tmp_path / "elsewhere"
    elsewhere.mkdir()
    (elsewhere / SECRET).write_text("mine")
    link = tmp_path / f".{path.name}.{ended}{ASIDE}"
    link.symlink_to(elsewhere)
    living = tmp_path / f".{path.name}.{os.getppid()}{ASIDE}"
    living.write_text("being written")
    other = tmp_path / f".{path.name}.{ended}.old"
    other.write_text("somebody's")
    write_whole(path, "whole")
    assert not link.is_symlink()
    assert (elsewhere / SECRET).read_text() == "mine"
    assert (living.read_text(), other.read_text()) == ("being written", "somebody's")
