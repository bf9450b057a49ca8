"""New entries written into the text of a design; what stands there stays as it is, comments too."""

from __future__ import annotations

import json
import re
from collections.abc import Sequence

from obrin.core.design.document import load_design
from obrin.core.design.positions import Locator
from obrin.core.errors import DesignError, Problem
from obrin.core.gather.against import Correction
from obrin.core.gather.ranges import KnownRange

_ENTRY = re.compile(r"(?P<indent>\s+)[^\s:{]+:\s+(\{[^{}]*\}|[^\s{}#]+)(?P<comment>\s+#.*)?\s*")
_SECTION = re.compile(r"^elsewhere:[ \t]*(?P<rest>[^\n#]*)(?P<comment>#[^\n]*)?\n?", re.MULTILINE)


def with_ranges(
    text: str, source: str, ranges: Sequence[KnownRange], corrected: Sequence[Correction] = ()
) -> str:
    """The design's text with more entries under `elsewhere`, and others corrected in their lines.
    Raises DesignError.

    The result is read again, and must hold what was there and what was added, and no more.
    """
    before = load_design(text, source)
    wanted = {n: e.prefix for n, e in before.design.elsewhere.items()}
    for change in corrected:
        text = _with_line(text, before.locator, change)
        del wanted[change.was]
        wanted[change.now.name] = change.now.prefix
    if ranges:
        text = _with_entries(text, source, ranges)
        wanted |= {known.name: known.prefix for known in ranges}
    after = load_design(text, source).design
    if {n: e.prefix for n, e in after.elsewhere.items()} != wanted:
        fix = "Write the entries by hand: 'obrin gather --dry-run' prints them"
        raise DesignError([Problem(source, "the entries cannot be placed safely", fix)])
    return text


def _with_line(text: str, locator: Locator, change: Correction) -> str:
    """An entry that stands on one line, written anew; the comment behind it stays.

    Raises DesignError for one that takes several.
    """
    where = locator.where(("elsewhere", change.was))
    number = int(where.split(":")[-2]) - 1
    lines = text.splitlines(keepends=True)
    found = _ENTRY.fullmatch(lines[number].rstrip("\r\n"))
    if found is None:
        fix = f"Write it by hand: {_line(change.now)}"
        raise DesignError([Problem(where, "the table says it better, but not on one line", fix)])
    end = lines[number][len(lines[number].rstrip("\r\n")) :]
    lines[number] = f"{found['indent']}{_line(change.now)}{found['comment'] or ''}{end}"
    return "".join(lines)


def _with_entries(text: str, source: str, ranges: Sequence[KnownRange]) -> str:
    lines = [_line(known) for known in ranges]
    if text and not text.endswith("\n"):
        text += "\n"
    section = _SECTION.search(text)
    if section is None:
        made = text + "\nelsewhere:\n" + "".join(f"  {line}\n" for line in lines)
    elif section["rest"].strip() in ("", "{}", "null", "~"):
        head = "elsewhere:" + (f"  {section['comment']}" if section["comment"] else "") + "\n"
        end, indent = _end_of_block(text, section.end())
        body = text[section.end() : end]
        added = "".join(f"{indent}{line}\n" for line in lines)
        made = text[: section.start()] + head + body + added + text[end:]
    else:
        place = f"{source}:{text.count(chr(10), 0, section.start()) + 1}:1"
        fix = "Write 'elsewhere:' as a block, one entry a line, and gather again"
        raise DesignError([Problem(place, "'elsewhere' is written in braces", fix)])
    return made


def _end_of_block(text: str, start: int) -> tuple[int, str]:
    """Say where the entries that begin at `start` end, and how far they are indented."""
    end, indent = start, "  "
    at = start
    for line in text[start:].splitlines(keepends=True):
        if line.strip() and not line[0].isspace():
            break
        at += len(line)
        if line.strip():
            if not line.strip().startswith("#"):
                depth = line[: len(line) - len(line.lstrip())]
                indent = depth if end == start else min(indent, depth, key=len)
            end = at
    return end, indent


def _line(known: KnownRange) -> str:
    about = {"owner": known.owner, "place": known.place, "note": known.note}
    said = {key: value for key, value in about.items() if value}
    if not said:
        return f"{known.name}: {known.prefix}"
    words = "".join(f", {key}: {json.dumps(value)}" for key, value in said.items())
    return f"{known.name}: {{prefix: {json.dumps(str(known.prefix))}{words}}}"


def entry_lines(ranges: Sequence[KnownRange]) -> list[str]:
    """The entries as they would stand in the design."""
    return [_line(known) for known in ranges]
