"""What was made of a design is kept, and never used where anything of it is another."""

from __future__ import annotations

import os
import pickle
from pathlib import Path

import pytest
from benchmarks.designs import many_sites

from obrin.live import warm
from obrin.live.project import Project
from tests.cli.program import Folder
from tests.doubles import DESIGN

LARGE = "x" * 100_000


@pytest.fixture
def folder(tmp_path: Path, monkeypatch) -> Path:
    monkeypatch.setenv(warm.FOLDER, str(tmp_path / "cache"))
    warm._folder.cache_clear()
    yield tmp_path / "cache"
    warm._folder.cache_clear()


def test_it_is_there_again_for_the_same_texts_alone(folder: Path) -> None:
    assert warm.get("k", LARGE, "a") is None
    warm.keep("k", {"made": 1}, LARGE, "a")
    assert warm.get("k", LARGE, "a") == {"made": 1}
    assert warm.get("k", LARGE, "b") is None
    assert warm.get("k", LARGE + "a", "") is None
    assert warm.get("other", LARGE, "a") is None
    assert folder.stat().st_mode & 0o777 == 0o700
    assert all(f.stat().st_mode & 0o777 == 0o600 for f in folder.iterdir())


class _Evil:
    def __reduce__(self) -> tuple:
        return os.mkdir, (str(Path(os.environ[warm.FOLDER]).parent / "run"),)


@pytest.mark.parametrize("which", ["file", "folder", "link"])
def test_what_others_could_have_written_is_not_read(folder: Path, which: str) -> None:
    warm.keep("k", 1, LARGE)
    (file,) = folder.iterdir()
    file.write_bytes(pickle.dumps(_Evil()))
    if which == "file":
        file.chmod(0o666)
    elif which == "folder":
        folder.chmod(0o777)
        warm._folder.cache_clear()
    else:
        folder.rename(folder.with_name("elsewhere"))
        folder.symlink_to(folder.with_name("elsewhere"))
        warm._folder.cache_clear()
    assert warm.get("k", LARGE) is None
    assert not (folder.parent / "run").exists()


def test_a_file_that_is_cut_off_is_made_anew(folder: Path) -> None:
    warm.keep("k", list(range(100)), LARGE)
    (file,) = folder.iterdir()
    file.write_bytes(file.read_bytes()[:40])
    assert warm.get("k", LARGE) is None
    assert list(folder.iterdir()) == []
    warm.keep("k", lambda: 1, LARGE)  # what cannot be kept
    assert list(folder.iterdir()) == []


def test_room_is_made_by_what_was_used_longest_ago(folder: Path) -> None:
    for number in range(warm.MOST_FILES + 5):
        warm.keep(f"k{number}", number, LARGE)
        for entry in folder.iterdir():
            if entry.name.startswith(f"k{number}-"):
                os.utime(entry, (number + 1, number + 1))
    left = {int(entry.name.partition("-")[0][1:]) for entry in folder.iterdir()}
    assert left == set(range(5, warm.MOST_FILES + 5))


def test_a_design_is_the_same_from_there_as_from_its_text(folder: Path, tmp_path: Path) -> None:
    path = tmp_path / "design.yaml"
    path.write_text(many_sites(250))
    project = Project(path)
    project.write_choices(project.settle(project.read().design))
    cold = project.settled()
    assert {f.name.partition("-")[0] for f in folder.iterdir()} == {"design", "settled"}
    again = project.settled()
    assert again[1] is not cold[1]
    assert (again[0].design, again[1]) == (cold[0].design, cold[1])
    assert again[0].locator.where(("sites", "site-0003")) == cold[0].locator.where(
        ("sites", "site-0003")
    )
    path.write_text(path.read_text().replace("offers: [modern, common]", "offers: [common]", 1))
    changed = project.settled()
    assert changed[0].design != cold[0].design


@pytest.mark.parametrize("text", [DESIGN, many_sites(250)], ids=["small", "large"])
def test_commands_print_the_same_warm_and_cold(folder: Path, tmp_path: Path, text: str) -> None:
    project = Folder(tmp_path)
    project.write("design.yaml", text)
    project.obrin("settle").good()
    for command in (("check", "--json"), ("settle", "--dry-run", "--json")):
        off = project.obrin(*command, OBRIN_CACHE="off")
        first = project.obrin(*command, OBRIN_CACHE=str(folder))
        again = project.obrin(*command, OBRIN_CACHE=str(folder))
        assert off.out == first.out == again.out
    assert len(list(folder.iterdir())) == 2
