"""Tables at many widths: no name is broken, no line is wider than it was asked to be."""

from __future__ import annotations

import re
import shutil
from pathlib import Path

import pytest

import obrin
from tests.cli.program import Folder

DEMO = Path(obrin.__file__).parent / "demo"
COMMANDS = [
    ("routes", "crossing/head"),
    ("drill",),
    ("profiles",),
    ("algorithms",),
    ("handover",),
    ("classes",),
    ("reach",),
    ("overhead",),
    ("agree", "harbour-crossing"),
    ("keys", "list"),
    ("calendar",),
    ("settle",),
    ("space",),
    ("trace", "harbour-house/counters", "timetable/booking", "tcp/443"),
    ("certificates", "list"),
    ("keys", "rotate", "--dry-run"),
    ("routes", "--sessions"),
]


@pytest.fixture(scope="module")
def folder(tmp_path_factory) -> Folder:
    made = Folder(tmp_path_factory.mktemp("widths"))
    shutil.copy(DEMO / "crossing.yaml", made.path / "design.yaml")
    made.obrin("settle").good()
    return made


@pytest.mark.parametrize("words", COMMANDS, ids=" ".join)
def test_no_name_is_broken_at_any_width(folder, words) -> None:
    wide = folder.obrin(*words, COLUMNS="400")
    names = set(re.findall(r"[A-Za-z0-9]+(?:[-./@:][A-Za-z0-9]+)+", wide.out))
    for width in (80, 100, 120, 200) if words == ("space",) else (40, 60, 80, 100, 120, 200):
        run = folder.obrin(*words, COLUMNS=str(width))
        assert run.code == wide.code
        missing = {name for name in names if name not in run.out and len(name) < width - 24}
        assert not missing, (width, sorted(missing)[:5])
        for line in run.out.splitlines():
            # Longer only where one word, or a sentence that the reader's own screen wraps, is.
            assert len(line.rstrip()) <= width or not re.search(r" {3,}\S+ {3,}", line), (
                width,
                line,
            )


def test_without_a_wish_a_pipe_gets_a_table_as_wide_as_it_needs(folder) -> None:
    run = folder.obrin("routes", "crossing/head", COLUMNS="")
    assert "harbour-crossing/north" in run.out
    assert "Prefix" in run.out.splitlines()[2]
