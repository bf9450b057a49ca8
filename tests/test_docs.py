"""What the docs take from the code is as the code has it: states, and the design file's keys."""

from __future__ import annotations

import enum
import json
import re
from pathlib import Path

import obrin
from obrin.core.design.reference import design_schema, reference_text
from obrin.wire.bgp.fsm import TRANSITIONS as BGP
from obrin.wire.ike.transitions import TRANSITIONS as IKE

PAGE = Path(__file__).parents[1] / "docs" / "states.md"


def diagram(table: dict[enum.Enum, dict[enum.Enum, enum.Enum]]) -> str:
    """A Mermaid state diagram; an edge for every entry, those between the same states together."""
    edges: dict[tuple[str, str], list[str]] = {}
    for state, steps in table.items():
        for step, following in steps.items():
            pair = (state.name.lower(), following.name.lower())
            edges.setdefault(pair, []).append(step.name.lower().replace("_", " "))
    lines = [f"    {a} --> {b}: {', '.join(steps)}" for (a, b), steps in edges.items()]
    return "\n".join(["```mermaid", "stateDiagram-v2", "    [*] --> idle", *lines, "```"])


def page() -> str:
    return (
        "# States\n\n"
        "Drawn from the tables in the code; a test compares them.\n\n"
        f"## An IKE SA\n\n`wire/ike/transitions.py`\n\n{diagram(IKE)}\n\n"
        f"## A BGP session\n\n`wire/bgp/fsm.py` (RFC 4271 section 8.2.2)\n\n{diagram(BGP)}\n"
    )


def test_the_diagrams_are_the_tables() -> None:
    assert PAGE.read_text(encoding="utf-8") == page()


def test_the_reference_and_the_schema_are_those_of_the_code() -> None:
    docs = PAGE.parent
    assert (docs / "design-file.md").read_text(encoding="utf-8") == reference_text()
    written = (docs / "design.schema.json").read_text(encoding="utf-8")
    assert json.loads(written) == design_schema()


def test_every_finding_of_the_code_is_in_the_docs() -> None:
    checks = Path(obrin.__file__).parent / "core" / "check"
    codes = set()
    for file in checks.glob("*.py"):
        codes |= set(
            re.findall(r'Finding\(\s*Severity\.[A-Z]+,\s*"([a-z0-9-]+)"', file.read_text("utf-8"))
        )
    table = (PAGE.parent / "findings.md").read_text(encoding="utf-8")
    told = set(
        re.findall(
            r"`([a-z0-9-]+)`",
            "\n".join(
                line.split(" | ")[0] for line in table.splitlines() if line.startswith("| `")
            ),
        )
    )
    assert codes <= told


def test_every_promise_names_a_test_that_is_there() -> None:
    """docs/security.md: file and name of each test."""
    root = PAGE.parents[1]
    named = re.findall(r"`(tests/[a-z_/]+\.py)::(\w+)`", (root / "docs/security.md").read_text())
    assert len(named) > 25
    for file, name in named:
        assert f"\ndef {name}(" in (root / file).read_text(encoding="utf-8"), (file, name)


def test_the_program_in_the_docs_runs(capsys, monkeypatch) -> None:
    root = PAGE.parent.parent
    code = re.search(r"```python\n(.*?)```", (root / "docs" / "api.md").read_text("utf-8"), re.S)
    monkeypatch.chdir(root / "src" / "obrin" / "demo")
    exec(compile(code[1], "docs/api.md", "exec"), {})
    out = capsys.readouterr().out
    assert "tunnel:harbour-timetable/north holds" in out
    assert "gateway:hh-east breaks a promise" in out
    assert "host 10.65.0.10 in booking" in out
    assert "# Site gateway hh-east: value sheet" in out


def test_every_public_name_is_there_and_the_page_tells_no_other() -> None:
    for name in obrin.__all__:
        assert getattr(obrin, name) is not None
    page = (PAGE.parent / "api.md").read_text(encoding="utf-8")
    asked = re.findall(r"`(\w+)[.`]", "".join(re.findall(r"^\|[^|]*\|(.*)\|$", page, re.M)))
    assert len(asked) > 15
    assert set(asked) <= set(obrin.__all__)


def test_contributing_names_every_room_and_only_files_that_exist() -> None:
    top = PAGE.parents[1]
    text = (top / "CONTRIBUTING.md").read_text(encoding="utf-8")
    named = re.findall(r"`([\w./-]+/[\w./-]*|[\w./-]+\.(?:py|md|toml|sh))`", text)
    assert len(named) > 50
    there = [p for d in ("src", "tests", "docs", "benchmarks") for p in (top / d).rglob("*")]
    paths = [f"/{p.relative_to(top)}{'/' if p.is_dir() else ''}" for p in there]
    gone = [
        n for n in named if not (top / n).exists() and not any(p.endswith(f"/{n}") for p in paths)
    ]
    assert not gone
    source = Path(obrin.__file__).parent
    rooms = {f"{p.parent.relative_to(source)}/" for p in source.glob("*/*/__init__.py")}
    assert not {room for room in rooms if f"`{room}" not in text and not room.startswith("cli/")}


def test_what_the_code_says_it_is_proven_by_exists() -> None:
    source, root = Path(obrin.__file__).parent, PAGE.parents[1]
    named = {
        (path.relative_to(source), file)
        for path in source.rglob("*.py")
        for file in re.findall(r"`((?:tests|docs)/[\w/.]+)`", path.read_text(encoding="utf-8"))
    }
    assert len(named) > 20
    assert not [pair for pair in named if not (root / pair[1]).is_file()]
