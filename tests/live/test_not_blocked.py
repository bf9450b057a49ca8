"""What somebody else on the machine can hold, name or lead astray, and cannot."""

from __future__ import annotations

import fcntl
import os
import signal
import subprocess
import time
from pathlib import Path

import pytest

from obrin.live import lock, warm
from obrin.live.lock import BusyError, project_lock
from tests.cli.program import PROGRAM, Folder, too_early
from tests.doubles import DESIGN


@pytest.fixture
def folder(tmp_path: Path) -> Folder:
    made = Folder(tmp_path / "project")
    made.path.mkdir()
    made.write("design.yaml", DESIGN)
    return made


def test_a_lock_on_the_folder_of_the_project_blocks_nobody(folder: Folder) -> None:
    """Any other user who can read the folder can take such a lock."""
    descriptor = os.open(folder.path, os.O_RDONLY)
    fcntl.flock(descriptor, fcntl.LOCK_EX)
    folder.obrin("settle", timeout=30).good()
    os.close(descriptor)
    assert (folder.path / ".obrin").stat().st_mode & 0o077 == 0
    assert (folder.path / ".obrin" / "lock").stat().st_mode & 0o077 == 0


def test_one_writes_at_a_time_and_the_lock_leaves_nothing_behind(
    tmp_path: Path, monkeypatch
) -> None:
    monkeypatch.setattr(lock, "PATIENCE", 0.2)
    own = tmp_path / ".obrin"
    with project_lock(tmp_path, own, "settle"):
        with pytest.raises(BusyError, match="obrin settle"), project_lock(tmp_path, own, "connect"):
            pass
        assert own.is_dir()
    assert not own.exists()
    own.mkdir(mode=0o700)
    (own / "keys-design.json").write_text("{}")
    with project_lock(tmp_path, own, "settle"):
        pass
    assert (own / "keys-design.json").exists()


def test_many_who_want_to_write_take_turns(tmp_path: Path) -> None:
    """The file that is locked may go and come meanwhile."""
    code = (
        "import sys, pathlib\n"
        "from obrin.live.lock import project_lock\n"
        "root = pathlib.Path(sys.argv[1])\n"
        "for _ in range(15):\n"
        "    with project_lock(root, root / '.obrin', 'x', print):\n"
        "        n = int((root / 'n').read_text()); (root / 'n').write_text(str(n + 1))\n"
    )
    (tmp_path / "n").write_text("0")
    python = Path(PROGRAM).with_name("python")
    running = [
        subprocess.Popen([python, "-c", code, tmp_path], stdout=subprocess.DEVNULL)
        for _ in range(4)
    ]
    assert [one.wait(60) for one in running] == [0, 0, 0, 0]
    assert (tmp_path / "n").read_text() == "60"


def test_a_cache_folder_that_is_not_absolute_is_ignored(tmp_path: Path, monkeypatch) -> None:
    """As the XDG Base Directory Specification says."""
    monkeypatch.chdir(tmp_path)
    monkeypatch.delenv(warm.FOLDER, raising=False)
    monkeypatch.setenv("HOME", str(tmp_path / "home"))
    for given in ("relative", "./here", ""):
        monkeypatch.setenv("XDG_CACHE_HOME", given)
        warm._folder.cache_clear()
        assert warm._folder() == tmp_path / "home" / ".cache" / "obrin"
    warm._folder.cache_clear()
    assert not (tmp_path / "relative").exists()


@pytest.mark.parametrize(
    "name",
    [
        "keys.json.j2",
        "config.json.j2",
        "sheet.md",
        "STEPS.md.j2",
        "keys.json.edited.j2",
        "values.csv",
        ".gitignore.j2",
        "sheet.html.j2",
        "services.md",
    ],
)
def test_a_template_does_not_overwrite_what_a_pack_has(folder: Folder, name: str) -> None:
    folder.obrin("settle").good()
    folder.obrin("handover").good()
    before = folder.files()
    folder.write(name, "{{ gateway }}\n")
    folder.obrin("handover", "--template", name).bad(2, "another name")
    (folder.path / name).unlink()
    assert folder.files() == before


def test_a_rehearsal_is_not_written_through_a_link(folder: Folder, tmp_path: Path) -> None:
    folder.obrin("settle").good()
    (tmp_path / "elsewhere").mkdir()
    (folder.path / "out").symlink_to(tmp_path / "elsewhere")
    folder.obrin("rehearse", "--to", "out").bad(2, "symbolic link")
    assert not list((tmp_path / "elsewhere").iterdir())


def test_nothing_in_a_design_acts_on_the_terminal_when_it_is_drawn(folder: Folder) -> None:
    text = DESIGN.replace("sites:\n", "sites:\n", 1)
    folder.write("design.yaml", text)
    folder.obrin("settle").good()
    folder.write(
        "design.yaml",
        text + '\nelsewhere:\n  x: {prefix: 10.99.0.0/16, note: "a\\e[2J\\a\\u202e\\u4e2d b"}\n',
    )
    for command in (
        ("draw", "space", "--to", "s.png"),
        ("draw", "network", "--to", "n.svg"),
        ("check",),
    ):
        run = folder.obrin(*command)
        assert not set(run.out + run.err) & set("\x1b\x07\u202e")


@pytest.mark.long
def test_an_interrupt_at_any_moment_is_one_word(folder: Folder) -> None:
    """From when the program's own first line runs; before that it is Python that starts."""
    folder.obrin("settle").good()
    for number in range(40):
        with subprocess.Popen(
            [PROGRAM, "check"],
            cwd=folder.path,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
        ) as running:
            time.sleep(0.02 + number * 0.01)
            running.send_signal(signal.SIGINT)
            _, err = running.communicate(timeout=30)
        if not too_early(err):
            assert "Traceback" not in err, err
            assert running.returncode in (0, 1, 130, -signal.SIGINT)
