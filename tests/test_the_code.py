"""Tests about the code itself: exports, rooms, what is never imported, what is never written."""

from __future__ import annotations

import ast
import functools
import re
import subprocess
import sys
from pathlib import Path

import pytest

import obrin

SOURCE = Path(obrin.__file__).parent
PURE = [p for room in ("core", "wire", "device") for p in (SOURCE / room).rglob("*.py")]
ALL = list(SOURCE.rglob("*.py"))
FORBIDDEN = {
    "click",
    "rich",
    "httpx",
    "httpcore",
    "asyncio",
    "socket",
    "time",
    "random",
    "secrets",
    "os",
    "subprocess",
    "sqlite3",
    "threading",
    "pathlib",
    "logging",
}


@functools.cache
def tree_of(path: Path) -> ast.Module:
    return ast.parse(path.read_text(encoding="utf-8"))


def imports(path: Path) -> set[str]:
    found = set()
    for node in ast.walk(tree_of(path)):
        if isinstance(node, ast.Import):
            found |= {alias.name.partition(".")[0] for alias in node.names}
        elif isinstance(node, ast.ImportFrom):
            found.add((node.module or "").partition(".")[0])
    return found


@pytest.mark.parametrize("path", PURE, ids=lambda p: p.name)
def test_core_wire_and_device_import_no_clock_no_randomness_no_io(path: Path) -> None:
    assert not imports(path) & FORBIDDEN


@pytest.mark.parametrize("path", PURE, ids=lambda p: p.name)
def test_core_wire_and_device_never_ask_what_time_it_is(path: Path) -> None:
    assert not re.search(r"\.(now|utcnow|today)\(", path.read_text(encoding="utf-8"))


def test_every_public_name_can_be_imported() -> None:
    for name in obrin.__all__:
        assert getattr(obrin, name) is not None
    with pytest.raises(AttributeError):
        _ = obrin.no_such_name


@pytest.mark.parametrize("path", ALL, ids=lambda p: str(p.relative_to(SOURCE)))
def test_files_stay_small_and_say_what_they_are(path: Path) -> None:
    text = path.read_text(encoding="utf-8")
    assert len(text.splitlines()) <= 420
    if text.strip():
        assert ast.get_docstring(ast.parse(text))
    assert not re.search(r"\b(TODO|FIXME|XXX|HACK)\b", text)


def test_help_imports_nothing_heavy() -> None:
    code = (
        "import sys; sys.argv=['obrin','--help']\n"
        "from obrin.cli.entry import run\n"
        "try: run()\nexcept SystemExit: pass\n"
        "heavy={'rich','pydantic','httpx','httpcore','asyncio','cryptography','yaml','numpy','starlette'}\n"
        "print(sorted(heavy & set(sys.modules)), file=sys.stderr)"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stderr.strip() == "[]"


def modules() -> dict[str, set[str]]:
    """Each module with those of ours that it imports when it is loaded."""
    names = {}
    for path in ALL:
        parts = path.relative_to(SOURCE.parent).with_suffix("").parts
        names[".".join(parts[:-1] if parts[-1] == "__init__" else parts)] = path
    found: dict[str, set[str]] = {}
    for name, path in names.items():
        found[name] = set()
        for node in tree_of(path).body:
            if isinstance(node, ast.ImportFrom) and node.module:
                each = {f"{node.module}.{alias.name}" for alias in node.names}
                found[name] |= {m for m in ({node.module} | each) & names.keys() if m != name}
    return found


def test_no_modules_import_each_other_in_a_circle() -> None:
    found = modules()
    assert len(found) > 250
    left = dict(found)
    while True:
        free = [name for name, needs in left.items() if not needs & left.keys()]
        if not free:
            break
        for name in free:
            del left[name]
    assert sorted(left) == []


RIDDLES = re.compile(
    r"\AOf [a-z]|(?<!there )(?<!There )\b(?:is|are|was|were) no "
    r"(?!longer|smaller|larger|more|less|wider|better|worse|earlier|later|other|need\b)\w"
    r"|it is told to nobody|where that may be|by what they are of|\b[Tt]old\b(?! apart|-by)"
)
"""A sentence without a subject; 'is no X' for 'is not an X'; phrases that readers stumbled over.
'told' is 'advertised', 'learned', 'reported' or 'configured'."""
PRIVATE_WORDS = re.compile(r"(^|_)(told|untold|gates?)(_|$)")
"""Parts of names for which the RFCs and the trade have a word: see `docs/design-file.md`."""


def test_docstrings_and_messages_are_plain() -> None:
    found = [
        f"{path.relative_to(SOURCE)}:{node.lineno}: {match[0]}"
        for path in ALL
        for node in ast.walk(tree_of(path))
        if isinstance(node, ast.Constant) and isinstance(node.value, str)
        for match in RIDDLES.finditer(node.value)
    ]
    assert not found


def test_names_are_words_of_the_trade() -> None:
    found = [
        f"{path.relative_to(SOURCE)}: {name}"
        for path in ALL
        for node in ast.walk(tree_of(path))
        if (name := getattr(node, "name", None) or getattr(node, "attr", None))
        and isinstance(name, str)
        and PRIVATE_WORDS.search(name)
    ]
    assert not found


def test_keys_of_the_settled_file_are_built_in_one_place() -> None:
    built = re.compile(r"f\"(?:clouds|sites|links|circuits|regions)\.\{")
    found = [str(path.relative_to(SOURCE)) for path in ALL if built.search(path.read_text("utf-8"))]
    assert not found
