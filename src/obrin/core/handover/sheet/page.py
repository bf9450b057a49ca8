"""The Markdown that packs are written in, as HTML: headings, paragraphs, tables, numbered steps.

Only what the sheets, steps and mirrors have is known; anything else is a paragraph. Within a line,
`code`, *emphasis* and **strong** words stand for themselves in HTML.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from html import escape

_HEADING = re.compile(r"(#{1,6}) (.+)")
_STEP = re.compile(r"\d{1,9}\. (.*)")
_CELLS = re.compile(r"(?<!\\)\|")
_CODE = re.compile(r"`([^`]+)`")
_STRONG = re.compile(r"\*\*(?=\S)(.+?)(?<=\S)\*\*")
_EMPHASIS = re.compile(r"\*(?=\S)([^*]+?)(?<=\S)\*")


_STYLE = (
    "body{font:14px/1.5 sans-serif;max-width:70em;margin:2em auto;padding:0 1em;color:#222}"
    "table{border-collapse:collapse;margin:1em 0}td,th{border:1px solid #bbb;padding:.25em .6em;"
    "text-align:left}th{background:#eef2f4}h2{break-before:auto;margin-top:1.6em}"
    "@media print{body{margin:0;font-size:11px}h2{break-after:avoid}tr{break-inside:avoid}}"
)


def as_page(title: str, text: str) -> str:
    """A whole page, to be printed or mailed. It loads nothing."""
    return (
        '<!DOCTYPE html>\n<html lang="en"><head><meta charset="utf-8">'
        f"<title>{escape(title)}</title>"
        f"<style>{_STYLE}</style></head><body>\n{as_html(text)}</body></html>\n"
    )


def as_html(text: str) -> str:
    """The body of a page."""
    return "\n".join(_blocks(text.split("\n"))) + "\n"


def _blocks(lines: list[str]) -> Iterator[str]:
    at = 0
    while at < len(lines):
        end = at + 1
        line = lines[at]
        heading, step = _HEADING.fullmatch(line), _STEP.fullmatch(line)
        if heading is not None:
            level = len(heading[1])
            yield f"<h{level}>{_inline(heading[2])}</h{level}>"
        elif line.startswith("|"):
            while end < len(lines) and lines[end].startswith("|"):
                end += 1
            yield _table(lines[at:end])
        elif step is not None:
            while end < len(lines) and _goes_on(lines, end):
                end += 1
            yield _steps(lines[at:end])
        elif line.strip():
            while end < len(lines) and lines[end].strip() and not lines[end].startswith(("|", "#")):
                end += 1
            yield f"<p>{_inline(' '.join(lines[at:end]))}</p>"
        at = end


def _goes_on(lines: list[str], at: int) -> bool:
    """Whether a line belongs to the list before it: a step, what stands below one, or a blank line
    between two."""
    line = lines[at]
    if line.strip():
        return line.startswith("   ") or _STEP.fullmatch(line) is not None
    return at + 1 < len(lines) and _STEP.fullmatch(lines[at + 1]) is not None


def _steps(lines: list[str]) -> str:
    items: list[list[str]] = []
    for line in lines:
        found = _STEP.fullmatch(line)
        if found is not None:
            items.append([found[1]])
        elif line.strip():
            items[-1].append(line.strip())
    made = ("<br>\n".join(map(_inline, item)) for item in items)
    return "<ol>\n" + "\n".join(f"<li>{item}</li>" for item in made) + "\n</ol>"


def _table(lines: list[str]) -> str:
    head, *rows = (_CELLS.split(line.strip())[1:-1] for line in lines)
    body = "".join(_row("td", row) for row in rows[1:])
    return f"<table>\n<thead>\n{_row('th', head)}</thead>\n<tbody>\n{body}</tbody>\n</table>"


def _row(tag: str, cells: list[str]) -> str:
    made = "".join(f"<{tag}>{_inline(cell.strip())}</{tag}>" for cell in cells)
    return f"<tr>{made}</tr>\n"


def _inline(text: str) -> str:
    text = escape(text.replace("\\|", "|"))
    if "*" not in text and "`" not in text:
        return text
    parts = _CODE.split(text)
    for place in range(0, len(parts), 2):
        part = _STRONG.sub(r"<strong>\1</strong>", parts[place])
        parts[place] = _EMPHASIS.sub(r"<em>\1</em>", part)
    for place in range(1, len(parts), 2):
        parts[place] = f"<code>{parts[place]}</code>"
    return "".join(parts)
