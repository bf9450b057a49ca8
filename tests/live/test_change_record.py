"""The record of a change that is under way, damaged or of another change."""

from __future__ import annotations

import json
import random
from pathlib import Path

import pytest

from tests.cli.program import Folder
from tests.doubles import DESIGN, swap

GOOD = {
    "change": "0123",
    "order": ["a/change/x", "b/change/x"],
    "done": ["a/change/x"],
    "begun": "",
}
WRONG = [0, None, "", "text", [], {}, ["text"], [0], [[]], {"a": 1}, True, "b/change/x"]


@pytest.fixture(scope="module")
def folder(tmp_path_factory) -> Folder:
    made = Folder(tmp_path_factory.mktemp("record"))
    made.write("old.yaml", DESIGN)
    made.write("design.yaml", swap(("hold-time: 6 s", "hold-time: 9 s")))
    made.obrin("settle", "--design", "old.yaml").good()
    made.obrin("settle").good()
    return made


def record_of(folder: Folder) -> Path:
    return folder.path / ".obrin" / "reshape-design.json"


def broken(draw: random.Random) -> str:
    kind = draw.randrange(4)
    if kind == 0:
        data: object = draw.choice(WRONG)
    elif kind == 1:
        data = {key: value for key, value in GOOD.items() if key != draw.choice(list(GOOD))}
    else:
        data = GOOD | {draw.choice(list(GOOD)): draw.choice(WRONG) for _ in range(kind)}
    text = json.dumps(data)
    return text[: draw.randrange(len(text))] if draw.random() < 0.3 else text


@pytest.mark.parametrize("seed", range(25))
def test_a_damaged_record_is_reported_in_one_line(folder: Folder, seed: int) -> None:
    draw = random.Random(seed)
    record_of(folder).write_text(broken(draw))
    action = draw.choice(["--go", "--back", "--json"])
    run = folder.obrin("reshape", "--from", "old.yaml", action)
    assert "Traceback" not in run.err
    assert len(run.err.strip().splitlines()) == 1
    assert "cannot be read" in run.err or "another change is under way" in run.err
    assert run.code == (0 if action == "--json" and "note:" in run.err else 2)
