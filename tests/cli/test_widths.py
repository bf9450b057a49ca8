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


@pytest.mark.long
@pytest.mark.parametrize("words", COMMANDS, ids=" ".join)
def test_no_name_is_broken_at_any_width(folder, words) -> None:
    wide = folder.obrin(*words, COLUMNS="400")
    names = set(re.findall(r"[A-Za-z0-9]+(?:[-./@:][A-Za-z0-9]+)+", wide.out))
    for width in (80, 120, 200) if words == ("space",) else (40, 60, 80, 120, 200):
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
    assert any("Prefix" in line for line in run.out.splitlines()[:4])


def test_what_has_nothing_to_list_says_so_instead_of_an_empty_table(
    folder, tmp_path_factory
) -> None:
    bare = Folder(tmp_path_factory.mktemp("bare"))
    bare.write(
        "design.yaml",
        """obrin: 1
name: bare
sites:
  quay:
    networks: {desks: 10.20.0.0/24}
    gateways: {box: {uplinks: {line: {address: 192.0.2.1}}}}
clouds:
  apps: {subnets: {web: {hosts: 5}}}
""",
    )
    bare.obrin("settle").good()
    for words in [w for w in COMMANDS if w[0] not in ("trace", "routes", "keys", "agree")] + [
        ("check",),
        ("keys", "list"),
        ("agree",),
        ("routes", "--sessions"),
        ("space", "overlaps"),
    ]:
        run = bare.obrin(*words).good()
        assert "None" not in run.out
        lines = run.out.splitlines()
        ruled = [n for n, line in enumerate(lines) if line.strip() and not line.strip(" ─")]
        assert all(lines[n + 1].strip() for n in ruled), run.out
        assert run.out.strip(), words
    assert "Nothing is handed over" in bare.obrin("handover").good().out


def test_a_block_is_headed_by_what_its_row_is_about(folder) -> None:
    out = folder.obrin("drill", COLUMNS="60").bad(1).out
    heads = [line for line in out.splitlines() if re.match(r"[a-z]+:\S+$", line)]
    assert "uplink:nq-box/fibre" in heads
    assert not re.search(r"(?m)^nothing$", out)
    settled = folder.obrin("settle", COLUMNS="60").good().out
    assert re.search(r"(?m)^  Value  64512   kept$", settled)
